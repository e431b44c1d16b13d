#include "session/steps.h"

#include <algorithm>
#include <memory>
#include <utility>

#include "abi/signal_names.h"
#include "base/number.h"
#include "control/program_to_run.h"
#include "look/places.h"
#include "program/code_starts.h"
#include "session/stepper.h"

namespace deeptrace::session {
namespace {

using Stop = control::FollowedStop;
using state::Reg;

Error ended_early(const std::string& from, const Stop& stop) {
  const std::string how = stop.kind == Stop::Kind::exited ? "ended with status " + std::to_string(stop.number)
                                                          : "was ended by " + abi::signal_name(stop.number);
  return {Fault::program, "the program " + how + " before it came to " + from};
}

/// Places that the program is to stop at before it is stepped. Debug registers where they suffice, so that a program
/// that reads its own code finds it as it is; children do not inherit those.
class Places {
 public:
  Places(process::Process& process, bool children) : process_(process), children_(children) {}
  ~Places() {
    if (process_.gone()) return;
    for (unsigned slot = 0; slot < used_; ++slot) process_.watch(slot, std::nullopt);
  }
  Places(const Places&) = delete;
  Places& operator=(const Places&) = delete;

  bool add(std::uint64_t address) {
    std::uint8_t byte = 0;
    if (process_.memory().read(address, {&byte, 1}) != 1) return false;
    const process::DebugSlot slot{address, 1, process::DebugSlot::On::execution};
    if (!children_ && used_ < process::kDebugSlots && process_.watch(used_, slot)) return ++used_, true;
    return process_.memory().plant(address);
  }

 private:
  process::Process& process_;
  bool children_;
  unsigned used_ = 0;
};

/// Runs to one of the addresses; nothing when it got there.
std::optional<Error> run_to(control::FollowedThread& followed, const std::vector<std::uint64_t>& addresses,
                            const std::string& name, bool children, std::uint64_t times = 1) {
  const auto arrived = [&] {
    return std::find(addresses.begin(), addresses.end(), followed.registers()[Reg::rip]) != addresses.end();
  };
  if (arrived() && --times == 0) return std::nullopt;
  Places places(followed.process(), children);
  for (const std::uint64_t address : addresses) {
    if (!places.add(address)) return Error{Fault::usage, name + ": no memory at that address in the running program"};
  }
  int signal = 0;
  for (;;) {
    const Stop stop = followed.run(signal);
    if (stop.program_is_gone()) return ended_early(name, stop);
    if (stop.kind == Stop::Kind::replaced)
      return Error{Fault::program, "the program replaced itself by another before it came to " + name};
    const bool there = stop.kind == Stop::Kind::stop_byte || (stop.kind == Stop::Kind::stepped && arrived());
    if (there && --times == 0) break;
    signal = stop.kind == Stop::Kind::signal ? stop.number : 0;
  }
  followed.process().memory().remove_all();
  return std::nullopt;
}

/// Where control comes to a line, in every copy, and to a function: its first instruction, those of its clones, and its
/// inlined copies. A line that opens a function begins with that. Errors: it is neither.
Result<std::vector<std::uint64_t>> entries_of(look::Modules& modules, const state::StateView& view,
                                              const std::string& location) {
  const Result<look::StopPlaces> found = look::stop_places(modules, view, location);
  if (!found) return found.error();
  std::vector<std::uint64_t> result = found->starts;
  const bool function = !found->starts.empty() || found->inlined != 0;
  const std::size_t colon = location.rfind(':');
  const auto line = function || colon == std::string::npos ? std::nullopt : number_in(location.substr(colon + 1));
  for (const look::StopPlace& place : found->places) {
    if (function && (!place.level || place.level->depth == 0)) continue;
    const look::Module* module = modules.at(place.address);
    const program::Function* around = modules.function_at(place.address);
    const auto begins = around != nullptr ? module->program->source_of(*around) : std::nullopt;
    const bool opens = line && begins && *line <= begins->line &&
                       program::prologue_end_of(*module->program, *around) + module->bias == place.address;
    result.push_back(opens ? around->address + module->bias : place.address);
  }
  std::ranges::sort(result);
  result.erase(std::unique(result.begin(), result.end()), result.end());
  return result;
}

/// The addresses of a location, each that of an instruction.
Result<std::vector<std::uint64_t>> instructions_at(look::Modules& modules, const state::StateView& view,
                                                   const std::string& location) {
  Result<std::vector<std::uint64_t>> found = entries_of(modules, view, location);
  if (!found) found = modules.resolve(location);
  if (!found) return found;
  for (const std::uint64_t address : *found) {
    if (auto error = look::no_instruction(modules, address, location)) return *error;
  }
  return found;
}

}  // namespace

std::string_view name_of(StepsEnd end) {
  constexpr std::string_view kNames[] = {"return", "to", "count", "end", "exec", "thread", "interrupt"};
  return kNames[static_cast<std::size_t>(end)];
}

namespace {

/// A program that stands where its libraries are mapped and nothing of its own has run, or where it was attached to.
struct Started {
  std::unique_ptr<control::FollowedThread> followed;
  program::Program program;
};

Result<Started> start(const StepsRequest& request) {
  Result<control::Running> running = request.attach != 0 ? control::attach(request.attach, request.open)
                                                         : control::launch(request.launch, request.open);
  if (!running) return running.error();
  if (request.pause) running->process->at_pauses(request.pause);
  Started started{std::make_unique<control::FollowedThread>(std::move(running->process)), std::move(running->program)};
  if (request.attach != 0) return started;
  const std::uint64_t entry = started.followed->process().auxiliary(state::Auxiliary::entry).value_or(0);
  if (auto error = run_to(*started.followed, {entry}, "its entry", false)) return *error;
  return started;
}

/// To where stepping begins, with the thread that it follows.
std::optional<Error> go_to_start(const StepsRequest& request, control::FollowedThread& followed,
                                 look::Modules& modules) {
  const std::uint64_t number = request.thread;
  const auto no_thread = [&] {
    return Error{Fault::usage, "--thread " + std::to_string(number) + ": there is no such thread"};
  };
  if (request.attach != 0 && request.from.empty())
    return number == 0 || followed.follow(number) ? std::nullopt : std::optional(no_thread());
  const bool has_main = !modules.main().program->functions_named("main").empty();
  const std::string name = !request.from.empty() ? request.from : has_main ? "main" : "its entry";
  std::vector<std::uint64_t> from = {followed.registers()[Reg::rip]};
  if (!request.from.empty() || has_main) {
    Result<std::vector<std::uint64_t>> found = instructions_at(modules, followed.view(), name);
    if (!found) return found.error();
    from = std::move(*found);
  }
  if (request.trace_children) followed.trace_children();
  followed.follow_first_of(number);
  if (auto error = run_to(followed, from, name, request.trace_children, request.from_hit)) return error;
  followed.follow_this();
  return std::nullopt;
}

}  // namespace

Result<StepsSummary> steps(const StepsRequest& request, StepsSink& sink) {
  Result<Started> started = start(request);
  if (!started) return started.error();
  control::FollowedThread& followed = *started->followed;
  look::Modules modules(followed.process(), std::move(started->program), request.open);
  std::vector<std::uint64_t> to;
  if (!request.to.empty()) {
    Result<std::vector<std::uint64_t>> found = instructions_at(modules, followed.view(), request.to);
    if (!found) return found.error();
    to = std::move(*found);
  }
  if (auto error = go_to_start(request, followed, modules)) return *error;
  modules.refresh(followed.process());
  const StepsSummary summary = Stepper(followed, modules, request, sink).run(std::move(to));
  followed.finish_others();
  return summary;
}

}  // namespace deeptrace::session
