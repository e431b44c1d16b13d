// The decoder by itself: takes bytes apart and says what each instruction will touch.
//
//   examples/instructions 55 48 89 e5 8b 45 fc c3
//
// Nothing but the headers of src/core/isa is needed; nothing here allocates but the printing.
#include <cstdio>
#include <cstdlib>
#include <vector>

#include "isa/effects.h"
#include "isa/instruction.h"
#include "isa/text.h"

int main(int argc, char** argv) {
  using namespace deeptrace::isa;
  std::vector<std::uint8_t> code;
  for (int i = 1; i < argc; ++i) code.push_back(static_cast<std::uint8_t>(std::strtoul(argv[i], nullptr, 16)));
  for (std::size_t at = 0; at < code.size();) {
    const Instruction instruction = decode(std::span(code).subspan(at), Mode::bits64);
    if (!instruction) {
      std::printf("%4zu  no instruction\n", at++);
      continue;
    }
    const Text text = text_of(instruction, at, Syntax::intel);
    std::printf("%4zu  %-40.*s", at, static_cast<int>(text.view().size()), text.view().data());
    const Effects effects = effects_of(instruction);
    for (unsigned i = 0; i < effects.register_count; ++i) {
      const RegisterEffect& effect = effects.registers[i];
      const std::string_view name = name_of(effect.part);
      std::printf(" %s%s:%.*s", reads(effect.access) ? "r" : "", writes(effect.access) ? "w" : "",
                  static_cast<int>(name.size()), name.data());
    }
    std::printf("%s%s\n", effects.reads_memory ? " reads memory" : "", effects.writes_memory ? " writes memory" : "");
    at += instruction.length;
  }
}
