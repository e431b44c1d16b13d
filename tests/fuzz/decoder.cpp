// Any bytes at all into the decoder and everything that stands on it, in both modes, under sanitizers.
//
// Built with clang: see tests/fuzz/run.sh. The bytes are copied to a block of their exact size, so that a read past
// them is seen.
#include <array>
#include <cstdlib>
#include <cstring>
#include <memory>

#include "isa/assembler.h"
#include "isa/forms.h"
#include "isa/texts.h"

namespace {

using namespace deeptrace::isa;

void require(bool holds) {
  if (!holds) std::abort();
}

bool same(const Instruction& a, const Instruction& b) { return std::memcmp(&a, &b, sizeof a) == 0; }

/// The complete way says the same, and so does the one that need not fear the end of the bytes.
void look_other_ways(std::span<const std::uint8_t> bytes, Mode mode, const Instruction& instruction) {
  require(same(decode_the_long_way(bytes, mode), instruction));
  std::array<std::uint8_t, 64> padded{};
  std::memcpy(padded.data(), bytes.data(), bytes.size());
  const Instruction ahead = decode(padded, mode);
  require(same(ahead, instruction) || ahead.length > bytes.size());
  Instruction first;
  require(decode_run(padded, 1, mode, {&first, 1}) == (ahead ? 1U : 0U) && (!ahead || same(first, ahead)));
}

void look(std::span<const std::uint8_t> bytes, Mode mode) {
  const Instruction instruction = decode(bytes, mode);
  require(instruction.length <= bytes.size() && instruction.length <= kLongestInstruction);
  if (!bytes.empty()) look_other_ways(bytes, mode, instruction);
  if (!instruction) return;
  require(instruction.row < rows().size());
  // The fields lie inside, one after the other.
  require(instruction.opcode_at < instruction.length);
  require(instruction.displacement_at + instruction.displacement_size <= instruction.length);
  require(instruction.immediate_at + instruction.immediate_size[0] + instruction.immediate_size[1] <=
          instruction.length);
  const Operands operands = operands_of(instruction);
  require(operands.count <= operands.items.size());
  const Effects effects = effects_of(instruction, operands);
  require(effects.register_count <= effects.registers.size());
  for (unsigned i = 0; i < effects.register_count; ++i) require(!name_of(effects.registers[i].part).empty());
  static const auto forms = std::make_unique<Forms>();
  Usage usage;
  forms->look({&instruction, 1}, {&usage, 1});
  const auto& [kept, seen] = usage;
  require(kept.count == operands.count && seen.register_count == effects.register_count);
  require(std::memcmp(kept.items.data(), operands.items.data(), operands.count * sizeof(Operand)) == 0);
  require(std::memcmp(seen.registers.data(), effects.registers.data(),
                      effects.register_count * sizeof(RegisterEffect)) == 0);
  // One syntax an input: the last byte, which mostly means nothing, picks it.
  const Syntax syntax = (bytes.back() & 1) != 0 ? Syntax::att : Syntax::intel;
  const AssemblerText text = assembler_text(instruction, bytes.first(instruction.length), 0x1000, syntax, {});
  require(!text.text.view().empty());
  if ((bytes.back() & 6) != 0) return;
  // Patterns of earlier inputs must not show in this one's text.
  static Texts intel(Syntax::intel), att(Syntax::att);
  const Text plain = text_of(instruction, 0x1000, syntax);
  require(!plain.view().empty());
  require((syntax == Syntax::att ? att : intel).text_of(instruction, 0x1000) == plain.view());
}

/// A run of instructions is what one after the other gives.
void look_at_run(std::span<const std::uint8_t> bytes, Mode mode) {
  std::array<Instruction, 16> run;
  const std::size_t count = decode_run(bytes, bytes.size(), mode, run);
  for (std::size_t i = 0; i < count; ++i) {
    const Instruction one = decode(bytes, mode);
    require(same(one, run[i]));
    bytes = bytes.subspan(one.length);
  }
  require(count == run.size() || bytes.empty() || !decode(bytes, mode));
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::unique_ptr<std::uint8_t[]> exact(new std::uint8_t[size]);
  if (size != 0) std::memcpy(exact.get(), data, size);
  look({exact.get(), size}, Mode::bits64);
  look({exact.get(), size}, Mode::bits32);
  look_at_run({exact.get(), size}, Mode::bits64);
  look_at_run({exact.get(), size}, Mode::bits32);
  return 0;
}
