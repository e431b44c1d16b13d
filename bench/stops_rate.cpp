// How fast stop points are passed, as ratios to bare loops of the same kernel calls. Both sides run in this process,
// pinned alike, alternating; the medians of seven runs are compared.
//
//   a condition that does not hold, where the instruction at hand is carried out by its meaning: wanted 1.5
//   the same where it has to run on the processor: wanted 0.9; once as a user gets it (an unused debug register), once
//   with a stop byte and a step
//   a hit of a data stop: wanted 0.9
//   calls of two functions as `calls` has them, against stop bytes where they begin and return: wanted 0.8
//
// usage: stops_rate PROGRAM (stop_loop) [WORD]: comparisons whose names have the word
#include <sched.h>
#include <sys/personality.h>
#include <sys/ptrace.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <csignal>
#include <cstddef>
#include <cstdint>
#include <cstdio>
#include <initializer_list>
#include <map>
#include <string>
#include <string_view>

#include "control/control.h"
#include "session/calls.h"

namespace {

using Clock = std::chrono::steady_clock;
using deeptrace::control::Control;

constexpr std::uint64_t kTimes = 30000;

double seconds_since(Clock::time_point start) { return std::chrono::duration<double>(Clock::now() - start).count(); }

pid_t launched(const char* program) {
  const pid_t child = ::fork();
  if (child == 0) {
    ::personality(ADDR_NO_RANDOMIZE);
    ::ptrace(PTRACE_TRACEME, 0, nullptr, nullptr);
    ::execl(program, program, std::to_string(kTimes).c_str(), nullptr);
    ::_exit(127);
  }
  int status = 0;
  ::waitpid(child, &status, 0);
  return child;
}

/// Goes on from stop to stop; `act` gets the registers at each. Stops a second.
template <class Act>
double bare_rate(pid_t child, Act act) {
  int status = 0;
  std::uint64_t stops = 0;
  const Clock::time_point start = Clock::now();
  for (;;) {
    ::ptrace(PTRACE_CONT, child, nullptr, nullptr);
    ::waitpid(child, &status, 0);
    if (!WIFSTOPPED(status)) break;
    ++stops;
    user_regs_struct registers{};
    ::ptrace(PTRACE_GETREGS, child, nullptr, &registers);
    act(registers);
  }
  return static_cast<double>(stops) / seconds_since(start);
}

/// Stop byte, registers, own byte back, single step, stop byte again.
double bare_stops(const char* program, std::uint64_t address) {
  const pid_t child = launched(program);
  const long own = ::ptrace(PTRACE_PEEKTEXT, child, address, nullptr);
  const long planted = (own & ~0xffL) | 0xcc;
  ::ptrace(PTRACE_POKETEXT, child, address, planted);
  return bare_rate(child, [&](user_regs_struct& registers) {
    int status = 0;
    registers.rip -= 1;
    ::ptrace(PTRACE_SETREGS, child, nullptr, &registers);
    ::ptrace(PTRACE_POKETEXT, child, address, own);
    ::ptrace(PTRACE_SINGLESTEP, child, nullptr, nullptr);
    ::waitpid(child, &status, 0);
    ::ptrace(PTRACE_POKETEXT, child, address, planted);
  });
}

/// The same at functions' first instructions and where they return to.
double bare_calls(const char* program, std::initializer_list<std::uint64_t> functions) {
  const pid_t child = launched(program);
  std::map<std::uint64_t, long> own;
  const auto plant = [&](std::uint64_t address) {
    if (!own.contains(address)) own[address] = ::ptrace(PTRACE_PEEKTEXT, child, address, nullptr);
    ::ptrace(PTRACE_POKETEXT, child, address, (own[address] & ~0xffL) | 0xcc);
  };
  for (const std::uint64_t address : functions) plant(address);
  return bare_rate(child, [&](user_regs_struct& registers) {
    int status = 0;
    registers.rip -= 1;
    const std::uint64_t at = registers.rip;
    for (const std::uint64_t address : functions) {
      if (at == address && own.size() < 2 * functions.size())
        plant(static_cast<std::uint64_t>(::ptrace(PTRACE_PEEKDATA, child, registers.rsp, nullptr)));
    }
    ::ptrace(PTRACE_SETREGS, child, nullptr, &registers);
    ::ptrace(PTRACE_POKETEXT, child, at, own[at]);
    ::ptrace(PTRACE_SINGLESTEP, child, nullptr, nullptr);
    ::waitpid(child, &status, 0);
    plant(at);
  });
}

/// Takes the time between the first call and the last.
class Clocked final : public deeptrace::session::CallsSink {
 public:
  void begin(const deeptrace::session::CallsStart& /*start*/) override { start_ = Clock::now(); }
  void entered(const deeptrace::session::CallRow& /*row*/) override {}
  void over(const deeptrace::session::CallRow& /*row*/) override { ++calls_; }
  void end(const deeptrace::session::CallsSummary& /*summary*/) override { seconds_ = seconds_since(start_); }
  [[nodiscard]] double stops() const { return 2 * static_cast<double>(calls_) / seconds_; }

 private:
  Clock::time_point start_;
  std::uint64_t calls_ = 0;
  double seconds_ = 0;
};

double our_calls(const char* program) {
  deeptrace::session::CallsRequest request;
  request.control.launch.program = program;
  request.control.launch.arguments = {std::to_string(kTimes)};
  request.control.follow_vectors = false;
  Clocked sink;
  if (!deeptrace::session::calls(std::move(request), sink)) std::exit(1);
  return sink.stops();
}

/// A debug register that watches a variable; the registers are read at each trap.
double bare_watch(const char* program, std::uint64_t address) {
  const pid_t child = launched(program);
  const auto debug = [&](unsigned number, std::uint64_t value) {
    ::ptrace(PTRACE_POKEUSER, child, offsetof(user, u_debugreg) + 8UL * number, value);
  };
  debug(0, address);
  debug(7, 1 | 1UL << 16 | 2UL << 18);  // on write, eight bytes
  return bare_rate(child, [](const user_regs_struct&) {});
}

double ours(const char* program, const std::string& rule, bool every, bool bytes = false) {
  deeptrace::control::ControlOptions options;
  if (bytes) options.stop_with = deeptrace::control::StopWith::byte;
  options.launch.program = program;
  options.launch.arguments = {std::to_string(kTimes)};
  options.follow_vectors = false;  // as `hits` has it
  auto control = Control::start(options);
  if (!control || !(*control)->add(*deeptrace::control::parse_halt_rule(rule))) std::exit(1);
  const Clock::time_point start = Clock::now();
  std::uint64_t hits = 0;
  for (;;) {
    const auto stopped = (*control)->go({});
    if (!stopped || stopped->program_is_gone()) break;
    ++hits;
  }
  return static_cast<double>(every ? hits : kTimes) / seconds_since(start);
}

template <class Theirs, class Ours>
void compare(const char* name, Theirs theirs, Ours mine) {
  std::array<double, 7> a{}, b{};
  for (std::size_t i = 0; i < a.size(); ++i) {
    a[i] = theirs();
    b[i] = mine();
  }
  std::sort(a.begin(), a.end());
  std::sort(b.begin(), b.end());
  std::printf("%-60s ours %.0f/s, bare loop %.0f/s, ratio %.2f\n", name, b[3], a[3], b[3] / a[3]);
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 2) return 2;
  const char* program = argv[1];
  const std::string_view only = argc > 2 ? argv[2] : "";
  const auto ask = [&](const char* name, auto theirs, auto mine) {
    if (std::string_view(name).find(only) != std::string_view::npos) compare(name, theirs, mine);
  };
  deeptrace::control::ControlOptions options;
  options.launch.program = program;
  auto control = Control::start(options);
  if (!control) return 1;
  deeptrace::look::Scope scope((*control)->modules(), (*control)->view());
  const auto address_of = [&](const char* name) {
    auto datum = scope.variable(name);
    if (datum->place == deeptrace::inspect::Datum::Place::memory) return datum->address;
    return *deeptrace::inspect::number_of(*datum, scope);
  };
  const std::uint64_t mark = address_of("mark"), spread = address_of("spread"), marks = address_of("marks");
  control->reset();
  for (const int processors : {1, 2}) {
    cpu_set_t set;
    CPU_ZERO(&set);
    for (int i = 0; i < processors; ++i) CPU_SET(i, &set);
    ::sched_setaffinity(0, sizeof set, &set);
    std::printf("pinned to %d processor%s\n", processors, processors == 1 ? "" : "s");
    ask(
        "a condition on a register that does not hold", [&] { return bare_stops(program, mark); },
        [&] { return ours(program, "at mark+0 when rdi == 0x7fffffff", false); });
    ask(
        "a condition on a variable that does not hold", [&] { return bare_stops(program, mark); },
        [&] { return ours(program, "at mark+0 when marks == -5", false); });
    ask(
        "the same at an instruction for the processor", [&] { return bare_stops(program, spread); },
        [&] { return ours(program, "at spread+0 when rdi == 0x7fffffffffff", false); });
    ask(
        "the same with a stop byte and a step", [&] { return bare_stops(program, spread); },
        [&] { return ours(program, "at spread+0 when rdi == 0x7fffffffffff", false, true); });
    ask(
        "calls, with their arguments and results",
        [&] {
          return bare_calls(program, {mark, spread});
        },
        [&] { return our_calls(program); });
    ask(
        "a hit of a data stop", [&] { return bare_watch(program, marks); },
        [&] { return ours(program, "on write marks", true); });
  }
}
