#include "isa/move.h"

#include <algorithm>

#include "isa/operand.h"

namespace deeptrace::isa {
namespace {

/// Adds `by` to a little-endian field; false when the signed result does not fit.
bool add_to_field(std::span<std::uint8_t> field, std::int64_t by) {
  std::uint64_t raw = 0;
  for (std::size_t i = 0; i < field.size(); ++i) raw |= std::uint64_t(field[i]) << (8 * i);
  const unsigned unused = 64 - static_cast<unsigned>(field.size()) * 8;
  const std::int64_t old = static_cast<std::int64_t>(raw << unused) >> unused;
  std::int64_t value = 0;
  if (__builtin_add_overflow(old, by, &value)) return false;
  const std::int64_t back = static_cast<std::int64_t>(static_cast<std::uint64_t>(value) << unused) >> unused;
  if (back != value) return false;
  for (std::size_t i = 0; i < field.size(); ++i)
    field[i] = static_cast<std::uint8_t>(static_cast<std::uint64_t>(value) >> (8 * i));
  return true;
}

}  // namespace

MovedInstruction move_instruction(const Instruction& instruction, std::span<const std::uint8_t> bytes,
                                  std::uint64_t from, std::uint64_t to) {
  MovedInstruction result;
  std::copy_n(bytes.begin(), instruction.length, result.bytes.begin());
  if (from == to) return result;
  if (flow_of(instruction) == ControlFlow::call) {
    result.outcome = MoveOutcome::pushes_place;
    return result;
  }
  auto by = static_cast<std::int64_t>(from - to);
  // Addresses of 32-bit code wrap around.
  if (instruction.mode() == Mode::bits32) by = static_cast<std::int32_t>(by);
  std::uint64_t target = 0;
  const std::span<std::uint8_t> all(result.bytes);
  bool fits = true;
  if (direct_target(instruction, from, target)) {
    fits = add_to_field(all.subspan(instruction.immediate_at, instruction.immediate_size[0]), by);
  } else if (instruction.mode() == Mode::bits64 && instruction.modrm_at != 0 && (instruction.modrm & 0xc7) == 5) {
    fits = add_to_field(all.subspan(instruction.displacement_at, instruction.displacement_size), by);
  }
  if (!fits) result.outcome = MoveOutcome::out_of_reach;
  return result;
}

}  // namespace deeptrace::isa
