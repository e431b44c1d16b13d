// Which memory an instruction will touch, worked out before it runs from its recipes and a register set.
#pragma once

#include <array>
#include <cstdint>

#include "isa/operand.h"
#include "state/registers.h"

namespace deeptrace::state {

struct TouchedRange {
  std::uint64_t address = 0;
  std::uint64_t size = 0;  ///< bytes
  isa::Access access = isa::Access::none;
};

struct Touched {
  std::array<TouchedRange, 4> ranges;
  std::size_t count = 0;
  bool complete = true;  ///< false when more state than the general registers decides what is touched: it is not listed

  [[nodiscard]] const TouchedRange* begin() const { return ranges.data(); }
  [[nodiscard]] const TouchedRange* end() const { return ranges.data() + count; }
};

/// The address a recipe gives; `next` is the address of the next instruction, `width` the operand's bits (for bit
/// numbers in registers).
std::uint64_t address_of(const isa::MemoryRecipe& recipe, const RegisterSet& registers, std::uint64_t next,
                         unsigned width);

/// All memory that the instruction at `registers[rip]` will read or write. For a repeated string instruction the
/// ranges cover all repetitions; a compare or scan may end sooner, and an access marked "perhaps" may not happen.
Touched touched_by(const isa::Instruction& instruction, const RegisterSet& registers);

}  // namespace deeptrace::state
