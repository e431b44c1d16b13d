#include "state/touched.h"

namespace deeptrace::state {
namespace {

constexpr std::uint64_t kDirectionFlag = 0x400;

std::uint64_t cut(std::uint64_t value, unsigned bytes) {
  return bytes >= 8 ? value : value & ((std::uint64_t(1) << (8 * bytes)) - 1);
}

/// Only fs and gs have a base in 64-bit mode (Intel SDM volume 1, 3.4.2.1); 32-bit programs run with flat segments.
std::uint64_t segment_base(isa::RegisterPart segment, const RegisterSet& registers) {
  if (segment.index == isa::kFs) return registers[Reg::fs_base];
  if (segment.index == isa::kGs) return registers[Reg::gs_base];
  return 0;
}

std::int64_t signed_value(std::uint64_t value, unsigned bits) {
  const unsigned shift = 64 - bits;
  return static_cast<std::int64_t>(value << shift) >> shift;
}

/// The whole range of a repeated string access.
TouchedRange repeated(TouchedRange one, const RegisterSet& registers, unsigned address_size) {
  const std::uint64_t count = cut(registers[Reg::rcx], address_size);
  const std::uint64_t size = one.size;
  one.size = size * count;
  if ((registers[Reg::rflags] & kDirectionFlag) != 0 && count != 0) one.address -= size * (count - 1);
  return one;
}

}  // namespace

std::uint64_t address_of(const isa::MemoryRecipe& recipe, const RegisterSet& registers, std::uint64_t next,
                         unsigned width) {
  std::uint64_t address = static_cast<std::uint64_t>(recipe.displacement) +
                          static_cast<std::uint64_t>(std::int64_t(recipe.hidden_displacement));
  if (recipe.is_ip_relative()) {
    address += next;
  } else if (recipe.base) {
    address += value_of(registers, recipe.base);
  }
  if (recipe.index) address += value_of(registers, recipe.index) * recipe.scale;
  if (recipe.bit_number && width != 0) {
    const std::int64_t bit = signed_value(value_of(registers, recipe.bit_number), recipe.bit_number.width);
    const auto bits = static_cast<std::int64_t>(width);
    const std::int64_t units = bit >= 0 ? bit / bits : -((-(bit + 1)) / bits) - 1;
    address += static_cast<std::uint64_t>(units * (bits / 8));
  }
  address = cut(address, recipe.address_size);
  const std::uint64_t base = segment_base(recipe.segment, registers);
  if (base == 0) return address;
  // Addresses of 32-bit code begin anew after 4 GB (Intel SDM volume 1, 3.3.7): gs:0xfffffff0 lies before the base.
  return mode_of(registers) == isa::Mode::bits32 ? cut(address + base, 4) : address + base;
}

Touched touched_by(const isa::Instruction& instruction, const RegisterSet& registers) {
  Touched result;
  const std::uint64_t next = registers[Reg::rip] + instruction.length;
  result.complete = (isa::row_of(instruction).traits & isa::kUnknownExtent) == 0;
  for (const isa::Operand& operand : isa::operands_of(instruction)) {
    if (operand.kind != isa::Operand::Kind::memory) continue;
    if (operand.unknown_size || operand.recipe.has_vector_index()) result.complete = false;
    if (operand.width == 0 || operand.recipe.has_vector_index()) continue;
    if (operand.access == isa::Access::none || result.count == result.ranges.size()) continue;
    TouchedRange range{address_of(operand.memory(), registers, next, operand.width), operand.width / 8U,
                       operand.access};
    if (operand.repeated) range = repeated(range, registers, instruction.address_size);
    if (range.size != 0) result.ranges[result.count++] = range;
  }
  return result;
}

}  // namespace deeptrace::state
