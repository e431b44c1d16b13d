// The work of `syscalls`: a program runs, and every system call that it makes is a row, with its arguments decoded,
// what came back, how long it took, and the line of the developer's own code that led to it.
//
// Each call stops its thread twice; times include that. Where some are chosen and children are followed too, the kernel
// stops it for these alone.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/result.h"
#include "control/control.h"
#include "look/call_decoder.h"
#include "look/call_findings.h"
#include "look/level.h"
#include "session/call_choice.h"
#include "session/run_end.h"
#include "session/syscall_totals.h"

namespace deeptrace::session {

struct SyscallsRequest {
  control::ControlOptions control;
  CallChoice choice;
  bool all = false;                    ///< calls that no own code led to are rows, too
  std::size_t bytes = 64;              ///< of buffers that are decoded
  std::optional<std::uint64_t> count;  ///< rows after which the program is ended, or let go
  std::optional<std::uint64_t> limit;  ///< rows that are listed; those after them are counted
  std::optional<TotalsBy> totals;      ///< sums in place of rows
};

struct SyscallRow {
  std::uint64_t number = 0;   ///< from 1, in the order in which calls ended
  std::uint64_t process = 1;  ///< from 1
  std::uint64_t thread = 1;   ///< of the process, from 1
  std::uint64_t start = 0;    ///< nanoseconds since tracing began
  std::uint64_t duration = 0;
  // An earlier row; 0: none is known.
  std::uint64_t like = 0;        ///< that has the same but for its number, start and duration
  std::uint64_t place_like = 0;  ///< of the same call, made at the same place
  bool ended = true;             ///< false: the program ended in it
  bool other_abi = false;        ///< 32-bit numbers from 64-bit code (int 0x80)
  look::AskedCall asked;
  look::DecodedCall call;
  std::uint64_t address = 0;  ///< of the instruction that made it
  std::string made_by;        ///< the place of that
  bool raw = false;           ///< own code has that instruction
  look::Where own;            ///< the developer's own place that led to it; empty: there is none
  std::uint64_t after = 0;    ///< where control comes back to that; 0: unknown
  std::vector<look::Finding> findings;
};

struct SyscallsStart {
  std::string program;
  bool attached = false, randomised = false, children = false;
  bool filtered = false;  ///< the kernel stops the program at the chosen calls alone
  bool chosen = false;    ///< not all calls are shown
  std::optional<TotalsBy> totals;
};

struct SyscallsSummary {
  std::uint64_t rows = 0, left_out = 0;  ///< left out: no own code led to them
  std::uint64_t unlisted = 0;            ///< of the rows, those beyond the limit
  std::vector<SyscallTotal> totals;      ///< where sums were asked for
  RunEnd end;
  std::vector<std::string> notes;
  std::vector<look::Finding> findings;  ///< of the end of the program, and of calls that are no rows
};

class SyscallsSink {
 public:
  virtual ~SyscallsSink() = default;
  virtual void begin(const SyscallsStart& start) = 0;
  virtual void row(const SyscallRow& row) = 0;
  virtual void end(const SyscallsSummary& summary) = 0;
};

/// Errors: a program that cannot be run or attached to; a name that no call has (Fault::usage).
Result<SyscallsSummary> syscalls(SyscallsRequest request, SyscallsSink& sink);

}  // namespace deeptrace::session
