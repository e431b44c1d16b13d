// Whether the value that debug information gives for an argument at a call (DW_TAG_call_site_parameter) can be what the
// code passes.
//
// Of an instruction that takes an operand from a spill slot clang says that it passes what the slot holds, whatever the
// instruction makes of it (LLVM 14, TargetInstrInfo::describeLoadedValue): of `addsd xmm0, qword ptr [rsp+8]` one term
// of the sum. Of one that adds to a register, it leaves out that the register changes after that and before the call.
#pragma once

#include <cstdint>

#include "debuginfo/locals.h"
#include "program/program.h"

namespace deeptrace::look {

/// False where an argument is said to be read from memory, and the instruction before the call that sets its register
/// does more than to load it; and where clang says it by a register that is written between the call and the
/// instruction that sets the argument, or the one that sets what the argument is a copy of. `unit` has the calling
/// function.
bool is_what_is_passed(const program::Program& program, const debuginfo::Unit& unit, const debuginfo::CallSite& call,
                       const debuginfo::CallSite::Parameter& parameter);

}  // namespace deeptrace::look
