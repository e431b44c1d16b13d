// Who ended the program by abort(3), and why: failed assertions, exceptions that nobody catches, the allocator, the
// stack protector, checked string functions.
#pragma once

#include <vector>

#include "look/fault.h"

namespace deeptrace::look {

/// `own` is the innermost frame of own code, or null.
std::vector<Finding> explain_abort(const state::Target& target, Modules& modules, const state::StateView& view,
                                   const std::vector<inspect::Frame>& frames, const inspect::Frame* own,
                                   const FaultReport& report);

}  // namespace deeptrace::look
