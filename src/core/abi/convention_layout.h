// Where arguments and results travel by conventions beside those of System V (abi/passing.h), as gcc has them, and
// clang vectorcall.
#pragma once

#include <span>

#include "abi/conventions.h"
#include "abi/passing.h"
#include "base/result.h"
#include "debuginfo/types.h"

namespace deeptrace::abi {

/// Errors (Fault::usage): how the convention passes a type is not known here.
Result<CallLayout> layout_by(const Convention& convention, Compiler compiler, debuginfo::Types& types,
                             std::span<const debuginfo::TypeId> arguments, debuginfo::TypeId result, bool variadic);

}  // namespace deeptrace::abi
