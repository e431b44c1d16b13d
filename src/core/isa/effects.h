// What an instruction reads and writes, from the table alone: true for every state.
//
// Registers are bit ranges with the certainty of the access and what becomes of the bits above; memory is a list
// of recipes (which addresses these are for a given state is worked out by state/touched.h).
#pragma once

#include <array>
#include <cstdint>

#include "isa/instruction.h"
#include "isa/operand.h"

namespace deeptrace::isa {

/// What a register write does to the register's bits outside the written range.
enum class Rest : std::uint8_t {
  kept,    ///< 8- and 16-bit general writes, legacy vector writes
  zeroed,  ///< 32-bit general writes clear the upper half (Intel SDM volume 1, 3.4.1.1); VEX writes the upper vector
};

struct RegisterEffect {
  RegisterPart part;
  Access access = Access::none;
  Rest rest = Rest::kept;
};

struct Effects {
  std::array<RegisterEffect, 16> registers;  ///< explicit, implied and address registers, in operand order
  std::uint8_t register_count = 0;
  FlagUse flags;
  ControlFlow flow = ControlFlow::next;
  bool writes_memory = false;
  bool reads_memory = false;
  bool touches_vector = false;  ///< a vector register or mxcsr is written
  bool faults = false;          ///< may fault by its values
  bool nondeterministic = false;
};

Effects effects_of(const Instruction& instruction);

}  // namespace deeptrace::isa
