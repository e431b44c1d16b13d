// Moving an instruction to another address with what it refers to kept.
#pragma once

#include <array>
#include <cstdint>
#include <span>

#include "isa/instruction.h"

namespace deeptrace::isa {

enum class MoveOutcome : std::uint8_t {
  moved,
  out_of_reach,  ///< its target or address is too far from the new place for the field that holds the distance
  pushes_place,  ///< a call: it would push another return address
};

struct MovedInstruction {
  MoveOutcome outcome = MoveOutcome::moved;
  std::array<std::uint8_t, kLongestInstruction> bytes{};  ///< as many as before
};

/// The bytes that do at `to` what the instruction's bytes do at `from`: branch distances and RIP-relative displacements
/// are changed, everything else is kept. The length stays.
MovedInstruction move_instruction(const Instruction& instruction, std::span<const std::uint8_t> bytes,
                                  std::uint64_t from, std::uint64_t to);

}  // namespace deeptrace::isa
