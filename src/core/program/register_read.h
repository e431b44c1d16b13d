// Who reads a register next: what a caller does with a result, or with a register that it believes kept. Addresses are
// those of the file.
#pragma once

#include <cstdint>
#include <optional>

#include "isa/instruction.h"
#include "program/program.h"

namespace deeptrace::program {

struct RegisterRead {
  std::uint64_t address = 0;  ///< of the instruction
  isa::Instruction instruction;
  unsigned bits = 0;   ///< that it reads of the register, from the lowest one
  bool moved = false;  ///< it only puts the register elsewhere: how much of it matters is not said there
};

/// The first instruction from `address` on that reads the general register before anything writes it, on whichever way
/// control may go within the function; `through_calls`: calls leave the register alone. Where it is saved on the stack
/// (pushed) it is not read. Nothing where it is written first, returned, or where that cannot be told.
std::optional<RegisterRead> next_read(const Program& program, std::uint64_t address, isa::General number,
                                      bool through_calls);

/// The general registers that an instruction reads, bits by number. A save on the stack counts for none.
std::uint32_t registers_read(const isa::Instruction& instruction);

/// The first instruction of the function around `address` that writes the register and does not restore it; nothing
/// where none does.
std::optional<std::uint64_t> first_write(const Program& program, std::uint64_t address, isa::General number);

/// The first instruction of the function around `address` that writes registers of the floating-point unit, by their
/// own names or as mmx registers.
std::optional<std::uint64_t> floating_write(const Program& program, std::uint64_t address);

/// An instruction of the function around `address` that accesses its stack by 16 bytes and faults where these are not
/// aligned.
std::optional<std::uint64_t> aligned_access(const Program& program, std::uint64_t address);

}  // namespace deeptrace::program
