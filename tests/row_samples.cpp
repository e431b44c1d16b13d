// Prints samples of every row as source for the assembler: row, mode (64, 32), bytes in hexadecimal, text.
// corrupt_rows.py has it for damaged tables.
#include <algorithm>
#include <cstdio>
#include <string>

#include "isa/assembler.h"
#include "isa/operand.h"
#include "samples.h"

int main() {
  using namespace deeptrace;
  for (const isa::Mode mode : {isa::Mode::bits64, isa::Mode::bits32}) {
    const auto has_text = [](const isa::Instruction& instruction, const tests::Code& code) {
      return isa::assembler_text(instruction, code, 0, isa::Syntax::intel, {}).form == isa::Form::plain;
    };
    for (const auto& [row, codes] : tests::samples_of_all_rows(24, mode, has_text)) {
      for (const tests::Code& code : codes) {
        const isa::Instruction instruction = isa::decode(code, mode);
        std::uint64_t target = 0;
        const bool relative = isa::direct_target(instruction, 0, target);
        const auto distance =
            mode == isa::Mode::bits64 ? static_cast<std::int64_t>(target) : static_cast<std::int32_t>(target);
        const std::string name = relative ? ".+" + std::to_string(distance) : "";
        const isa::AssemblerText text = isa::assembler_text(instruction, code, 0, isa::Syntax::intel, {name, {}, {}});
        if (text.form == isa::Form::bytes || text.form == isa::Form::apart || text.form == isa::Form::padding) continue;
        std::printf("%u %s ", row, mode == isa::Mode::bits64 ? "64" : "32");
        for (const std::uint8_t byte : code) std::printf("%02x", byte);
        std::string line(text.text.view());
        std::replace(line.begin(), line.end(), '\n', ';');
        std::printf(" %s\n", line.c_str());
      }
    }
  }
}
