// The arguments of a call that is under way, found where the caller made it: by the called function's debug
// information, else by the prototype of a library function, else the registers that its caller set.
#pragma once

#include <optional>

#include "look/argument.h"
#include "look/call_state.h"

namespace deeptrace::look {

/// The call that `caller` has under way; nothing where its instruction is not found.
std::optional<CallMade> call_made(Modules& modules, const state::StateView& thread, const inspect::Frame& caller);

/// How many argument registers, in order, the code on the way to a call sets: what a function takes that nothing
/// describes and whose code is not at hand.
std::size_t arguments_set(const CallState& state);

/// Where the call or jump that a state is before leads; nothing where that is not known.
std::optional<std::uint64_t> call_target(const CallState& state);

/// The same with the state that the arguments are taken from.
CallMade call_made(Modules& modules, const state::StateView& thread, const inspect::Frame& caller,
                   const CallState& state);

}  // namespace deeptrace::look
