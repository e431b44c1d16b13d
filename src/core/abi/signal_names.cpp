#include "abi/signal_names.h"

#include <csignal>
#include <cstring>

#include "base/number.h"

namespace deeptrace::abi {
namespace {

constexpr std::string_view kEnds = "ends the program";
constexpr std::string_view kCore = "ends the program, with a core file where the limit allows one";
constexpr std::string_view kStops = "stops the program";
constexpr std::string_view kIgnored = "is ignored";

constexpr struct {
  int signal;
  SignalFacts facts;
} kFacts[] = {
    {SIGHUP, {kEnds, "the terminal was closed"}},
    {SIGINT, {kEnds, "Ctrl-C at the terminal"}},
    {SIGQUIT, {kCore, "Ctrl-\\ at the terminal"}},
    {SIGILL, {kCore, "bytes that are no instruction, or one that this processor does not have"}},
    {SIGTRAP, {kCore, "a breakpoint instruction, or a single step"}},
    {SIGABRT,
     {kCore, "abort(3): an assertion that does not hold, an exception that nobody catches, broken heap records"}},
    {SIGBUS, {kCore, "memory of a file beyond the file's end, or an alignment that the processor wants"}},
    {SIGFPE, {kCore, "an integer division by 0, or whose result does not fit"}},
    {SIGKILL, {kEnds, "kill(2), or the kernel when memory ran out; it cannot be caught"}},
    {SIGUSR1, {kEnds, "kill(2): free for the program's own use"}},
    {SIGSEGV, {kCore, "an address that the program has no memory at, or may not use that way"}},
    {SIGUSR2, {kEnds, "kill(2): free for the program's own use"}},
    {SIGPIPE, {kEnds, "writing to a pipe or socket that nobody reads"}},
    {SIGALRM, {kEnds, "the time that alarm(2) or setitimer(2) set is over"}},
    {SIGTERM, {kEnds, "kill(1) without a signal's name: a request to end"}},
    {SIGSTKFLT, {kEnds, "nothing any more"}},
    {SIGCHLD, {kIgnored, "a child ended, or was stopped or continued"}},
    {SIGCONT, {"continues the program, if it is stopped", "fg in a shell, or kill(2)"}},
    {SIGSTOP, {kStops, "kill(2); it cannot be caught"}},
    {SIGTSTP, {kStops, "Ctrl-Z at the terminal"}},
    {SIGTTIN, {kStops, "a program in the background reads from the terminal"}},
    {SIGTTOU, {kStops, "a program in the background writes to the terminal, where that is forbidden"}},
    {SIGURG, {kIgnored, "urgent data at a socket"}},
    {SIGXCPU, {kCore, "the limit of processor time is reached (RLIMIT_CPU)"}},
    {SIGXFSZ, {kCore, "a file grows beyond the limit (RLIMIT_FSIZE)"}},
    {SIGVTALRM, {kEnds, "the processor time that setitimer(2) set is over"}},
    {SIGPROF, {kEnds, "the profiling time that setitimer(2) set is over"}},
    {SIGWINCH, {kIgnored, "the terminal's size changed"}},
    {SIGIO, {kEnds, "input or output is possible (O_ASYNC)"}},
    {SIGPWR, {kEnds, "power fails"}},
    {SIGSYS, {kCore, "a system call that a filter forbids (seccomp)"}},
};

}  // namespace

std::string signal_name(int signal) {
  const char* name = ::sigabbrev_np(signal);
  return name != nullptr ? std::string("SIG") + name : "signal " + std::to_string(signal);
}

std::optional<int> signal_named(std::string_view name) {
  constexpr int kMost = 64;
  if (const auto number = number_in(name); number && *number >= 1 && *number <= kMost) return static_cast<int>(*number);
  if (name.starts_with("SIG")) name.remove_prefix(3);
  for (int signal = 1; signal <= kMost; ++signal) {
    const char* known = ::sigabbrev_np(signal);
    if (known != nullptr && name == known) return signal;
  }
  return std::nullopt;
}

SignalFacts signal_facts(int signal) {
  for (const auto& one : kFacts) {
    if (one.signal == signal) return one.facts;
  }
  return {kEnds, "a real-time signal: kill(2), sigqueue(3), timers"};
}

}  // namespace deeptrace::abi
