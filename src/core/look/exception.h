// The exception that the C++ runtime is asked to throw, or hands to a handler (Itanium C++ ABI: Exception Handling;
// layouts of libstdc++).
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "inspect/frames.h"
#include "inspect/value.h"
#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

struct ThrownObject {
  /// `exception Own`; of the library's own kinds of errors and classes derived from them with the message, `exception
  /// std::range_error "no such level"`. What is thrown again is said to be `exception that was caught before`; empty
  /// where the runtime's layout is not known.
  std::string words;
  std::optional<inspect::Value> value;  ///< where debug information has the type; without the library's base classes
};

/// For a thread at the first instruction of __cxa_throw, __cxa_begin_catch or what throws again.
ThrownObject exception_at(Modules& modules, const state::StateView& view);

/// The exception that a thread is about to be ended by, in words ("exception std::range_error "no such level""); empty
/// where none is found. It is looked for in the stack from the innermost frame to that of `thrower`, an index.
std::string exception_under_way(Modules& modules, const state::StateView& view,
                                const std::vector<inspect::Frame>& frames, std::size_t thrower);

}  // namespace deeptrace::look
