// The exception that the C++ runtime is asked to throw, or hands to a handler (Itanium C++ ABI: Exception Handling;
// layouts of libstdc++).
#pragma once

#include <optional>
#include <string>

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

}  // namespace deeptrace::look
