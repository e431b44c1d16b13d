// Where a bad value was made: the program is run again, twice. The first run counts the calls of the function that had
// the value; in the second the last of them is stepped, and the rows are gone back from the fault to the instruction
// that made it.
#pragma once

#include <string>

#include "look/fault.h"
#include "look/modules.h"
#include "session/fault.h"

namespace deeptrace::session {

/// A finding of kind "value_made", or one that says why there is none ("value_not_followed"). `modules` are those of
/// the first run, whose program stands at the fault; all runs have the same addresses.
look::Finding value_made(const FaultRequest& request, look::Modules& modules, const look::FaultReport& report);

}  // namespace deeptrace::session
