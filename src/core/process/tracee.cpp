#include "process/tracee.h"

#include <fcntl.h>
#include <sys/personality.h>
#include <sys/ptrace.h>
#include <sys/uio.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <climits>
#include <csignal>
#include <cstdlib>
#include <cstring>

namespace deeptrace::process {
namespace {

constexpr long kOptions =
    PTRACE_O_EXITKILL | PTRACE_O_TRACECLONE | PTRACE_O_TRACEFORK | PTRACE_O_TRACEVFORK | PTRACE_O_TRACEEXEC;

/// What a launched child reports when it cannot become the program.
struct LaunchProblem {
  enum Stage : int { kInput, kFolder, kExecute } stage;
  int error;
};

[[noreturn]] void give_up(int pipe, LaunchProblem::Stage stage) {
  const LaunchProblem problem{stage, errno};
  (void)!::write(pipe, &problem, sizeof problem);
  ::_exit(127);
}

/// The child's side of the launch, between fork and exec.
[[noreturn]] void become(const LaunchOptions& options, const std::string& path, int go, int problems) {
  char token = 0;
  if (::read(go, &token, 1) != 1) ::_exit(127);
  if (!options.input.empty()) {
    const int input = ::open(options.input.c_str(), O_RDONLY);
    if (input < 0 || ::dup2(input, STDIN_FILENO) < 0) give_up(problems, LaunchProblem::kInput);
    ::close(input);
  }
  if (options.output >= 0) ::dup2(options.output, STDOUT_FILENO);
  if (!options.folder.empty() && ::chdir(options.folder.c_str()) != 0) give_up(problems, LaunchProblem::kFolder);
  for (const auto& [name, value] : options.environment) ::setenv(name.c_str(), value.c_str(), 1);
  if (!options.randomise) ::personality(static_cast<unsigned long>(::personality(0xffffffff)) | ADDR_NO_RANDOMIZE);
  std::vector<char*> arguments = {const_cast<char*>(options.program.c_str())};
  for (const std::string& argument : options.arguments) arguments.push_back(const_cast<char*>(argument.c_str()));
  arguments.push_back(nullptr);
  ::execv(path.c_str(), arguments.data());
  give_up(problems, LaunchProblem::kExecute);
}

Error launch_error(const LaunchOptions& options, const std::string& path, LaunchProblem problem) {
  const std::string why = std::strerror(problem.error);
  switch (problem.stage) {
    case LaunchProblem::kInput:
      return {Fault::program, options.input + ": cannot be opened as the program's input: " + why};
    case LaunchProblem::kFolder: return {Fault::program, options.folder + ": cannot be entered: " + why};
    case LaunchProblem::kExecute: break;
  }
  return {Fault::program, path + ": cannot be executed: " + why};
}

state::RegisterSet from_kernel(const user_regs_struct& r) {
  return {{r.rax, r.rbx, r.rcx, r.rdx, r.rsi,    r.rdi, r.rbp, r.rsp, r.r8, r.r9, r.r10, r.r11,     r.r12,
           r.r13, r.r14, r.r15, r.rip, r.eflags, r.cs,  r.ss,  r.ds,  r.es, r.fs, r.gs,  r.fs_base, r.gs_base}};
}

bool is_stopping_signal(int signal) {
  return signal == SIGSTOP || signal == SIGTSTP || signal == SIGTTIN || signal == SIGTTOU;
}

}  // namespace

Result<std::unique_ptr<Tracee>> Tracee::launch(const LaunchOptions& options) {
  Result<std::string> found = find_program(options.program);
  if (!found) return found.error();
  char real[PATH_MAX];
  const std::string path = ::realpath(found->c_str(), real) != nullptr ? real : *found;
  int go[2], problems[2];
  if (::pipe2(go, O_CLOEXEC) != 0 || ::pipe2(problems, O_CLOEXEC) != 0)
    return Error{Fault::program, std::string("pipe: ") + std::strerror(errno)};
  const pid_t child = ::fork();
  if (child < 0) return Error{Fault::program, std::string("fork: ") + std::strerror(errno)};
  if (child == 0) {
    ::close(go[1]);
    become(options, path, go[0], problems[1]);
  }
  ::close(go[0]);
  ::close(problems[1]);
  std::unique_ptr<Tracee> tracee(new Tracee(child));
  std::optional<Error> error;
  if (::ptrace(PTRACE_SEIZE, child, nullptr, kOptions) != 0) {
    error = Error{Fault::program, path + ": cannot be traced: " + std::strerror(errno)};
  } else if (::write(go[1], "", 1) != 1) {
    error = Error{Fault::program, path + ": the launched process is gone"};
  }
  ::close(go[1]);
  LaunchProblem problem{};
  if (!error && ::read(problems[0], &problem, sizeof problem) == static_cast<ssize_t>(sizeof problem))
    error = launch_error(options, path, problem);
  ::close(problems[0]);
  if (error) return *error;
  int status = 0;
  while (::waitpid(child, &status, __WALL) < 0 && errno == EINTR) {
  }
  if (!WIFSTOPPED(status) || status >> 8 != (SIGTRAP | (PTRACE_EVENT_EXEC << 8))) {
    tracee->gone_ = !WIFSTOPPED(status);
    return Error{Fault::program, path + ": ended before its first instruction"};
  }
  // At the event the system call has not returned yet, and rax is not what the program will find. An interrupt stops
  // it again behind the call, before its first instruction.
  ::ptrace(PTRACE_INTERRUPT, child, nullptr, nullptr);
  ::ptrace(PTRACE_CONT, child, nullptr, nullptr);
  while (::waitpid(child, &status, __WALL) < 0 && errno == EINTR) {
  }
  if (!WIFSTOPPED(status)) {
    tracee->gone_ = true;
    return Error{Fault::program, path + ": ended before its first instruction"};
  }
  tracee->memory_ = ::open(("/proc/" + std::to_string(child) + "/mem").c_str(), O_RDWR | O_CLOEXEC);
  if (tracee->memory_ < 0)
    return Error{Fault::program, path + ": its memory cannot be opened: " + std::strerror(errno)};
  tracee->fetch_registers();
  return tracee;
}

Tracee::~Tracee() {
  kill();
  if (memory_ >= 0) ::close(memory_);
}

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

void Tracee::read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const {
  constexpr std::size_t kBatch = 16;
  std::size_t first = 0;
  while (first < requests.size()) {
    std::array<iovec, kBatch> local, remote;
    const std::size_t count = std::min(kBatch, requests.size() - first);
    for (std::size_t i = 0; i < count; ++i) {
      const state::MemoryRequest& request = requests[first + i];
      local[i] = {request.into.data(), request.into.size()};
      remote[i] = {reinterpret_cast<void*>(request.address), request.into.size()};
    }
    const ssize_t read = ::process_vm_readv(pid_, local.data(), count, remote.data(), count, 0);
    auto left = static_cast<std::size_t>(std::max<ssize_t>(read, 0));
    std::size_t done = 0;
    for (; done < count; ++done) {
      state::MemoryRequest& request = requests[first + done];
      request.got = std::min(left, request.into.size());
      left -= request.got;
      if (request.got < request.into.size()) break;
    }
    if (done < count) {
      // The rest of this piece through /proc/PID/mem, which also reads pages that the program may not.
      state::MemoryRequest& request = requests[first + done];
      const ssize_t more = ::pread(memory_, request.into.data() + request.got, request.into.size() - request.got,
                                   static_cast<off_t>(request.address + request.got));
      if (more > 0) request.got += static_cast<std::size_t>(more);
      ++done;
    }
    first += done;
  }
  if (provenance == state::Provenance::program && !stops_.empty()) {
    for (const state::MemoryRequest& request : requests) stops_.hide(request.address, request.into.first(request.got));
  }
}

bool Tracee::write_memory(std::uint64_t address, std::span<const std::uint8_t> bytes) {
  return ::pwrite(memory_, bytes.data(), bytes.size(), static_cast<off_t>(address)) ==
         static_cast<ssize_t>(bytes.size());
}

bool Tracee::write_code_byte(std::uint64_t address, std::uint8_t byte) { return write_memory(address, {&byte, 1}); }

bool Tracee::plant(std::uint64_t address) {
  if (stops_.contains(address)) return true;
  std::uint8_t own = 0;
  if (read_memory(address, {&own, 1}) != 1 || !write_code_byte(address, StopBytes::kTrap)) return false;
  stops_.add(address, own);
  return true;
}

void Tracee::lift(std::uint64_t address) {
  if (!stops_.contains(address)) return;
  write_code_byte(address, stops_.own_byte(address));
  stops_.remove(address);
}

void Tracee::lift_all() {
  for (const auto& [address, own] : stops_.all()) write_code_byte(address, own);
  stops_.clear();
}

Stop Tracee::step(int signal, bool may_trap) {
  may_trap_ = may_trap;
  const std::uint64_t at = registers_[state::Reg::rip];
  if (!stops_.contains(at)) return resume(PTRACE_SINGLESTEP, signal);
  write_code_byte(at, stops_.own_byte(at));
  const Stop stop = resume(PTRACE_SINGLESTEP, signal);
  if (!stop.program_is_gone() && stop.kind != Stop::Kind::replaced && stops_.contains(at))
    write_code_byte(at, StopBytes::kTrap);
  return stop;
}

Stop Tracee::run(int signal) {
  if (followed_ > 0 && stops_.contains(registers_[state::Reg::rip])) {
    const Stop stop = step(signal);
    if (stop.kind != Stop::Kind::stepped) return stop;
    if (stops_.contains(registers_[state::Reg::rip])) return {.kind = Stop::Kind::stop_byte};
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
      stops_.clear();
      others_.clear();
      ::close(memory_);
      memory_ = ::open(("/proc/" + std::to_string(pid_) + "/mem").c_str(), O_RDWR | O_CLOEXEC);
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
  if (!stepping && info.si_code == SI_KERNEL && stops_.contains(now - 1)) {
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

/// A forked child has a copy of the memory, stop bytes included: it gets its own bytes back.
void Tracee::let_go(pid_t child) {
  const int memory = ::open(("/proc/" + std::to_string(child) + "/mem").c_str(), O_WRONLY | O_CLOEXEC);
  if (memory >= 0) {
    for (const auto& [address, own] : stops_.all()) (void)!::pwrite(memory, &own, 1, static_cast<off_t>(address));
    ::close(memory);
  }
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
      stops_.contains(raw.rip - 1)) {
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
  write_code_byte(address, stops_.own_byte(address));
  int status = 0;
  int signal = 0;
  ::ptrace(PTRACE_SINGLESTEP, thread, nullptr, nullptr);
  while (::waitpid(thread, &status, __WALL) < 0 && errno == EINTR) {
  }
  if (WIFSTOPPED(status) && WSTOPSIG(status) != SIGTRAP) signal = WSTOPSIG(status);
  write_code_byte(address, StopBytes::kTrap);
  if (WIFSTOPPED(status)) {
    ::ptrace(PTRACE_CONT, thread, nullptr, static_cast<long>(signal));
  } else {
    others_.erase(thread);
  }
  if (held) ::ptrace(static_cast<__ptrace_request>(last_request_), followed_, nullptr, nullptr);
}

}  // namespace deeptrace::process
