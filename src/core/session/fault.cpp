#include "session/fault.h"

#include "session/dead_program.h"
#include "session/fault_deep.h"
#include "session/hits.h"

namespace deeptrace::session {
namespace {

void explain(look::Subject& subject, const state::PendingSignal& signal, FaultResult& result) {
  result.thread = subject.number_of(subject.thread());
  result.threads = subject.target().threads().size();
  result.report = look::explain_fault(subject.target(), subject.modules(), subject.thread(), signal);
}

Result<FaultResult> of_core(const FaultRequest& request) {
  auto dead = DeadProgram::open(request.core, request.program, request.control.open);
  if (!dead) return dead.error();
  DeadProgram& program = **dead;
  FaultResult result;
  result.program = program.path();
  result.dead = true;
  result.notes = program.stopped().notes;
  const auto signal = program.target().pending_signal(program.thread());
  if (signal && signal->number != 0) {
    result.end = {RunEnd::How::killed, signal->number};
    explain(program, *signal, result);
  }
  return result;
}

Result<FaultResult> of_run(FaultRequest& request) {
  request.control.hold_at_crash = true;
  request.control.follow_vectors = false;
  auto tree = control::ProcessTree::start(request.control);
  if (!tree) return tree.error();
  control::ProcessTree& processes = **tree;
  FaultResult result;
  result.program = processes.first().path();
  result.attached = processes.first().attached();
  for (;;) {
    const Result<look::Stopped> stopped = processes.go({control::Motion::Kind::resume, {}, 1});
    if (!stopped) return stopped.error();
    result.notes.insert(result.notes.end(), stopped->notes.begin(), stopped->notes.end());
    if (stopped->why == look::Stopped::Why::signal) {
      control::Control& control = processes.current();
      result.program = control.path();
      const auto pending = control.target().pending_signal(control.thread());
      state::PendingSignal signal = pending.value_or(state::PendingSignal{.number = stopped->number});
      if (signal.number == 0) signal.number = stopped->number;
      result.end = {RunEnd::How::killed, signal.number};
      explain(control, signal, result);
      if (request.deep) result.report->findings.push_back(value_made(request, control.modules(), *result.report));
      if (result.attached) processes.detach();
      break;
    }
    if (const auto end = end_of(processes.first(), *stopped)) {
      result.end = *end;
      break;
    }
  }
  count_notes(result.notes);
  return result;
}

}  // namespace

Result<FaultResult> fault(FaultRequest request) { return request.core.empty() ? of_run(request) : of_core(request); }

}  // namespace deeptrace::session
