// The exception that the C++ runtime is asked to throw, or hands to a handler (Itanium C++ ABI: Exception Handling;
// layouts of libstdc++).
#pragma once

#include <string>

#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

/// For a thread at the first instruction of __cxa_throw, __cxa_begin_catch or what throws again: `exception Own`, and
/// of the library's own kinds of errors the message, `exception std::range_error "no such level"`. What is thrown again
/// is said to be `exception that was caught before`; empty where the runtime's layout is not known.
std::string exception_at(Modules& modules, const state::StateView& view);

}  // namespace deeptrace::look
