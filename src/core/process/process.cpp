#include "process/process.h"

#include <dirent.h>
#include <linux/kcmp.h>
#include <sys/ptrace.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <bit>
#include <cerrno>
#include <csignal>
#include <cstddef>
#include <cstring>
#include <fstream>

#include "process/attention.h"
#include "process/kernel_registers.h"
#include "process/maps.h"
#include "state/execute.h"
#include "state/touched.h"

namespace deeptrace::process {
namespace {

using state::Reg;

constexpr std::uint64_t kTrapFlag = 0x100;
constexpr std::uint64_t kResumeFlag = 0x10000;
constexpr std::size_t kDebugStatus = offsetof(user, u_debugreg) + 8UL * 6;  // where PTRACE_PEEKUSER has DR6
constexpr long kOptions = PTRACE_O_TRACECLONE | PTRACE_O_TRACEFORK | PTRACE_O_TRACEVFORK | PTRACE_O_TRACEVFORKDONE |
                          PTRACE_O_TRACEEXEC | PTRACE_O_TRACEEXIT | PTRACE_O_TRACESYSGOOD;

bool is_stopping_signal(int signal) {
  return signal == SIGSTOP || signal == SIGTSTP || signal == SIGTTIN || signal == SIGTTOU;
}

/// A field of /proc/PID/status as a number in the given base; 0 when it is not there.
std::uint64_t status_field(const std::string& task, const std::string& name, int base) {
  std::ifstream file("/proc/" + task + "/status");
  for (std::string line; std::getline(file, line);) {
    if (line.starts_with(name + ":")) return std::strtoull(line.c_str() + name.size() + 1, nullptr, base);
  }
  return 0;
}

/// True when a signal waits that the thread does not block.
bool signal_waits(pid_t thread) {
  const std::string task = std::to_string(thread);
  const std::uint64_t waiting = status_field(task, "SigPnd", 16) | status_field(task, "ShdPnd", 16);
  return (waiting & ~status_field(task, "SigBlk", 16)) != 0;
}

std::vector<pid_t> tasks_of(pid_t pid) {
  std::vector<pid_t> result;
  DIR* folder = ::opendir(("/proc/" + std::to_string(pid) + "/task").c_str());
  if (folder == nullptr) return result;
  while (const dirent* entry = ::readdir(folder)) {
    if (const pid_t id = std::atoi(entry->d_name); id > 0) result.push_back(id);
  }
  ::closedir(folder);
  return result;
}

/// From the event of an exec on to behind the system call, before the new program's first instruction. Gives the wait
/// status there.
int behind_exec(pid_t pid) {
  int status = 0;
  ::ptrace(PTRACE_INTERRUPT, pid, nullptr, nullptr);
  ::ptrace(PTRACE_CONT, pid, nullptr, nullptr);
  while (::waitpid(pid, &status, __WALL) < 0 && errno == EINTR) {
  }
  return status;
}

Error attach_error(pid_t pid, int error) {
  const std::string what = "process " + std::to_string(pid) + ": ";
  if (error == ESRCH) return {Fault::program, what + "there is no such process"};
  if (const auto tracer = status_field(std::to_string(pid), "TracerPid", 10); tracer != 0)
    return {Fault::program, what + "is already traced, by process " + std::to_string(tracer)};
  return {Fault::program,
          what +
              "may not be traced; it has to belong to the same user, and /proc/sys/kernel/yama/ptrace_scope has to "
              "be 0 (or run as root)"};
}

}  // namespace

// ---- threads and their registers ------------------------------------------------------------------------------------

Process::Thread* Process::find(pid_t id) const {
  for (const auto& thread : threads_) {
    if (thread->id == id) return thread.get();
  }
  return nullptr;
}

Process::Thread& Process::add(pid_t id) {
  threads_.push_back(std::make_unique<Thread>());
  Thread& thread = *threads_.back();
  thread.id = id;
  thread.view = std::make_unique<ThreadView>(*this, id);
  return thread;
}

void Process::remove(pid_t id) {
  if (const Thread* thread = find(id); thread != nullptr && thread->step) memory_.cover(thread->step->before[Reg::rip]);
  std::erase_if(threads_, [id](const auto& thread) { return thread->id == id; });
}

std::vector<pid_t> Process::threads() const {
  std::vector<pid_t> result;
  for (const auto& thread : threads_) {
    if (!thread->shares_memory && !thread->exiting) result.push_back(thread->id);
  }
  return result;
}

const ThreadView& Process::view(pid_t thread) const { return *find(thread)->view; }

const state::RegisterSet& Process::fetch(const Thread& thread) const {
  if (thread.fetched) return thread.registers;
  if (::ptrace(PTRACE_GETREGS, thread.id, nullptr, &thread.raw) == 0) {
    thread.registers = from_kernel(thread.raw);
    thread.registers[Reg::rflags] &= ~kResumeFlag;  // the kernel sets it to go past a debug register of ours
    thread.fetched = true;
  }
  return thread.registers;
}

/// Changed registers are written when the thread goes on: mostly once for several changes.
void Process::store(Thread& thread) {
  to_kernel(thread.registers, thread.raw);
  thread.changed = true;
}

bool Process::flush(Thread& thread) {
  if (!std::exchange(thread.changed, false)) return true;
  return ::ptrace(PTRACE_SETREGS, thread.id, nullptr, &thread.raw) == 0;
}

std::span<const std::uint8_t> Process::code_at_hand(Thread& thread) {
  const std::uint64_t at = fetch(thread)[Reg::rip];
  if (thread.code_at != at) {
    thread.code_size = memory_.read(at, thread.code);
    thread.code_at = at;
  }
  return {thread.code, thread.code_size};
}

bool Process::set_registers(pid_t id, const state::RegisterSet& registers) {
  Thread* thread = find(id);
  if (thread == nullptr) return false;
  const std::uint64_t before = fetch(*thread)[Reg::rip];
  thread->registers = registers;
  // A system call that was broken off must not begin again from another place.
  if (registers[Reg::rip] != before) thread->raw.orig_rax = ~0ULL;
  store(*thread);
  const bool done = flush(*thread);
  thread->fetched = false;
  return done;
}

bool Process::set_extended(pid_t thread, const state::ExtendedSet& registers) {
  return process::set_extended(thread, registers);
}

isa::Mode ThreadView::mode() const {
  constexpr std::uint64_t kCode32 = 0x23;  // the selector of 32-bit code in Linux
  return registers()[Reg::cs] == kCode32 ? isa::Mode::bits32 : isa::Mode::bits64;
}
const state::RegisterSet& ThreadView::registers() const { return process_.fetch(*process_.find(thread_)); }
std::optional<state::ExtendedSet> ThreadView::extended() const { return extended_of(thread_); }

std::optional<std::uint64_t> Process::system_call(pid_t id) const {
  const Thread* thread = find(id);
  if (thread == nullptr) return std::nullopt;
  fetch(*thread);
  const auto result = static_cast<std::int64_t>(thread->raw.rax);
  constexpr std::int64_t kRestart = -512, kRestartBlock = -516, kNotYet = -ENOSYS;
  const bool inside = (result <= kRestart && result >= kRestartBlock) || (thread->in_call && result == kNotYet);
  if (static_cast<std::int64_t>(thread->raw.orig_rax) < 0 || !(inside || thread->in_call)) return std::nullopt;
  return thread->raw.orig_rax;
}

void Process::deliver(pid_t id, int signal) {
  if (Thread* thread = find(id)) thread->signal = signal;
}
int Process::signal_of(pid_t id) const {
  const Thread* thread = find(id);
  return thread != nullptr ? thread->signal : 0;
}
void Process::told(pid_t id) {
  if (Thread* thread = find(id)) thread->told = fetch(*thread)[Reg::rip];
}

// ---- beginning and end ----------------------------------------------------------------------------------------------

Process::Process(pid_t pid, bool attached, std::shared_ptr<Family> family)
    : pid_(pid), attached_(attached), family_(std::move(family)) {
  family_->members.push_back(this);
}

Result<std::unique_ptr<Process>> Process::launch(const LaunchOptions& options) {
  const Result<pid_t> child = launch_seized(options, kOptions | PTRACE_O_EXITKILL);
  if (!child) return child.error();
  std::unique_ptr<Process> process(new Process(*child, false, std::make_shared<Family>()));
  process->add(*child);
  if (!process->memory_.open(*child))
    return Error{Fault::program, options.program + ": its memory cannot be opened: " + std::strerror(errno)};
  return process;
}

Result<std::unique_ptr<Process>> Process::attach(pid_t pid) {
  if (pid <= 0 || ::kill(pid, 0) != 0) {
    if (pid <= 0 || errno == ESRCH) return attach_error(pid, ESRCH);
  }
  if (const auto group = status_field(std::to_string(pid), "Tgid", 10); group != static_cast<std::uint64_t>(pid))
    return Error{Fault::program, "process " + std::to_string(pid) + ": is a thread of process " +
                                     std::to_string(group) + "; attach to that"};
  std::unique_ptr<Process> process(new Process(pid, true, std::make_shared<Family>()));
  // Threads may start others while they are taken one by one; those of threads that are traced already come by events.
  for (bool again = true; again;) {
    again = false;
    for (const pid_t id : tasks_of(pid)) {
      if (process->find(id) != nullptr) continue;
      if (::ptrace(PTRACE_SEIZE, id, nullptr, kOptions) != 0) {
        if (id != pid) continue;  // it ended, or came as a thread's child
        process->gone_ = true;    // nothing to let go
        return attach_error(pid, errno);
      }
      process->add(id).running = true;
      again = true;
    }
  }
  if (!process->memory_.open(pid)) return attach_error(pid, errno);
  process->hold_all();
  if (process->end_)
    return Error{Fault::program, "process " + std::to_string(pid) + ": ended while it was attached to"};
  return process;
}

Process::~Process() {
  attached_ ? detach() : kill();
  std::erase(family_->members, this);
}

void Process::kill() {
  if (gone_) return;
  ::kill(pid_, SIGKILL);
  for (const auto& thread : threads_) {
    if (thread->shares_memory) ::kill(thread->id, SIGKILL);
  }
  int status = 0;
  for (;;) {
    const pid_t thread = ::waitpid(-1, &status, __WALL | __WNOTHREAD);
    if (thread < 0 && errno != EINTR) break;
    if (thread == pid_ && !WIFSTOPPED(status)) break;
    if (thread > 0 && WIFSTOPPED(status)) ::ptrace(PTRACE_CONT, thread, nullptr, SIGKILL);
  }
  gone_ = true;
}

void Process::detach() {
  if (gone_) return;
  // A thread that waits for its vfork child can be let go only when that is done.
  const auto waits = [](const auto& thread) { return thread->in_vfork; };
  while (!gone_ && std::ranges::any_of(threads_, waits)) {
    // What others have to tell meanwhile is kept.
    if (const std::optional<Event> event = wait_any()) keep(*event);
  }
  children_.clear();
  for (std::size_t i = 0; i < threads_.size(); ++i) {
    if (threads_[i]->shares_memory) hold(*threads_[i]);
  }
  hold_all();
  if (gone_) return;
  for (auto& slot : slots_) slot.reset();
  memory_.lift_all();
  for (auto& thread : threads_) {
    if (!thread->shares_memory) set_slots(*thread);
    flush(*thread);
    if (!thread->exiting) ::ptrace(PTRACE_DETACH, thread->id, nullptr, static_cast<long>(thread->signal));
  }
  threads_.clear();
  gone_ = true;
}

// ---- waiting --------------------------------------------------------------------------------------------------------

/// The next wait status of any process; negative as waitpid has it.
pid_t Process::next_status(int& status) {
  std::size_t running = 0;
  for (const auto& thread : threads_) running += thread->running ? 1 : 0;
  Patience& patience = family_->patience;
  patience.begin(running);
  pid_t id = 0;
  do {
    id = ::waitpid(-1, &status, __WALL | __WNOTHREAD | (patience.awake() ? WNOHANG : 0));
  } while (id == 0);
  patience.end();
  return id;
}

std::optional<Event> Process::wait_any() {
  for (;;) {
    int status = 0;
    pid_t id = 0;
    const auto kept =
        std::ranges::find_if(family_->early, [this](const auto& one) { return find(one.first) != nullptr; });
    if (kept != family_->early.end()) {
      id = kept->first;
      status = kept->second;
      family_->early.erase(kept);
    } else {
      id = next_status(status);
    }
    if (id > 0 && find(id) == nullptr) {
      const auto owner =
          std::ranges::find_if(family_->members, [id](const Process* one) { return one->find(id) != nullptr; });
      if (owner == family_->members.end()) {
        if (WIFSTOPPED(status)) family_->early[id] = status;
      } else if (const std::optional<Event> event = (*owner)->take(id, status)) {
        (*owner)->keep(*event);
      }
      return std::nullopt;
    }
    if (id > 0) return take(id, status);
    if (errno != EINTR) {  // nobody is left to wait for
      gone_ = true;
      end_ = Event{.kind = Event::Kind::killed, .thread = pid_, .number = SIGKILL};
      return end_;
    }
    if (Attention::asked() != Attention::Why::none) return Event{.kind = Event::Kind::attention, .thread = pid_};
  }
}

/// An event that nobody waits for now is shown at the next run.
void Process::keep(const Event& event) {
  if (event.program_is_gone()) return;  // end_ has it
  if (Thread* thread = find(event.thread)) {
    thread->kept = event;
  } else {
    loose_.push_back(event);
  }
}

/// What a wait status of a thread of ours means; nothing when it was dealt with.
std::optional<Event> Process::take(pid_t id, int status) {
  const std::optional<Event> event = event_of(*find(id), status);
  if (Thread* thread = event ? find(id) : nullptr) end_step(*thread, *event);
  return event;
}

std::optional<Event> Process::event_of(Thread& thread, int status) {
  thread.running = false;
  thread.fetched = false;
  if (!WIFSTOPPED(status)) return take_end(thread, status);
  if (thread.shares_memory) {
    serve_sharing(thread, status);
    return std::nullopt;
  }
  if (static_cast<unsigned>(status) >> 16 != 0) return take_ptrace_event(thread, status);
  const int signal = WSTOPSIG(status);
  if (signal == (SIGTRAP | 0x80)) {
    __ptrace_syscall_info info{};
    ::ptrace(PTRACE_GET_SYSCALL_INFO, thread.id, sizeof info, &info);
    thread.in_call = info.op == PTRACE_SYSCALL_INFO_ENTRY;
    if (thread.in_call) clear_status(thread);  // what the kernel writes from here on is told from what was before
    if (!how_.system_calls && !how_.stepping) return std::nullopt;
    fetch(thread);
    return Event{.kind = thread.in_call ? Event::Kind::call_entry : Event::Kind::call_exit,
                 .thread = thread.id,
                 .number = static_cast<int>(thread.raw.orig_rax)};
  }
  thread.in_call = false;
  if (signal == SIGTRAP) return take_trap(thread);
  return take_signal(thread, signal);
}

std::optional<Event> Process::take_end(Thread& thread, int status) {
  const pid_t id = thread.id;
  const bool sharing = thread.shares_memory;
  remove(id);
  if (id == pid_) {
    gone_ = true;
    end_ = WIFEXITED(status) ? Event{.kind = Event::Kind::exited, .thread = id, .number = WEXITSTATUS(status)}
                             : Event{.kind = Event::Kind::killed, .thread = id, .number = WTERMSIG(status)};
    return end_;
  }
  if (sharing) return std::nullopt;
  return Event{.kind = Event::Kind::thread_ended, .thread = id};
}

Event Process::take_signal(Thread& thread, int signal) {
  siginfo_t info{};
  ::ptrace(PTRACE_GETSIGINFO, thread.id, nullptr, &info);
  thread.signal = signal;
  Event event{.kind = Event::Kind::signal, .thread = thread.id, .number = signal};
  const bool fault = signal == SIGSEGV || signal == SIGBUS || signal == SIGFPE || signal == SIGILL;
  if (fault && info.si_code > 0) {
    event.by_instruction = true;
    event.fault_address = reinterpret_cast<std::uint64_t>(info.si_addr);
    event.fault_address_known = info.si_code != SI_KERNEL;
  }
  return event;
}

/// True for a thread that a signal handler brought back to the stop byte where it stood when the signal came.
bool Process::returns_to_told(Thread& thread) {
  const std::uint64_t at = thread.registers[Reg::rip], stack = thread.registers[Reg::rsp];
  // A frame that was left otherwise comes back no more.
  std::erase_if(owed_, [&](const Owed& owed) { return owed.thread == thread.id && owed.stack < stack; });
  const auto found = std::ranges::find_if(
      owed_, [&](const Owed& owed) { return owed.thread == thread.id && owed.address == at && owed.stack == stack; });
  if (found == owed_.end()) return false;
  owed_.erase(found);
  thread.told = at;
  return true;
}

/// SIGTRAP has five sources: a finished step, a stop byte, a debug register, the program's own trap instruction, or
/// somebody's kill().
std::optional<Event> Process::take_trap(Thread& thread) {
  siginfo_t info{};
  ::ptrace(PTRACE_GETSIGINFO, thread.id, nullptr, &info);
  if (info.si_code == SI_KERNEL && thread.request != PTRACE_SINGLESTEP &&
      memory_.is_planted(fetch(thread)[Reg::rip] - 1)) {
    --thread.registers[Reg::rip];
    store(thread);
    if (returns_to_told(thread)) return std::nullopt;
    return Event{.kind = Event::Kind::stop_byte, .thread = thread.id};
  }
  const bool stepping = thread.request == PTRACE_SINGLESTEP;
  const bool armed = std::ranges::any_of(slots_, [](const auto& slot) { return slot.has_value(); });
  // The only debug register in use needs no status to be told.
  if (const unsigned only = only_slot(); only != 0 && !stepping && info.si_code == TRAP_HWBKPT) {
    thread.status_stale = true;
    return Event{.kind = Event::Kind::debug_register, .thread = thread.id, .slots = only};
  }
  const unsigned slots = armed && info.si_code != SI_USER && info.si_code != SI_TKILL ? triggered(thread) : 0;
  // Step codes: TRAP_TRACE after an instruction, TRAP_BRKPT behind a system call, SIGTRAP at a handler's entry.
  if (stepping && (info.si_code == TRAP_TRACE || info.si_code == TRAP_BRKPT || info.si_code == SIGTRAP))
    return Event{.kind = Event::Kind::stepped, .thread = thread.id, .slots = slots};
  if (slots != 0) return Event{.kind = Event::Kind::debug_register, .thread = thread.id, .slots = slots};
  Event event = take_signal(thread, SIGTRAP);
  event.by_instruction = info.si_code == SI_KERNEL || info.si_code == TRAP_BRKPT;
  return event;
}

std::optional<Event> Process::take_ptrace_event(Thread& thread, int status) {
  const auto event = static_cast<unsigned>(status) >> 16;
  unsigned long child = 0;
  switch (event) {
    case PTRACE_EVENT_VFORK: thread.in_vfork = true; [[fallthrough]];
    case PTRACE_EVENT_CLONE:
    case PTRACE_EVENT_FORK:
      thread.in_call = true;
      ::ptrace(PTRACE_GETEVENTMSG, thread.id, nullptr, &child);
      adopt(static_cast<pid_t>(child), thread);
      // What is waited for inside the call cannot be interrupted; so it goes on at once.
      if (thread.in_vfork) resume(thread, thread.request);
      return std::nullopt;
    case PTRACE_EVENT_VFORK_DONE: thread.in_vfork = false; return std::nullopt;
    case PTRACE_EVENT_EXIT:
      thread.exiting = true;
      ::ptrace(PTRACE_CONT, thread.id, nullptr, nullptr);
      thread.running = true;
      return std::nullopt;
    case PTRACE_EVENT_EXEC: {
      // All other threads are gone, and the one that called has the process's number now.
      threads_.clear();
      std::erase_if(family_->early, [](const auto& one) { return ::kill(one.first, 0) != 0; });
      for (auto& slot : slots_) slot.reset();
      memory_.forget_stops();
      memory_.open(pid_);
      Thread& only = add(pid_);
      only.request = PTRACE_CONT;
      const int next = behind_exec(pid_);
      if (!WIFSTOPPED(next)) return take_end(only, next);
      return Event{.kind = Event::Kind::replaced, .thread = pid_};
    }
    case PTRACE_EVENT_STOP: thread.group_stopped = is_stopping_signal(WSTOPSIG(status)); return std::nullopt;
    default: return std::nullopt;
  }
}

/// A new child stands at its start. Threads become ours; a process that shares memory is followed to its exec; a forked
/// one is traced or let go.
void Process::adopt(pid_t child, Thread& parent) {
  if (const auto kept = family_->early.find(child); kept != family_->early.end()) {
    family_->early.erase(kept);
  } else {
    int status = 0;
    while (::waitpid(child, &status, __WALL) < 0 && errno == EINTR) {
    }
    if (!WIFSTOPPED(status)) return;
  }
  const bool is_thread = status_field(std::to_string(child), "Tgid", 10) == static_cast<std::uint64_t>(pid_);
  if (!is_thread && ::syscall(SYS_kcmp, pid_, child, KCMP_VM, 0, 0) != 0) return bear(child, parent);
  Thread& thread = add(child);
  thread.request = PTRACE_CONT;
  thread.shares_memory = !is_thread;
  if (thread.shares_memory) return resume(thread, PTRACE_CONT);
  set_slots(thread);
}

/// A forked child has a copy of everything but the debug registers.
void Process::bear(pid_t child, const Thread& parent) {
  std::unique_ptr<Process> born(new Process(child, attached_, family_));
  Thread& thread = born->add(child);
  thread.request = PTRACE_CONT;
  if (parent.request == PTRACE_SINGLESTEP) {
    // Our trap flag is in the copy that `syscall` made of the flags.
    born->fetch(thread);
    if ((thread.registers[Reg::rflags] & kTrapFlag) == 0) thread.registers[Reg::r11] &= ~kTrapFlag;
    born->store(thread);
  }
  const bool opened = born->memory_.open(child);
  if (opened) born->memory_.inherit(memory_.stops());
  if (!opened || !children_traced_) return born->detach();
  born->children_traced_ = true;
  born->forked_by_ = parent.id;
  std::ranges::copy(slots_, born->slots_);
  born->set_slots(thread);
  for (Owed owed : owed_) {
    if (owed.thread != parent.id) continue;
    owed.thread = child;
    born->owed_.push_back(owed);
  }
  children_.push_back(std::move(born));
}

/// A child that shared our memory has its own program now: it stands at the event of its exec.
void Process::bear_fresh(pid_t child) {
  std::unique_ptr<Process> born(new Process(child, attached_, family_));
  Thread& thread = born->add(child);
  if (!children_traced_ || !born->memory_.open(child)) return born->detach();
  thread.request = PTRACE_CONT;
  if (const int status = behind_exec(child); !WIFSTOPPED(status)) {
    (void)born->take_end(thread, status);
    return;
  }
  born->children_traced_ = true;
  born->fresh_ = true;
  children_.push_back(std::move(born));
}

std::unique_ptr<Process> Process::take_child() {
  if (children_.empty()) return nullptr;
  std::unique_ptr<Process> child = std::move(children_.front());
  children_.erase(children_.begin());
  return child;
}

/// A child that shares the program's memory: it runs on whatever happens, until it has memory of its own.
void Process::serve_sharing(Thread& thread, int status) {
  const auto event = static_cast<unsigned>(status) >> 16;
  const int signal = WSTOPSIG(status);
  unsigned long child = 0;
  switch (event) {
    case PTRACE_EVENT_EXEC: {
      const pid_t id = thread.id;
      remove(id);
      return bear_fresh(id);
    }
    case PTRACE_EVENT_CLONE:
    case PTRACE_EVENT_FORK:
    case PTRACE_EVENT_VFORK:
      ::ptrace(PTRACE_GETEVENTMSG, thread.id, nullptr, &child);
      adopt(static_cast<pid_t>(child), thread);
      break;
    case PTRACE_EVENT_STOP:
      if (is_stopping_signal(signal)) {
        thread.running = true;
        ::ptrace(PTRACE_LISTEN, thread.id, nullptr, nullptr);
        return;
      }
      break;
    case 0: {
      const std::uint64_t now = fetch(thread)[Reg::rip];
      if (signal == SIGTRAP && memory_.is_planted(now - 1)) {
        // Its parent waits; other threads could run through the place for a moment.
        thread.registers[Reg::rip] = now - 1;
        store(thread);
        flush(thread);
        memory_.uncover(now - 1);
        int next = 0;
        ::ptrace(PTRACE_SINGLESTEP, thread.id, nullptr, nullptr);
        while (::waitpid(thread.id, &next, __WALL) < 0 && errno == EINTR) {
        }
        memory_.cover(now - 1);
        if (!WIFSTOPPED(next)) return remove(thread.id);
        if (WSTOPSIG(next) != SIGTRAP) thread.signal = WSTOPSIG(next);
        if (static_cast<unsigned>(next) >> 16 != 0) return serve_sharing(thread, next);
      } else if (signal != (SIGTRAP | 0x80)) {
        thread.signal = signal;
      }
      break;
    }
    default: break;
  }
  resume(thread, PTRACE_CONT);
}

// ---- going on -------------------------------------------------------------------------------------------------------

void Process::resume(Thread& thread, int request) {
  flush(thread);
  thread.request = request;
  thread.running = true;
  thread.fetched = false;
  thread.code_at = ~std::uint64_t(0);
  if (thread.slots_due) set_slots(thread);
  if (request == PTRACE_SINGLESTEP) clear_status(thread);
  if (thread.group_stopped) {
    ::ptrace(PTRACE_LISTEN, thread.id, nullptr, nullptr);
    return;
  }
  ::ptrace(static_cast<__ptrace_request>(request), thread.id, nullptr,
           static_cast<long>(std::exchange(thread.signal, 0)));
}

/// False for a stop byte that was lifted, or left behind, since it was hit.
bool Process::worth_telling(const Thread& thread, const Event& event) const {
  return event.kind != Event::Kind::stop_byte || memory_.is_planted(fetch(thread)[Reg::rip]);
}

void Process::beside(const Running& how, Visit visit) {
  how_ = how;
  announced_ = 0;
  beside_ = std::move(visit);
}

bool Process::may_run(const Thread& thread) const {
  return !thread.running && !thread.shares_memory && !thread.exiting && (how_.only == 0 || thread.id == how_.only);
}

/// What came earlier and is to be shown before anything runs on.
std::optional<Event> Process::kept_event() {
  if (!loose_.empty()) {
    const Event event = loose_.front();
    loose_.erase(loose_.begin());
    return event;
  }
  if (!children_.empty()) return Event{.kind = Event::Kind::child, .thread = pid_, .number = children_.front()->pid_};
  for (const auto& thread : threads_) {
    if (!may_run(*thread) || !thread->kept) continue;
    const Event event = *std::exchange(thread->kept, std::nullopt);
    if (worth_telling(*thread, event)) return event;
  }
  return std::nullopt;
}

/// An event that needs no waiting; or else everything that may run runs.
std::optional<Event> Process::at_hand() {
  for (;;) {
    if (end_) return end_;
    if (steps_under_way()) return std::nullopt;
    if (const std::optional<Event> event = kept_event()) return event;
    if (how_.stepping) return step_in_turn();
    bool again = false;
    for (std::size_t i = 0; i < threads_.size(); ++i) {
      Thread& thread = *threads_[i];
      if (!may_run(thread) || !thread.told) continue;
      const std::uint64_t at = fetch(thread)[Reg::rip];
      if (std::exchange(thread.told, std::nullopt) != at) continue;
      pass_slot(thread, at);
      if (!memory_.is_planted(at) || carry_out(thread)) continue;
      thread.told = at;
      again = true;  // threads may have come and gone
      const bool others_run = std::ranges::any_of(threads_, [](const auto& one) {
        return one->running && !one->shares_memory && !one->in_vfork && !one->exiting;
      });
      if (others_run) {
        hold_all();  // they could run through the place while its stop byte is away
      } else if (const std::optional<Event> event = go_over(thread)) {
        return event;
      }
      break;
    }
    if (again) continue;
    bool standing = false;
    for (const auto& thread : threads_) {
      if (!may_run(*thread) || thread->kept) continue;
      if (thread->told && memory_.is_planted(*thread->told)) {
        standing = true;  // one after the other
        continue;
      }
      thread->told.reset();
      resume(*thread, how_.system_calls ? PTRACE_SYSCALL : PTRACE_CONT);
    }
    if (!standing) return std::nullopt;
  }
}

/// The same for the other processes of the family; their own visitors are shown what there is.
Process::Turn Process::others_at_hand() {
  for (std::size_t i = 0; i < family_->members.size(); ++i) {
    Process& other = *family_->members[i];
    if (&other == this || !other.beside_ || other.end_shown_) continue;
    const std::optional<Event> event = other.at_hand();
    if (!event) continue;
    other.end_shown_ = event->program_is_gone();
    return other.show(*event, other.beside_) == Answer::hold ? Turn::held : Turn::shown;
  }
  return Turn::nothing;
}

Process::Answer Process::show(const Event& event, const Visit& visit) {
  const std::size_t before = children_.size();
  const Answer answer = visit(event);
  if (event.kind == Event::Kind::child && children_.size() == before) take_child()->detach();
  return answer;
}

Event Process::run(const Running& how, const Visit& visit) {
  how_ = how;
  announced_ = 0;
  for (;;) {
    // Events that come without a pause leave no wait to be interrupted.
    if (!end_ && Attention::asked() != Attention::Why::none) {
      hold_family();
      return end_ ? *end_ : Event{.kind = Event::Kind::attention, .thread = pid_};
    }
    std::optional<Event> event = at_hand();
    if (!event && how.only == 0) {
      const Turn turn = others_at_hand();
      if (turn == Turn::held) {
        hold_family();
        return Event{.kind = Event::Kind::elsewhere, .thread = pid_};
      }
      if (turn == Turn::shown) continue;
    }
    if (!event) event = wait_any();
    if (!event) continue;
    if (event->kind == Event::Kind::attention) {
      hold_family();
      return end_ ? *end_ : *event;
    }
    if (event->program_is_gone()) {
      hold_family();
      (void)show(*event, visit);
      return *event;
    }
    if (steps_under_way()) {
      keep(*event);  // the step's own event comes first: it belongs to what was announced
      continue;
    }
    const Answer answer = show(*event, visit);
    if (answer == Answer::hold) {
      hold_family();
      return *event;
    }
  }
}

/// Waits for what a thread's resumption brings, while no other thread of the program runs.
Event Process::wait_step(Thread& first, int request) {
  const pid_t id = first.id;
  resume(first, request);
  for (;;) {
    std::optional<Event> event = wait_any();
    Thread* thread = find(id);
    if (end_) return *end_;
    if (event && event->kind == Event::Kind::attention) {
      if (thread != nullptr && thread->running) hold(*thread);
      if (end_) return *end_;
      thread = find(id);
      if (thread != nullptr && thread->kept) return *std::exchange(thread->kept, std::nullopt);
      return *event;
    }
    if (event && event->thread == id) return *event;
    if (event) {
      keep(*event);
      continue;
    }
    if (thread != nullptr && !thread->running) resume(*thread, request);
  }
}

/// The single step that takes a thread over the stop byte where it stands; what else came of it, if anything.
std::optional<Event> Process::go_over(Thread& thread) {
  const Event event = step(thread.id);
  if (event.kind != Event::Kind::stepped) return event;
  if (event.slots == 0) return std::nullopt;
  Event slots = event;
  slots.kind = Event::Kind::debug_register;
  return slots;
}

Event Process::step(pid_t id) {
  if (end_) return *end_;
  Thread* thread = find(id);
  if (thread->kept) {
    const Event event = *std::exchange(thread->kept, std::nullopt);
    if (worth_telling(*thread, event) && event.kind != Event::Kind::stepped) return event;
  }
  begin_step(*thread);
  return wait_step(*thread, PTRACE_SINGLESTEP);
}

void Process::begin_step(Thread& thread) {
  const state::RegisterSet& before = fetch(thread);
  const std::uint64_t at = before[Reg::rip];
  const bool told = std::exchange(thread.told, std::nullopt) == at;
  thread.step = Thread::Step{.before = before,
                             .instruction = isa::decode(code_at_hand(thread), thread.view->mode()),
                             .handled = thread.signal != 0 && catches_signal(pid_, thread.signal),
                             .was_told = told};
  if (told) pass_slot(thread, at);
  memory_.uncover(at);
}

/// The stop byte comes back, and what stepping left in the program's state goes.
void Process::end_step(Thread& thread, const Event& event) {
  if (!thread.step || event.kind == Event::Kind::replaced || gone_) return;
  const Thread::Step step = *std::exchange(thread.step, std::nullopt);
  const std::uint64_t at = step.before[Reg::rip];
  memory_.cover(at);
  if (event.kind != Event::Kind::stepped) {
    const bool still = event.kind != Event::Kind::call_entry && event.kind != Event::Kind::call_exit;
    if (still && step.was_told && fetch(thread)[Reg::rip] == at) thread.told = at;
    return;
  }
  if (step.handled) {
    // The handler is entered; behind it the thread comes back to a stop byte that has been told.
    if (step.was_told) owed_.push_back({thread.id, at, step.before[Reg::rsp]});
    return;
  }
  if (!step.instruction) return;
  hide_trap_flag(thread, step.before, step.instruction);
  // The next repetition of the same string instruction is no new arrival.
  if (step.was_told && isa::is_repeated(step.instruction) && fetch(thread)[Reg::rip] == at) thread.told = at;
}

/// True while a thread executes an instruction; those inside system calls are not waited for.
bool Process::steps_under_way() const {
  return std::ranges::any_of(threads_, [](const auto& thread) { return thread->running && thread->step; });
}

/// The next thread's instruction, announced before it is executed. System calls run from entry to exit without the trap
/// flag, while other threads go on.
std::optional<Event> Process::step_in_turn() {
  for (const auto& thread : threads_) {
    if (!may_run(*thread) || thread->kept || !system_call(thread->id)) continue;
    if (thread->signal == 0 || !catches_signal(pid_, thread->signal)) resume(*thread, PTRACE_SYSCALL);
  }
  const auto ready = [&](const auto& thread) { return may_run(*thread) && !thread->kept; };
  const auto last = std::ranges::find_if(threads_, [&](const auto& one) { return one->id == last_stepped_; });
  auto next = last == threads_.end() ? last : std::find_if(last + 1, threads_.end(), ready);
  if (next == threads_.end()) next = std::ranges::find_if(threads_, ready);
  if (next == threads_.end()) return std::nullopt;
  Thread& thread = **next;
  const std::uint64_t at = fetch(thread)[Reg::rip];
  if (memory_.is_planted(at) && thread.told != at) return Event{.kind = Event::Kind::stop_byte, .thread = thread.id};
  if (std::exchange(announced_, thread.id) != thread.id)
    return Event{.kind = Event::Kind::about_to_step, .thread = thread.id};
  announced_ = 0;
  last_stepped_ = thread.id;
  begin_step(thread);
  const bool call = thread.step->instruction && isa::flow_of(thread.step->instruction) == isa::ControlFlow::system;
  resume(thread, call && !thread.step->handled ? PTRACE_SYSCALL : PTRACE_SINGLESTEP);
  return std::nullopt;
}

/// A debug register that was told lets its instruction pass once (the resume flag, Intel SDM volume 3, 18.3.1.1). The
/// kernel sets the flag at the trap; it is missing where the thread came by a step, or its registers were changed.
void Process::pass_slot(Thread& thread, std::uint64_t at) {
  const bool here = std::ranges::any_of(
      slots_, [at](const auto& slot) { return slot && slot->on == DebugSlot::On::execution && slot->address == at; });
  if (!here || (thread.raw.eflags & kResumeFlag) != 0) return;
  thread.raw.eflags |= kResumeFlag;
  thread.changed = true;
}

/// True when a debug register watches any of the memory.
bool Process::meets_slot(const state::Touched& touched) const {
  for (const auto& slot : slots_) {
    if (!slot || slot->on == DebugSlot::On::execution) continue;
    if (!touched.complete) return true;
    for (const state::TouchedRange& range : touched) {
      if (range.address < slot->address + slot->size && slot->address < range.address + range.size) return true;
    }
  }
  return false;
}

/// Carries out the instruction under a stop byte by its meaning, so that nobody has to be held and nothing stepped.
/// False when it has to run on the processor.
bool Process::carry_out(Thread& thread) {
  if (thread.signal != 0) return false;
  const state::RegisterSet& registers = fetch(thread);
  if ((registers[Reg::rflags] & kTrapFlag) != 0) return false;
  const isa::Instruction instruction = isa::decode(code_at_hand(thread), thread.view->mode());
  if (!instruction || isa::is_repeated(instruction)) return false;          // one repetition is not the whole of it
  if (meets_slot(state::touched_by(instruction, registers))) return false;  // the processor has to see the access
  const state::Outcome outcome = state::execute(instruction, *thread.view);
  const bool certain = outcome.ending == state::Ending::done && outcome.undefined_flags == 0 &&
                       outcome.undefined_registers == 0 && !outcome.store.undefined;
  if (!certain) return false;
  if (outcome.store.size != 0) {
    // Beside other threads a store has to be as whole as the processor's.
    if (threads_.size() > 1) return false;
    if (memory_.stops().overlap(outcome.store.address, outcome.store.size)) return false;
    if (!memory_.write_as_program(outcome.store.address, {outcome.store.bytes.data(), outcome.store.size}))
      return false;
  }
  thread.registers = outcome.registers;
  store(thread);
  return true;
}

void Process::hold(Thread& thread) {
  if (!thread.running || thread.in_vfork || thread.exiting) return;
  const pid_t id = thread.id;
  if (::ptrace(PTRACE_INTERRUPT, id, nullptr, nullptr) != 0) return;
  while (find(id) == &thread && thread.running && !thread.exiting && !thread.in_vfork) {
    int status = 0;
    const auto kept = family_->early.find(id);
    if (kept != family_->early.end()) {
      status = kept->second;
      family_->early.erase(kept);
    } else if (::waitpid(id, &status, __WALL) < 0) {
      if (errno == EINTR) continue;
      return;
    }
    const bool plain = WIFSTOPPED(status) && static_cast<unsigned>(status) >> 16 == PTRACE_EVENT_STOP;
    const std::optional<Event> event = take(id, status);
    if (find(id) != &thread) return;
    if (event) {
      thread.kept = event;
    } else if (plain) {
      undo_interruption(thread);
      if (trap_waits(thread)) resume(thread, thread.request);  // comes to rest again at once, with the trap told
    }
  }
  if (!thread.running) end_step(thread, {.kind = Event::Kind::attention, .thread = id});  // not done yet: begins anew
}

/// The stop that holds a thread comes before the trap of a step, stop byte or debug register that it has just met. The
/// trap has to be taken now: what it belongs to may be gone when the thread goes on.
bool Process::trap_waits(Thread& thread) {
  const bool armed = std::ranges::any_of(slots_, [](const auto& slot) { return slot.has_value(); });
  const bool met = thread.request == PTRACE_SINGLESTEP || memory_.is_planted(fetch(thread)[Reg::rip] - 1) ||
                   (armed && triggered(thread, false) != 0);
  if (!met) return false;
  constexpr std::uint64_t kTrap = std::uint64_t(1) << (SIGTRAP - 1);
  return (status_field(std::to_string(thread.id), "SigPnd", 16) & kTrap) != 0;
}

void Process::hold_all() {
  for (std::size_t i = 0; i < threads_.size() && !gone_;) {
    const pid_t id = threads_[i]->id;
    if (!threads_[i]->shares_memory) hold(*threads_[i]);
    // The list may have lost this one, or gained others at its end.
    if (i < threads_.size() && threads_[i]->id == id) ++i;
  }
}

void Process::hold_family() {
  for (std::size_t i = 0; i < family_->members.size(); ++i) family_->members[i]->hold_all();
}

/// Some system calls give up with EINTR when their thread is stopped, though no signal reached it: they begin again.
void Process::undo_interruption(Thread& thread) {
  fetch(thread);
  if (static_cast<std::int64_t>(thread.raw.orig_rax) < 0 || static_cast<std::int64_t>(thread.raw.rax) != -EINTR) return;
  if (signal_waits(thread.id)) return;
  constexpr std::uint64_t kCallSize = 2;  // bytes of syscall, int 0x80 and sysenter
  restarted_.push_back(thread.raw.orig_rax);
  thread.registers[Reg::rax] = thread.raw.orig_rax;
  thread.registers[Reg::rip] -= kCallSize;
  thread.raw.orig_rax = ~0ULL;
  store(thread);
}

/// A single-stepped instruction that stores the flags stores the trap flag with them (pushf in memory, syscall in r11).
void Process::hide_trap_flag(Thread& thread, const state::RegisterSet& before, const isa::Instruction& instruction) {
  if ((before[Reg::rflags] & kTrapFlag) != 0) return;
  if (isa::flow_of(instruction) == isa::ControlFlow::system) {
    if ((isa::row_of(instruction).traits & isa::kGate) != 0) return;
    if (fetch(thread)[Reg::rip] != before[Reg::rip] + instruction.length) return;
    if ((thread.registers[Reg::r11] & kTrapFlag) == 0) return;
    thread.registers[Reg::r11] &= ~kTrapFlag;
    store(thread);
    return;
  }
  if ((isa::row_of(instruction).traits & isa::kFlagImage) == 0) return;
  const std::uint64_t second_byte = fetch(thread)[Reg::rsp] + 1;
  std::uint8_t byte = 0;
  if (memory_.read(second_byte, {&byte, 1}) != 1) return;
  byte &= static_cast<std::uint8_t>(~(kTrapFlag >> 8));
  memory_.write(second_byte, {&byte, 1});
}

// ---- debug registers ------------------------------------------------------------------------------------------------

void Process::set_slots(Thread& thread) {
  const auto put = [&](unsigned number, std::uint64_t value) {
    return ::ptrace(PTRACE_POKEUSER, thread.id, offsetof(user, u_debugreg) + 8UL * number, value) == 0;
  };
  std::uint64_t control = 0;
  clear_status(thread);
  put(7, 0);
  for (unsigned i = 0; i < kDebugSlots; ++i) {
    if (!slots_[i]) continue;
    put(i, slots_[i]->address);
    const std::uint64_t size = slots_[i]->size == 8 ? 2 : slots_[i]->size - 1;
    control |=
        std::uint64_t(1) << (2 * i) | static_cast<std::uint64_t>(slots_[i]->on) << (16 + 4 * i) | size << (18 + 4 * i);
  }
  if (control != 0) thread.slots_due = !put(7, control);
  if (control == 0) thread.slots_due = false;
}

bool Process::watch(unsigned slot, std::optional<DebugSlot> what) {
  slots_[slot] = what;
  bool done = true;
  for (auto& thread : threads_) {
    if (thread->shares_memory || thread->running) continue;
    set_slots(*thread);
    done &= !thread->slots_due;
  }
  if (!done) watch(slot, std::nullopt);
  return done;
}

/// The bit of the debug register in use when there is but one, else 0.
unsigned Process::only_slot() const {
  unsigned bits = 0;
  for (unsigned i = 0; i < kDebugSlots; ++i) bits |= slots_[i] ? 1U << i : 0;
  return std::has_single_bit(bits) ? bits : 0;
}

void Process::clear_status(Thread& thread) {
  if (std::exchange(thread.status_stale, false)) ::ptrace(PTRACE_POKEUSER, thread.id, kDebugStatus, 0UL);
}

/// Which debug registers brought a trap about, by the status register, which is cleared so that the next is told from
/// this one.
unsigned Process::triggered(Thread& thread, bool forget) {
  const auto status = static_cast<unsigned>(::ptrace(PTRACE_PEEKUSER, thread.id, kDebugStatus, nullptr));
  thread.status_stale |= forget;
  if (forget) clear_status(thread);
  unsigned slots = 0;
  for (unsigned i = 0; i < kDebugSlots; ++i) {
    if ((status >> i & 1) != 0 && slots_[i]) slots |= 1U << i;
  }
  return slots;
}

unsigned Process::untold_slots(pid_t but) {
  hold_all();
  unsigned slots = 0;
  for (const auto& thread : threads_) {
    if (thread->id == but || thread->running || thread->shares_memory) continue;
    if (thread->kept) slots |= thread->kept->slots;
  }
  return slots;
}

unsigned Process::kernel_slots(pid_t id) {
  Thread* thread = find(id);
  return thread != nullptr ? triggered(*thread) : 0;
}

}  // namespace deeptrace::process
