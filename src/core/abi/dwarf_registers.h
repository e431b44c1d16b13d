// Registers by the numbers that debug information and unwind tables give them (x86-64 psABI, figure 3.36; i386 psABI,
// table 2.14).
#pragma once

#include <optional>

#include "isa/instruction.h"
#include "isa/register.h"
#include "state/registers.h"

namespace deeptrace::abi {

/// The register of a number; nothing for numbers that stand for none, such as that of the return address.
std::optional<isa::RegisterPart> dwarf_register(unsigned number, isa::Mode mode);

/// The integer register of a number, the instruction pointer included (as which the return address counts).
std::optional<state::Reg> dwarf_integer_register(unsigned number, isa::Mode mode);

}  // namespace deeptrace::abi
