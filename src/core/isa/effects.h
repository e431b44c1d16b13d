// What an instruction reads and writes, from the table alone: true for every state.
//
// Registers are bit ranges with the certainty of the access and what becomes of the bits above; memory is a list
// of recipes (which addresses these are for a given state is worked out by state/touched.h).
#pragma once

#include <array>
#include <cstdint>
#include <span>

#include "isa/instruction.h"
#include "isa/operand.h"

namespace deeptrace::isa {

/// What a register write does to the register's bits outside the written range.
enum class Rest : std::uint8_t {
  kept,    ///< 8- and 16-bit general writes, legacy vector writes
  zeroed,  ///< 32-bit general writes clear the upper half (Intel SDM volume 1, 3.4.1.1); VEX, EVEX and XOP clear the
           ///< vector register up to its highest bit
};

struct RegisterEffect {
  RegisterPart part;
  Access access = Access::none;
  Rest rest = Rest::kept;
};

struct Effects {
  /// So many registers are always there; those from `register_count` up are absent then.
  static constexpr std::size_t kUsual = 4;

  FlagUse flags;
  ControlFlow flow = ControlFlow::next;
  std::int8_t x87_pushes = 0;  ///< how much the floating-point stack grows; negative when it shrinks
  bool writes_memory : 1 = false;
  bool reads_memory : 1 = false;
  bool unknown_memory : 1 = false;  ///< touches memory whose extent the registers do not tell
  bool touches_vector : 1 = false;  ///< a vector or mask register or mxcsr is written
  bool touches_x87 : 1 = false;     ///< a floating-point or mmx register or the unit's status is written
  bool faults : 1 = false;          ///< may fault by its values
  bool nondeterministic : 1 = false;
  bool spare : 1 = false;  ///< nothing: leaves no gap
  std::uint8_t register_count = 0;
  union {
    std::array<RegisterEffect, 24>
        registers;  ///< explicit, implied and address registers, in operand order; those from
                    ///< the larger of `register_count` and kUsual up are not initialised
  };

  Effects() {}  // NOLINT: the registers are made as they are counted

  [[nodiscard]] std::span<const RegisterEffect, kUsual> usual() const { return std::span(registers).first<kUsual>(); }
};

Effects effects_of(const Instruction& instruction);
/// The same with the operands worked out before.
Effects effects_of(const Instruction& instruction, const Operands& operands);

}  // namespace deeptrace::isa
