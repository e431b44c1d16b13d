// What a function takes that nothing describes: the registers that its code reads before it writes them, and the words
// of its caller's stack that it reads. An inference: what is only handed on to another function is not seen.
#pragma once

#include <vector>

#include "abi/passing.h"
#include "program/code_scan.h"
#include "program/program.h"

namespace deeptrace::abi {

/// Registers that the convention passes arguments in come first, in its order, then others, then words of the stack.
/// Registers that are only saved (pushed) are none.
std::vector<Passed> inferred_arguments(const program::Program& program, program::CodeScan& scan,
                                       const program::Function& function);

}  // namespace deeptrace::abi
