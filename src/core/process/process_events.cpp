// What the kernel reports of the threads of a process, made into events: stops, signals, ends, children.
#include <linux/kcmp.h>
#include <sys/ptrace.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <csignal>

#include "process/attention.h"
#include "process/delay.h"
#include "process/kernel_registers.h"
#include "process/maps.h"
#include "process/process.h"
#include "process/waiting.h"

namespace deeptrace::process {
namespace {

using state::kTrapFlag;
using state::Reg;

bool is_stopping_signal(int signal) {
  return signal == SIGSTOP || signal == SIGTSTP || signal == SIGTTIN || signal == SIGTTOU;
}

/// From the event of an exec on to after the system call, before the new program's first instruction. Gives the wait
/// status there.
int after_exec(pid_t pid) {
  int status = 0;
  ::ptrace(PTRACE_INTERRUPT, pid, nullptr, nullptr);
  ::ptrace(PTRACE_CONT, pid, nullptr, nullptr);
  while (::waitpid(pid, &status, __WALL) < 0 && errno == EINTR) {
  }
  return status;
}

}  // namespace

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
  delay_at(Delay::status);
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
    if (family_->pause) family_->pause();
    if (auto event = waiting_for_input()) return event;
  }
}

void Process::at_pauses(std::function<void()> pause) {
  family_->pause = std::move(pause);
  family_->beat.emplace(true);
}

/// The thread that waits for input while all that run sleep, those of other processes included; 0: there is none.
pid_t Process::reader_among_sleepers() {
  pid_t reader = 0;
  for (const Process* member : family_->members) {
    for (const auto& thread : member->threads_) {
      if (!thread->running || thread->exiting) continue;
      if (!sleeps(member->pid_, thread->id)) return 0;
      const auto call = call_of(member->pid_, thread->id);
      if (!call || reader != 0) continue;
      const isa::Mode mode = state::mode_of(thread->registers);
      const bool goes_on = is_restart(*call, mode) && readers_.contains(thread->id);
      if (goes_on || awaits_input(member->pid_, *call, mode)) reader = thread->id;
    }
  }
  return reader;
}

/// Twice in a row, so that it is no passing state.
std::optional<Event> Process::waiting_for_input() {
  if (!ends_at_input_) return std::nullopt;
  const pid_t reader = reader_among_sleepers();
  if (reader == 0 || std::exchange(sleeping_reader_, reader) != reader) {
    sleeping_reader_ = reader;
    return std::nullopt;
  }
  sleeping_reader_ = 0;
  readers_.insert(reader);
  return Event{.kind = Event::Kind::waits, .thread = reader};
}

/// An event that nobody waits for now is shown at the next run.
void Process::keep(const Event& event) {
  // end_ has the one, and Attention the other.
  if (event.program_is_gone() || event.kind == Event::Kind::attention || event.kind == Event::Kind::waits) return;
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
    take_call(thread);
    if (!how_.system_calls && !how_.stepping) return std::nullopt;
    return Event{.kind = thread.in_call ? Event::Kind::call_entry : Event::Kind::call_exit,
                 .thread = thread.id,
                 .number = static_cast<int>(thread.call_number)};
  }
  thread.in_call = thread.calls_watched = false;
  if (signal == SIGTRAP) return take_trap(thread);
  return take_signal(thread, signal);
}

/// Entry to a system call or exit from it. Where all were watched they alternate (ptrace(2), "Syscall-stops"), and at
/// an entry the result's register holds -ENOSYS; else the kernel is asked.
void Process::take_call(Thread& thread) {
  const bool watched = thread.calls_watched && thread.request == PTRACE_SYSCALL;
  if (watched && thread.in_call) {
    thread.in_call = false;
    return;
  }
  fetch(thread);
  thread.call_number = thread.raw.orig_rax;
  const bool as_at_entry = static_cast<std::int64_t>(thread.raw.rax) == -ENOSYS;
  if (!watched || !as_at_entry) {
    __ptrace_syscall_info info{};
    ::ptrace(PTRACE_GET_SYSCALL_INFO, thread.id, sizeof info, &info);
    thread.in_call = info.op == PTRACE_SYSCALL_INFO_ENTRY;
  } else {
    thread.in_call = true;
  }
  thread.calls_watched = true;
  thread.at_entry = thread.in_call;
  if (thread.in_call) clear_status(thread);  // what the kernel writes from here on is known apart from what was before
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
  thread.pending = state::pending_signal(signal, info.si_code, reinterpret_cast<std::uint64_t>(info.si_addr));
  if (thread.pending.is_fault()) {
    event.by_instruction = true;
    event.fault_address = thread.pending.fault_address;
    event.fault_address_known = thread.pending.fault_address_known;
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
  thread.reported = at;
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
  // The only debug register in use needs no status to be reported.
  if (const unsigned only = only_slot(); only != 0 && !stepping && info.si_code == TRAP_HWBKPT) {
    thread.status_stale = true;
    return Event{.kind = Event::Kind::debug_register, .thread = thread.id, .slots = only};
  }
  const unsigned slots = armed && info.si_code != SI_USER && info.si_code != SI_TKILL ? triggered(thread) : 0;
  // Step codes: TRAP_TRACE after an instruction, TRAP_BRKPT after a system call, SIGTRAP at a handler's entry.
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
    case PTRACE_EVENT_SECCOMP:
      // A call that the filter chooses begins. Its exit is reported when the thread goes on for that.
      if (thread.in_call || !how_.system_calls) return std::nullopt;
      fetch(thread);
      thread.in_call = thread.calls_watched = thread.at_entry = true;
      thread.call_number = thread.raw.orig_rax;
      return Event{
          .kind = Event::Kind::call_entry, .thread = thread.id, .number = static_cast<int>(thread.call_number)};
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
      guest_ = false;
      memory_.open(pid_);
      Thread& only = add(pid_);
      only.request = PTRACE_CONT;
      const int next = after_exec(pid_);
      if (!WIFSTOPPED(next)) return take_end(only, next);
      return Event{.kind = Event::Kind::replaced, .thread = pid_};
    }
    case PTRACE_EVENT_STOP:
      thread.group_stopped = is_stopping_signal(WSTOPSIG(status));
      end_step(thread, {.kind = Event::Kind::attention, .thread = thread.id});  // not done: it begins anew
      return std::nullopt;
    default: return std::nullopt;
  }
}

/// A new child stands at its start. Threads become ours; a process that shares memory is followed to its exec; a forked
/// one is traced or let go.
void Process::adopt(pid_t child, Thread& parent) {
  delay_at(Delay::adopt);
  if (const auto kept = family_->early.find(child); kept != family_->early.end()) {
    family_->early.erase(kept);
  } else {
    int status = 0;
    while (::waitpid(child, &status, __WALL) < 0 && errno == EINTR) {
    }
    if (!WIFSTOPPED(status)) return;
  }
  const bool is_thread = status_field(child, "Tgid", 10) == static_cast<std::uint64_t>(pid_);
  const bool shares = !is_thread && ::syscall(SYS_kcmp, pid_, child, KCMP_VM, 0, 0) == 0;
  if (!is_thread && (!shares || children_traced_) && bear(child, parent, shares)) return;
  Thread& thread = add(child);
  thread.request = PTRACE_CONT;
  thread.shares_memory = !is_thread;
  threads_started_ += is_thread ? 1 : 0;
  if (thread.shares_memory) return resume(thread, PTRACE_CONT);
  set_slots(thread);
}

/// A forked child has a copy of everything but the debug registers; one that runs in our memory has that itself.
/// False for such a one that cannot be followed as a process of its own.
bool Process::bear(pid_t child, const Thread& parent, bool shares) {
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
  if (!opened && shares) {
    born->gone_ = true;
    return false;
  }
  if (shares) born->memory_.share(memory_);
  born->guest_ = shares;
  if (opened && !shares) born->memory_.inherit(memory_.stops());
  if (!opened || !children_traced_) {
    born->detach();
    return true;
  }
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
  return true;
}

/// A child that shared our memory has its own program now: it stands at the event of its exec.
void Process::bear_fresh(pid_t child) {
  std::unique_ptr<Process> born(new Process(child, attached_, family_));
  Thread& thread = born->add(child);
  if (!children_traced_ || !born->memory_.open(child)) return born->detach();
  thread.request = PTRACE_CONT;
  if (const int status = after_exec(child); !WIFSTOPPED(status)) {
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

}  // namespace deeptrace::process
