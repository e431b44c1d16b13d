// How the threads of a process go on: running, stepping, over stop bytes, and being held again.
#include <sys/ptrace.h>
#include <sys/wait.h>

#include <algorithm>
#include <cerrno>
#include <csignal>

#include "process/attention.h"
#include "process/delay.h"
#include "process/kernel_registers.h"
#include "process/maps.h"
#include "process/process.h"
#include "state/execute.h"
#include "state/touched.h"

namespace deeptrace::process {
namespace {

using state::kResumeFlag;
using state::kTrapFlag;
using state::Reg;

/// True when a signal waits that the thread does not block.
bool signal_waits(pid_t thread) {
  const std::uint64_t waiting = status_field(thread, "SigPnd", 16) | status_field(thread, "ShdPnd", 16);
  return (waiting & ~status_field(thread, "SigBlk", 16)) != 0;
}

}  // namespace

void Process::resume(Thread& thread, int request) {
  if (thread.answer) {
    // No call has the number -1, and then the kernel leaves the result as it is (arch/x86/entry/common.c).
    fetch(thread);
    thread.raw.orig_rax = ~0ULL;
    thread.raw.rax = *std::exchange(thread.answer, std::nullopt);
    thread.changed = true;
  }
  thread.at_entry = false;
  flush(thread);
  thread.at_call.reset();
  thread.lost = 0;
  thread.request = request;
  thread.calls_watched &= request == PTRACE_SYSCALL;
  thread.running = true;
  thread.fetched = false;
  thread.code_at = ~std::uint64_t(0);
  if (thread.slots_due) set_slots(thread);
  if (request == PTRACE_SINGLESTEP) clear_status(thread);
  delay_at(Delay::resume);
  if (thread.group_stopped) {
    ::ptrace(PTRACE_LISTEN, thread.id, nullptr, nullptr);
    return;
  }
  ::ptrace(static_cast<__ptrace_request>(request), thread.id, nullptr,
           static_cast<long>(std::exchange(thread.signal, 0)));
}

/// False for a stop byte that was removed, or passed, since it was hit.
bool Process::worth_reporting(const Thread& thread, const Event& event) const {
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
    if (worth_reporting(*thread, event)) return event;
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
      if (!may_run(thread) || !thread.reported) continue;
      const std::uint64_t at = fetch(thread)[Reg::rip];
      if (std::exchange(thread.reported, std::nullopt) != at) continue;
      pass_slot(thread, at);
      if (!memory_.is_planted(at) || carry_out(thread)) continue;
      thread.reported = at;
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
      if (thread->reported && memory_.is_planted(*thread->reported)) {
        standing = true;  // one after the other
        continue;
      }
      thread->reported.reset();
      const bool calls = how_.system_calls && (!family_->filtered || thread->in_call);
      resume(*thread, calls ? PTRACE_SYSCALL : PTRACE_CONT);
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
  const Attention::Beat beat(ends_at_input_);
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
    if (event->kind == Event::Kind::attention || event->kind == Event::Kind::waits) {
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
      if (!how.calls_go_on) hold_family();
      return *event;
    }
  }
}

/// Waits for what a thread's resumption brings, while no other thread of the program runs.
Event Process::wait_step(Thread& first, int request) {
  const pid_t id = first.id;
  resume(first, request);
  return await_step(id, request);
}

Event Process::await_step(pid_t id, int request) {
  const Thread* stepped = find(id);
  const bool calls = stepped->step && stepped->step->instruction &&
                     isa::flow_of(stepped->step->instruction) == isa::ControlFlow::system;
  const Attention::Beat beat(ends_at_input_ && calls);
  for (;;) {
    std::optional<Event> event = wait_any();
    Thread* thread = find(id);
    if (end_) return *end_;
    if (event && (event->kind == Event::Kind::attention || event->kind == Event::Kind::waits)) {
      if (thread != nullptr && thread->running) hold(*thread);
      if (end_) return *end_;
      thread = find(id);
      if (thread == nullptr || !thread->kept) return *event;
      const Event held = *std::exchange(thread->kept, std::nullopt);
      // A step that ends with the call broken off has not been made.
      return held.kind == Event::Kind::stepped && is_broken_off(*thread) ? *event : held;
    }
    if (event && event->thread == id) return *event;
    if (event) {
      keep(*event);
      continue;
    }
    if (thread == nullptr || thread->running) continue;
    if (!thread->step) begin_step(*thread);
    resume(*thread, request);
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
    if (worth_reporting(*thread, event) && event.kind != Event::Kind::stepped) return event;
  }
  last_stepped_ = id;  // that was its turn
  begin_step(*thread);
  return wait_step(*thread, PTRACE_SINGLESTEP);
}

/// The only thread, with nothing to be looked after before or after its next instruction.
bool Process::is_ordinary(const Thread& thread) const {
  return threads_.size() == 1 && family_->members.size() == 1 && !end_ && !thread.kept && !thread.reported &&
         thread.signal == 0 && !thread.group_stopped &&
         std::ranges::none_of(slots_, [](const auto& slot) { return slot.has_value(); });
}

bool Process::pass_plain(const state::RegisterSet& after) {
  Thread& thread = *threads_.front();
  const state::RegisterSet& before = fetch(thread);
  if (!is_ordinary(thread) || (before[Reg::rflags] & kTrapFlag) != 0) return false;
  thread.registers = after;
  store(thread);
  return true;
}

Event Process::step_plain(pid_t id) {
  Thread& thread = *threads_.front();
  const std::uint64_t at = fetch(thread)[Reg::rip];
  if (!is_ordinary(thread) || memory_.is_planted(at)) return step(id);
  flush(thread);
  thread.request = PTRACE_SINGLESTEP;
  thread.calls_watched = false;
  thread.code_at = ~std::uint64_t(0);
  ::ptrace(PTRACE_SINGLESTEP, id, nullptr, nullptr);
  int status = 0;
  const pid_t who = ::waitpid(id, &status, __WALL);
  constexpr int kTrapped = SIGTRAP << 8 | 0x7f;  // stopped by SIGTRAP, and by no event of ptrace
  if (who == id && status == kTrapped && ::ptrace(PTRACE_GETREGS, id, nullptr, &thread.raw) == 0 &&
      thread.raw.rip != at) {
    // It moved on, and cannot have trapped by itself: nobody needs to be asked which kind of trap it was.
    take_raw(thread);
    return Event{.kind = Event::Kind::stepped, .thread = id};
  }
  thread.step = Thread::Step{.before = thread.registers, .instruction = {}};
  thread.fetched = false;
  thread.running = true;
  if (who == id) family_->early[id] = status;
  return await_step(id, PTRACE_SINGLESTEP);
}

void Process::begin_step(Thread& thread) {
  const state::RegisterSet& before = fetch(thread);
  const std::uint64_t at = before[Reg::rip];
  const bool reported = std::exchange(thread.reported, std::nullopt) == at;
  thread.step = Thread::Step{.before = before,
                             .instruction = isa::decode(code_at_hand(thread), thread.view->mode()),
                             .handled = thread.signal != 0 && catches_signal(pid_, thread.signal),
                             .was_reported = reported};
  if (reported) pass_slot(thread, at);
  memory_.uncover(at);
  delay_at(Delay::step);
}

/// The stop byte comes back, and what stepping left in the program's state goes.
void Process::end_step(Thread& thread, const Event& event) {
  if (!thread.step || event.kind == Event::Kind::replaced || gone_) return;
  const Thread::Step step = *std::exchange(thread.step, std::nullopt);
  const std::uint64_t at = step.before[Reg::rip];
  memory_.cover(at);
  if (event.kind != Event::Kind::stepped) {
    const bool still = event.kind != Event::Kind::call_entry && event.kind != Event::Kind::call_exit;
    if (still && step.was_reported && fetch(thread)[Reg::rip] == at) thread.reported = at;
    return;
  }
  if (step.handled) {
    // The handler is entered; after it the thread comes back to a stop byte that has been reported.
    if (step.was_reported) owed_.push_back({thread.id, at, step.before[Reg::rsp]});
    return;
  }
  if (!step.instruction) return;
  hide_trap_flag(thread, step.before, step.instruction);
  // The next repetition of the same string instruction is no new arrival.
  if (step.was_reported && isa::is_repeated(step.instruction) && fetch(thread)[Reg::rip] == at) thread.reported = at;
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
  if (memory_.is_planted(at) && thread.reported != at)
    return Event{.kind = Event::Kind::stop_byte, .thread = thread.id};
  if (std::exchange(announced_, thread.id) != thread.id)
    return Event{.kind = Event::Kind::about_to_step, .thread = thread.id};
  announced_ = 0;
  last_stepped_ = thread.id;
  begin_step(thread);
  const bool call = thread.step->instruction && isa::flow_of(thread.step->instruction) == isa::ControlFlow::system;
  resume(thread, call && !thread.step->handled ? PTRACE_SYSCALL : PTRACE_SINGLESTEP);
  return std::nullopt;
}

/// A debug register that was reported lets its instruction pass once (the resume flag, Intel SDM volume 3, 18.3.1.1).
/// The kernel sets the flag at the trap; it is missing where the thread came by a step, or its registers were changed.
void Process::pass_slot(Thread& thread, std::uint64_t at) {
  const bool here = std::ranges::any_of(
      slots_, [at](const auto& slot) { return slot && slot->on == DebugSlot::On::execution && slot->address == at; });
  if (!here || (thread.raw.eflags & kResumeFlag) != 0) return;
  thread.raw.eflags |= kResumeFlag;
  thread.changed = true;
}

/// True when a debug register watches any of the memory.
bool Process::meets_slot(const Thread& thread, const state::Touched& touched) const {
  for (const auto& slot : slots_) {
    if (!slot || slot->on == DebugSlot::On::execution) continue;
    if (!touched.complete) return true;
    const std::uint64_t from = address_of(*slot, thread);
    for (const state::TouchedRange& range : touched) {
      if (range.address < from + slot->size && from < range.address + range.size) return true;
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
  if (!instruction || isa::is_repeated(instruction)) return false;  // one repetition is not the whole of it
  if (meets_slot(thread, state::touched_by(instruction, registers)))
    return false;  // the processor has to see the access
  const state::Outcome outcome = state::execute(instruction, *thread.view);
  if (!outcome.is_certain()) return false;
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
  delay_at(Delay::interrupt);
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
      if (trap_waits(thread)) resume(thread, thread.request);  // comes to rest again at once, with the trap reported
    }
  }
  if (!thread.running) end_step(thread, {.kind = Event::Kind::attention, .thread = id});  // not done yet: begins anew
  delay_at(Delay::held);
}

/// The stop that holds a thread comes before the trap of a step, stop byte or debug register that it has just met. The
/// trap has to be taken now: what it belongs to may be gone when the thread goes on.
bool Process::trap_waits(Thread& thread) {
  const bool armed = std::ranges::any_of(slots_, [](const auto& slot) { return slot.has_value(); });
  const bool met = thread.request == PTRACE_SINGLESTEP || memory_.is_planted(fetch(thread)[Reg::rip] - 1) ||
                   (armed && triggered(thread, false) != 0);
  if (!met) return false;
  constexpr std::uint64_t kTrap = std::uint64_t(1) << (SIGTRAP - 1);
  return (status_field(thread.id, "SigPnd", 16) & kTrap) != 0;
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

}  // namespace deeptrace::process
