#include "process/tracee.h"

#include <sys/ptrace.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstring>

#include "process/kernel_registers.h"

namespace deeptrace::process {
namespace {

constexpr long kOptions =
    PTRACE_O_EXITKILL | PTRACE_O_TRACECLONE | PTRACE_O_TRACEFORK | PTRACE_O_TRACEVFORK | PTRACE_O_TRACEEXEC;

bool is_stopping_signal(int signal) {
  return signal == SIGSTOP || signal == SIGTSTP || signal == SIGTTIN || signal == SIGTTOU;
}

}  // namespace

Result<std::unique_ptr<Tracee>> Tracee::launch(const LaunchOptions& options) {
  const Result<pid_t> child = launch_seized(options, kOptions);
  if (!child) return child.error();
  std::unique_ptr<Tracee> tracee(new Tracee(*child));
  if (!tracee->memory_.open(*child))
    return Error{Fault::program, options.program + ": its memory cannot be opened: " + std::strerror(errno)};
  tracee->fetch_registers();
  return tracee;
}

Tracee::~Tracee() { kill(); }

void Tracee::kill() {
  if (gone_) return;
  ::kill(pid_, SIGKILL);
  for (const auto& [child, kind] : others_) {
    if (kind == Other::shares_memory) ::kill(child, SIGKILL);
  }
  int status = 0;
  for (;;) {
    const pid_t thread = ::waitpid(-1, &status, __WALL);
    if (thread < 0 && errno != EINTR) break;
    if (thread == pid_ && !WIFSTOPPED(status)) break;
    if (thread > 0 && WIFSTOPPED(status)) ::ptrace(PTRACE_CONT, thread, nullptr, SIGKILL);
  }
  gone_ = true;
}

void Tracee::fetch_registers() {
  user_regs_struct raw{};
  if (::ptrace(PTRACE_GETREGS, followed_, nullptr, &raw) == 0) registers_ = from_kernel(raw);
}

void Tracee::set_register(state::Reg reg, std::uint64_t value) {
  user_regs_struct raw{};
  if (::ptrace(PTRACE_GETREGS, followed_, nullptr, &raw) != 0) return;
  switch (reg) {
    case state::Reg::rip: raw.rip = value; break;
    case state::Reg::r11: raw.r11 = value; break;
    default: return;  // nothing else is ever put right
  }
  if (::ptrace(PTRACE_SETREGS, followed_, nullptr, &raw) == 0) registers_ = from_kernel(raw);
}

state::VectorSet Tracee::vectors() const {
  state::VectorSet result;
  user_fpregs_struct raw{};
  if (::ptrace(PTRACE_GETFPREGS, followed_, nullptr, &raw) != 0) return result;
  std::memcpy(result.xmm.data(), raw.xmm_space, sizeof result.xmm);
  result.mxcsr = raw.mxcsr;
  return result;
}

Stop Tracee::step(int signal, bool may_trap) {
  may_trap_ = may_trap;
  const std::uint64_t at = registers_[state::Reg::rip];
  if (!memory_.is_planted(at)) return resume(PTRACE_SINGLESTEP, signal);
  memory_.uncover(at);
  const Stop stop = resume(PTRACE_SINGLESTEP, signal);
  if (!stop.program_is_gone() && stop.kind != Stop::Kind::replaced) memory_.cover(at);
  return stop;
}

Stop Tracee::run(int signal) {
  if (followed_ > 0 && memory_.is_planted(registers_[state::Reg::rip])) {
    const Stop stop = step(signal);
    if (stop.kind != Stop::Kind::stepped) return stop;
    if (memory_.is_planted(registers_[state::Reg::rip])) return {.kind = Stop::Kind::stop_byte};
    signal = 0;
  }
  return resume(PTRACE_CONT, signal);
}

Stop Tracee::resume(int request, int signal) {
  last_request_ = request;
  if (followed_ > 0) ::ptrace(static_cast<__ptrace_request>(request), followed_, nullptr, static_cast<long>(signal));
  return await();
}

/// Waits for the followed thread, serving the others meanwhile.
Stop Tracee::await() {
  for (;;) {
    int status = 0;
    pid_t thread = 0;
    if (const auto kept = early_.find(followed_); kept != early_.end()) {
      thread = followed_;
      status = kept->second;
      early_.erase(kept);
    } else {
      thread = ::waitpid(others_.empty() && followed_ > 0 ? followed_ : -1, &status, __WALL);
    }
    if (thread < 0) {
      if (errno == EINTR) continue;
      gone_ = true;
      return {.kind = Stop::Kind::killed, .number = SIGKILL};
    }
    if (thread == pid_ && !WIFSTOPPED(status)) {
      gone_ = true;
      if (WIFEXITED(status)) return {.kind = Stop::Kind::exited, .number = WEXITSTATUS(status)};
      return {.kind = Stop::Kind::killed, .number = WTERMSIG(status)};
    }
    if (thread != followed_) {
      const pid_t before = followed_;
      handle_other(thread, status);
      if (followed_ != before) return {.kind = Stop::Kind::stop_byte};
      continue;
    }
    if (const auto stop = classify(thread, status)) return *stop;
  }
}

/// What a wait status of the followed thread means; nothing when it was dealt with and the thread goes on.
std::optional<Stop> Tracee::classify(pid_t thread, int status) {
  if (!WIFSTOPPED(status)) {
    followed_ = -1;
    return Stop{.kind = Stop::Kind::ended};
  }
  const auto event = static_cast<unsigned>(status) >> 16;
  if (event != 0) {
    if (event == PTRACE_EVENT_STOP && is_stopping_signal(WSTOPSIG(status))) {
      ::ptrace(PTRACE_LISTEN, thread, nullptr, nullptr);
      return std::nullopt;
    }
    return classify_event(thread, event);
  }
  if (WSTOPSIG(status) == SIGTRAP) return classify_trap(thread);
  fetch_registers();
  siginfo_t info{};
  ::ptrace(PTRACE_GETSIGINFO, thread, nullptr, &info);
  Stop stop{.kind = Stop::Kind::signal, .number = WSTOPSIG(status)};
  const bool fault = stop.number == SIGSEGV || stop.number == SIGBUS || stop.number == SIGFPE || stop.number == SIGILL;
  if (fault && info.si_code > 0) {
    stop.by_instruction = true;
    stop.fault_address = reinterpret_cast<std::uint64_t>(info.si_addr);
    stop.fault_address_known = info.si_code != SI_KERNEL;
  }
  return stop;
}

std::optional<Stop> Tracee::classify_event(pid_t thread, unsigned event) {
  unsigned long child = 0;
  switch (event) {
    case PTRACE_EVENT_CLONE:
    case PTRACE_EVENT_FORK:
    case PTRACE_EVENT_VFORK:
      ::ptrace(PTRACE_GETEVENTMSG, thread, nullptr, &child);
      adopt(static_cast<pid_t>(child), event == PTRACE_EVENT_VFORK, event == PTRACE_EVENT_CLONE);
      break;
    case PTRACE_EVENT_EXEC:
      followed_ = pid_;
      memory_.forget_stops();
      others_.clear();
      memory_.open(pid_);
      fetch_registers();
      return Stop{.kind = Stop::Kind::replaced};
    default: break;
  }
  ::ptrace(static_cast<__ptrace_request>(last_request_), thread, nullptr, nullptr);
  return std::nullopt;
}

/// SIGTRAP has four sources: a finished step, a stop byte, the program's own trap instruction, or somebody's kill().
/// A step that moved on is taken as finished without asking the kernel; callers ask for certainty where the
/// instruction itself can trap.
Stop Tracee::classify_trap(pid_t thread) {
  const std::uint64_t before = registers_[state::Reg::rip];
  const bool stepping = last_request_ == PTRACE_SINGLESTEP;
  fetch_registers();
  const std::uint64_t now = registers_[state::Reg::rip];
  if (stepping && now != before && !may_trap_) return {};
  siginfo_t info{};
  ::ptrace(PTRACE_GETSIGINFO, thread, nullptr, &info);
  if (!stepping && info.si_code == SI_KERNEL && memory_.is_planted(now - 1)) {
    set_register(state::Reg::rip, now - 1);
    return {.kind = Stop::Kind::stop_byte};
  }
  // Step codes: TRAP_TRACE after an instruction, TRAP_BRKPT behind a system call, SIGTRAP at a handler's entry.
  if (stepping && (info.si_code == TRAP_TRACE || info.si_code == TRAP_BRKPT || info.si_code == SIGTRAP)) return {};
  Stop stop{.kind = Stop::Kind::signal, .number = SIGTRAP};
  stop.by_instruction = info.si_code == SI_KERNEL || info.si_code == TRAP_BRKPT;
  return stop;
}

void Tracee::adopt(pid_t child, bool shares_memory, bool is_thread) {
  int status = 0;
  if (const auto kept = early_.find(child); kept != early_.end()) {
    early_.erase(kept);
  } else {
    while (::waitpid(child, &status, __WALL) < 0 && errno == EINTR) {
    }
  }
  if (!is_thread && !shares_memory) return let_go(child);
  others_[child] = is_thread ? Other::thread : Other::shares_memory;
  if (is_thread) ++threads_seen_;
  ::ptrace(PTRACE_CONT, child, nullptr, nullptr);
}

void Tracee::let_go(pid_t child) {
  give_own_bytes(child, memory_.stops());
  ::ptrace(PTRACE_DETACH, child, nullptr, nullptr);
}

void Tracee::handle_other(pid_t thread, int status) {
  const auto known = others_.find(thread);
  if (known == others_.end()) {
    if (WIFSTOPPED(status)) early_[thread] = status;
    return;
  }
  if (!WIFSTOPPED(status)) {
    others_.erase(known);
    return;
  }
  const auto event = static_cast<unsigned>(status) >> 16;
  const int signal = WSTOPSIG(status);
  unsigned long child = 0;
  if (event == PTRACE_EVENT_EXEC && known->second == Other::shares_memory) {
    others_.erase(known);
    ::ptrace(PTRACE_DETACH, thread, nullptr, nullptr);
    return;
  }
  if (event == PTRACE_EVENT_CLONE || event == PTRACE_EVENT_FORK || event == PTRACE_EVENT_VFORK) {
    ::ptrace(PTRACE_GETEVENTMSG, thread, nullptr, &child);
    adopt(static_cast<pid_t>(child), event == PTRACE_EVENT_VFORK, event == PTRACE_EVENT_CLONE);
  }
  if (event == PTRACE_EVENT_STOP && is_stopping_signal(signal)) {
    ::ptrace(PTRACE_LISTEN, thread, nullptr, nullptr);
    return;
  }
  if (event != 0) {
    ::ptrace(PTRACE_CONT, thread, nullptr, nullptr);
    return;
  }
  user_regs_struct raw{};
  siginfo_t info{};
  if (signal == SIGTRAP && ::ptrace(PTRACE_GETREGS, thread, nullptr, &raw) == 0 &&
      ::ptrace(PTRACE_GETSIGINFO, thread, nullptr, &info) == 0 && info.si_code == SI_KERNEL &&
      memory_.is_planted(raw.rip - 1)) {
    raw.rip -= 1;
    ::ptrace(PTRACE_SETREGS, thread, nullptr, &raw);
    if (!follow_any_ || known->second != Other::thread) return step_other_over(thread, raw.rip);
    others_.erase(known);
    others_[followed_] = Other::thread;
    followed_ = thread;
    fetch_registers();
    return;
  }
  ::ptrace(PTRACE_CONT, thread, nullptr, static_cast<long>(signal));
}

/// Takes another thread over a stop byte. The followed thread is held meanwhile, since it could run through the
/// uncovered place; a thread waiting in vfork cannot be held, and does not need to be.
void Tracee::step_other_over(pid_t thread, std::uint64_t address) {
  const bool hold = others_[thread] == Other::thread && followed_ > 0 && early_.count(followed_) == 0;
  bool held = false;
  if (hold && ::ptrace(PTRACE_INTERRUPT, followed_, nullptr, nullptr) == 0) {
    int status = 0;
    while (::waitpid(followed_, &status, __WALL) < 0 && errno == EINTR) {
    }
    held = WIFSTOPPED(status) && static_cast<unsigned>(status) >> 16 == PTRACE_EVENT_STOP &&
           !is_stopping_signal(WSTOPSIG(status));
    if (!held) early_[followed_] = status;
  }
  memory_.uncover(address);
  int status = 0;
  int signal = 0;
  ::ptrace(PTRACE_SINGLESTEP, thread, nullptr, nullptr);
  while (::waitpid(thread, &status, __WALL) < 0 && errno == EINTR) {
  }
  if (WIFSTOPPED(status) && WSTOPSIG(status) != SIGTRAP) signal = WSTOPSIG(status);
  memory_.cover(address);
  if (WIFSTOPPED(status)) {
    ::ptrace(PTRACE_CONT, thread, nullptr, static_cast<long>(signal));
  } else {
    others_.erase(thread);
  }
  if (held) ::ptrace(static_cast<__ptrace_request>(last_request_), followed_, nullptr, nullptr);
}

}  // namespace deeptrace::process
