// A value that was passed or returned, read from where its pieces travel (abi/passing.h).
#pragma once

#include <cstdint>
#include <optional>

#include "abi/passing.h"
#include "base/result.h"
#include "inspect/expression.h"
#include "state/view.h"

namespace deeptrace::look {

/// Without a type it is read as a word. `arguments` is where those on the stack begin. What lies on the stack in one
/// piece, and what is passed by its address, is a place in memory that has not been read. Errors: nothing is passed for
/// it, a register is not known, the stack cannot be read.
Result<inspect::Datum> passed_value(const state::StateView& view, const abi::Passed& passed,
                                    std::optional<inspect::TypeRef> type, std::uint64_t arguments);

}  // namespace deeptrace::look
