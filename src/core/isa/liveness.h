// Which registers and flags still matter: going backwards over a basic block, from what is needed after it.
//
//   Live live = Live::everything();          // nothing is known of what follows
//   for (instruction : block, last one first) {
//     // here `live` holds for the place after the instruction
//     live.step_back(instruction);
//     // and here for the place before it
//   }
//
// A register that is not live can be changed by a tool without the program's noticing: a planted routine may use it.
#pragma once

#include <array>
#include <cstdint>

#include "isa/effects.h"

namespace deeptrace::isa {

struct Live {
  std::array<std::uint64_t, 16> general{};  ///< by register number, a bit for each bit
  std::array<std::uint64_t, 32> vector{};   ///< by register number, a bit for each byte
  std::array<std::uint64_t, 8> mask{};      ///< by register number, a bit for each bit
  std::uint32_t flags = 0;                  ///< rflags bits (isa/flags.h), among those that instructions compute

  static Live everything();
  static Live nothing() { return {}; }

  /// From after the instruction to before it. What may leave the block, system calls and what has unknown effects need
  /// everything; writes that may not happen end nothing.
  void step_back(const Instruction& instruction);

  friend bool operator==(const Live&, const Live&) = default;
};

}  // namespace deeptrace::isa
