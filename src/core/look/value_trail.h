// Where a value came from: the instruction that put it into a register, the variable that it was read from, and through
// parameters back to the calls that passed it.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "inspect/frames.h"
#include "look/call_state.h"
#include "look/modules.h"

namespace deeptrace::look {

struct ValueTrail {
  std::vector<std::string> words;          ///< a sentence a step, the last one first
  bool from_call = false;                  ///< the register itself is what a call just returned
  std::optional<std::uint64_t> read_from;  ///< the memory that it was read from
};

/// Of a register at the innermost of `frames`, the frames of a thread.
ValueTrail trail_of(Modules& modules, const state::StateView& thread, const std::vector<inspect::Frame>& frames,
                    isa::RegisterPart part);

/// Of a variable there: who passed it, if it is a parameter. `name` is as the source has it.
ValueTrail trail_of(Modules& modules, const state::StateView& thread, const std::vector<inspect::Frame>& frames,
                    const std::string& name);

}  // namespace deeptrace::look
