#include "session/calls.h"

#include <utility>

#include "control/process_tree.h"
#include "session/call_tracer.h"
#include "session/hits.h"

namespace deeptrace::session {
namespace {

void follow(control::ProcessTree& tree, CallsRun& run) {
  CallsSummary& summary = run.summary;
  for (;;) {
    const Result<look::Stopped> stopped = tree.go({control::Motion::Kind::resume, {}, 1});
    if (!stopped) return;
    summary.notes.insert(summary.notes.end(), stopped->notes.begin(), stopped->notes.end());
    if (const auto end = end_of(tree.first(), *stopped)) {
      summary.end = *end;
      return;
    }
    if (!run.enough) continue;
    const bool attached = tree.first().attached();
    summary.end = {attached ? RunEnd::How::detached : RunEnd::How::counted};
    if (attached) tree.detach();
    return;
  }
}

}  // namespace

Result<CallsSummary> calls(CallsRequest request, CallsSink& sink) {
  request.control.before_libraries = true;
  request.control.hold_at_crash = false;
  Result<std::unique_ptr<control::ProcessTree>> started = control::ProcessTree::start(request.control);
  if (!started) return started.error();
  control::ProcessTree& tree = **started;
  CallsRun run{request, sink, {}, std::chrono::steady_clock::now(), false, {}};
  run.tracers.push_back(std::make_unique<CallTracer>(run, tree.first(), 1));
  CallTracer& first = *run.tracers.front();
  if (auto error = first.wrong_name()) return *error;
  first.modules_changed();
  run.begun = std::chrono::steady_clock::now();
  sink.begin({tree.first().path(), request.control.attach != 0, request.control.launch.randomise,
              request.control.trace_children, request.check, request.every_instruction});
  tree.first().report_sites_to(&first);
  follow(tree, run);
  for (const auto& tracer : run.tracers) tracer->give_up();
  count_notes(run.summary.notes);
  sink.end(run.summary);
  return run.summary;
}

}  // namespace deeptrace::session
