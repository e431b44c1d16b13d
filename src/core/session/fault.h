// The work of `fault`: a program runs until a signal is about to end it, or a core file of one is read, and what is
// known of why is put together.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/result.h"
#include "control/process_tree.h"
#include "look/fault.h"
#include "session/run_end.h"

namespace deeptrace::session {

struct FaultRequest {
  control::ControlOptions control;
  std::string core;     ///< a core file in place of a run; empty: none
  std::string program;  ///< of the core file; empty: as it names it
  bool deep = false;    ///< runs it again to find where a bad value was made
};

struct FaultResult {
  std::string program;
  bool attached = false, dead = false;      ///< dead: it is a core file's
  std::uint64_t thread = 1, threads = 1;    ///< number of the thread that got the signal, from 1; how many there are
  std::optional<look::FaultReport> report;  ///< nothing: no signal ended the program
  RunEnd end;                               ///< of the run
  std::vector<std::string> notes;
};

/// Errors: a program that cannot be run or attached to, an unusable core file.
Result<FaultResult> fault(FaultRequest request);

}  // namespace deeptrace::session
