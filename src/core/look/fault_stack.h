// A stack that is used up: the shape of the recursion, or the frame that is too large.
#pragma once

#include <optional>
#include <vector>

#include "inspect/frames.h"
#include "look/argument.h"
#include "look/fault_address.h"

namespace deeptrace::look {

/// So many frames are looked at.
inline constexpr std::size_t kMostFaultFrames = 200000;

/// Nothing where the fault is something else.
std::optional<Finding> explain_overflow(const state::StateView& view, Modules& modules, const AddressSpace& space,
                                        const std::vector<inspect::Frame>& frames, const state::PendingSignal& signal);

}  // namespace deeptrace::look
