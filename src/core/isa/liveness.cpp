#include "isa/liveness.h"

#include "isa/flags.h"

namespace deeptrace::isa {
namespace {

constexpr std::uint32_t kComputed = kCarry | kParity | kAdjust | kZero | kSign | kDirection | kOverflow | kInterrupt;

std::uint64_t bits(unsigned from, unsigned count) {
  const std::uint64_t ones = count >= 64 ? ~std::uint64_t(0) : (std::uint64_t(1) << count) - 1;
  return from >= 64 ? 0 : ones << from;
}

/// The place of a part in Live: the word of its register, and its bits there (bytes for vectors).
struct Place {
  std::uint64_t* word = nullptr;
  std::uint64_t mask = 0;
};

Place place_of(Live& live, RegisterPart part) {
  switch (part.file) {
    case RegisterFile::general: return {&live.general[part.index], bits(part.offset, part.width)};
    case RegisterFile::mask: return {&live.mask[part.index], bits(part.offset, part.width)};
    case RegisterFile::vector: return {&live.vector[part.index], bits(part.offset / 8U, (part.width + 7U) / 8U)};
    default: return {};
  }
}

/// All of a register from the lowest written bit up, for writes that clear what lies above.
std::uint64_t upwards(std::uint64_t mask) { return mask == 0 ? 0 : ~std::uint64_t(0) << __builtin_ctzll(mask); }

/// The flags that surely get new values; processors may leave undefined ones as they were. A shift or rotation by 0
/// changes none, and only one by 1 defines OF.
std::uint32_t surely_set(const Instruction& instruction, const FlagUse& use) {
  const auto all = std::uint32_t(use.written | use.cleared | use.set);
  if (!use.kept_by_zero) return all;
  const Operands operands = operands_of(instruction);
  const Operand& operand = operands[operands.shown - 1U];
  if (operand.kind != Operand::Kind::immediate) return 0;
  const std::int64_t count = operand.value & (operands[0].width == 64 ? 63 : 31);
  return count == 0 ? 0 : count == 1 ? all : all & ~std::uint32_t(kOverflow);
}

bool needs_everything(const Instruction& instruction, const Effects& effects) {
  constexpr std::uint32_t kBeyond = kVectorState | kX87State | kZeroUpper | kZeroAll | kUnknownExtent;
  const bool leaves = effects.flow != ControlFlow::next && effects.flow != ControlFlow::conditional;
  return leaves || effects.unknown_memory || (row_of(instruction).traits & kBeyond) != 0;
}

}  // namespace

Live Live::everything() {
  Live live;
  live.general.fill(~std::uint64_t(0));
  live.vector.fill(~std::uint64_t(0));
  live.mask.fill(~std::uint64_t(0));
  live.flags = kComputed;
  return live;
}

void Live::step_back(const Instruction& instruction) {
  const Effects effects = effects_of(instruction);
  if (needs_everything(instruction, effects)) {
    *this = everything();
    return;
  }
  // A repeated instruction may run no time at all.
  const bool surely = !is_repeated(instruction);
  for (unsigned i = 0; surely && i < effects.register_count; ++i) {
    const RegisterEffect& effect = effects.registers[i];
    if (!writes(effect.access) || only_perhaps(effect.access)) continue;
    const Place place = place_of(*this, effect.part);
    if (place.word != nullptr) *place.word &= ~(effect.rest == Rest::zeroed ? upwards(place.mask) : place.mask);
  }
  if (surely) flags &= ~surely_set(instruction, effects.flags);
  for (unsigned i = 0; i < effects.register_count; ++i) {
    const RegisterEffect& effect = effects.registers[i];
    const Place place = place_of(*this, effect.part);
    if (reads(effect.access) && place.word != nullptr) *place.word |= place.mask;
  }
  flags |= effects.flags.read;
}

}  // namespace deeptrace::isa
