// The code that signal handlers return to.
#pragma once

#include <cstdint>

#include "state/view.h"

namespace deeptrace::session {

/// How many instructions take a thread from where a handler returns to back to where the signal came: the number of
/// sigreturn or rt_sigreturn goes to the accumulator, then the kernel is called (sigreturn(2)); old frames of 32-bit
/// programs have a word taken off first. 0: there is no such code at the address.
unsigned signal_return_length(const state::StateView& view, std::uint64_t address);

}  // namespace deeptrace::session
