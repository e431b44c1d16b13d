// The ways that control takes between the instructions of one function, and which of them wrote a register.
#pragma once

#include <cstdint>
#include <optional>
#include <span>

#include "arch/register.h"
#include "debuginfo/scopes.h"
#include "isa/effects.h"
#include "isa/instruction.h"
#include "program/program.h"

namespace deeptrace::look {

/// Where a jump leads that names its place; nothing of other instructions.
std::optional<std::uint64_t> target_of_jump(const isa::Instruction& instruction, std::uint64_t address);

/// True when control can come from one address to one before it: a jump in between or after it leads there or further
/// back, in a function that ends at `end`.
bool comes_back(const program::Program& program, std::uint64_t from, std::uint64_t to, std::uint64_t end);

/// The range of a function's code that holds an address; empty when none does, and of a null function.
AddressRange range_around(const debuginfo::DescribedFunction* function, std::uint64_t address);

/// True when an instruction writes one of the registers, or a part of it.
bool writes_any(const isa::Effects& effects, std::span<const arch::RegisterPart> registers);

/// True when what a register holds at the end of a range was copied there from another one.
bool is_copied(const program::Program& program, AddressRange range, arch::RegisterPart from, arch::RegisterPart to);

/// True when no instruction of a loop writes a register. `loop` begins where its last jump leads to, and ends at the
/// first byte of that jump. False where control may leave the loop and come back from after it, or enters it elsewhere
/// than at its first instruction.
bool loop_leaves(const program::Program& program, const debuginfo::DescribedFunction* function, AddressRange loop,
                 arch::RegisterPart reg);

/// The instruction of the function whose value a register holds at a place, whatever way control came; nothing where
/// there are several, where it may be the caller's, and where the code does not tell.
std::optional<std::uint64_t> only_writer(const program::Program& program, const debuginfo::DescribedFunction* function,
                                         arch::RegisterPart reg, std::uint64_t place);

}  // namespace deeptrace::look
