// Who ended the program by abort(3), and why: failed assertions, exceptions that nobody catches, the allocator, the
// stack protector, checked string functions.
#pragma once

#include <vector>

#include "look/fault.h"

namespace deeptrace::look {

/// Findings without an address are the own code's that `report` names.
std::vector<Finding> explain_abort(const state::Target& target, Modules& modules, const state::StateView& view,
                                   const std::vector<inspect::Frame>& frames, const FaultReport& report);

}  // namespace deeptrace::look
