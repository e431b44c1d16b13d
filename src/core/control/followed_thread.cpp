#include "control/followed_thread.h"

#include <algorithm>
#include <csignal>
#include <utility>

#include "process/attention.h"

namespace deeptrace::control {

using process::Event;
using process::Process;
using Answer = Process::Answer;
using Kind = FollowedStop::Kind;
using state::Reg;

FollowedThread::FollowedThread(std::unique_ptr<Process> process)
    : process_(std::move(process)), thread_(process_->threads().front()) {
  take_registers();
}

/// 32-bit code has half of the registers and half of each. What the kernel leaves in the upper halves is nobody's; the
/// other registers keep what 64-bit code had in them.
void FollowedThread::take_registers() {
  const state::RegisterSet before = std::exchange(registers_, view().registers());
  if (mode() == isa::Mode::bits64) return;
  for (std::size_t i = 0; i <= static_cast<std::size_t>(Reg::rip); ++i) {
    const auto reg = static_cast<Reg>(i);
    registers_[reg] = reg >= Reg::r8 && reg <= Reg::r15 ? before[reg] : registers_[reg] & 0xffffffff;
  }
}

void FollowedThread::trace_children() { process_->trace_children(); }

/// Those of a process that is followed already are let go, as nobody takes them.
void FollowedThread::take_children(Process& parent) {
  if (!choosing_) return;
  while (std::unique_ptr<Process> child = parent.take_child()) {
    watch(*child);
    beside_.push_back(std::move(child));
  }
}

void FollowedThread::watch(Process& member) {
  member.beside({}, [this, &member](const Event& event) {
    if (event.kind == Event::Kind::child) take_children(member);
    if (event.kind != Event::Kind::stop_byte) return Answer::go_on;
    if (choosing_) {
      arrived_ = &member;
      arrived_thread_ = event.thread;
      return Answer::hold;
    }
    member.reported(event.thread);
    return Answer::go_on;
  });
}

void FollowedThread::move_to(const Process& member, pid_t thread) {
  const auto found = std::ranges::find(beside_, &member, [](const auto& one) { return one.get(); });
  std::swap(process_, *found);
  watch(**found);
  numbers_ = {};
  numbered_ = 0;
  thread_ = thread;
  take_registers();
}

bool FollowedThread::move_to_living() {
  const auto living = std::ranges::find_if(beside_, [](const auto& one) { return !one->gone(); });
  if (living == beside_.end()) return false;
  move_to(**living, (*living)->threads().front());
  return true;
}

void FollowedThread::follow_this() {
  choosing_ = false;
  std::erase_if(beside_, [](const auto& one) { return one->gone(); });
  for (const auto& member : beside_) member->memory().remove_all();
}

void FollowedThread::finish_others() {
  for (const auto& member : beside_) {
    if (member->attached()) member->detach();
    while (!member->gone()) {
      const Event event = member->run({}, [](const Event&) { return Answer::go_on; });
      if (event.kind == Event::Kind::attention) member->kill();
    }
  }
}

FollowedStop FollowedThread::others_turn() {
  if (process_->alone()) return {};
  const Event event = process_->run(turns(), [&](const Event& one) {
    if (one.kind != Event::Kind::about_to_step || one.thread != thread_) return in_turn(one);
    watch_progress(one);
    return Answer::hold;
  });
  return event.kind == Event::Kind::about_to_step ? FollowedStop{} : stop_of(event);
}

FollowedStop FollowedThread::step(int signal, bool plain, bool calls_kernel) {
  // Steps come without a pause, so that no wait is interrupted for it.
  if (process::Attention::asked() != process::Attention::Why::none)
    return stop_of({.kind = Event::Kind::attention, .thread = thread_});
  if (plain && signal == 0 && alone()) return stop_of(process_->step_plain(thread_));
  process_->deliver(thread_, signal);
  if (alone() || !calls_kernel) return stop_of(process_->step(thread_));
  process_->reported(thread_);  // a stop byte where it stands is for those who arrive
  // It runs from entry to exit, while the others take their turns.
  return stop_of(process_->run(turns(), [&](const Event& event) { return in_turn(event); }));
}

bool FollowedThread::pass(const state::RegisterSet& after) {
  const bool wanted = process::Attention::asked() != process::Attention::Why::none;
  if (wanted || !alone() || !process_->pass_plain(after)) return false;
  take_registers();
  return true;
}

Answer FollowedThread::in_turn(const Event& event) {
  if (event.kind == Event::Kind::stop_byte) process_->reported(event.thread);
  if (event.kind == Event::Kind::replaced) return Answer::hold;
  loader_came_ |= at_loader(event);
  watch_progress(event);
  if (event.thread != thread_) return Answer::go_on;
  switch (event.kind) {
    case Event::Kind::about_to_step:
    case Event::Kind::call_entry:
    case Event::Kind::stop_byte:
    case Event::Kind::child: return Answer::go_on;
    default: return Answer::hold;
  }
}

/// The followed thread's own instructions are executed one by one, so that its turn is seen where it begins.
void FollowedThread::watch_progress(const Event& event) {
  if (event.kind == Event::Kind::about_to_step) {
    progress_.turn(event.thread, process_->view(event.thread).registers());
  } else if (event.kind == Event::Kind::signal || event.kind == Event::Kind::thread_ended) {
    progress_.happened();
  }
}

bool FollowedThread::at_loader(const Event& event) const {
  return event.kind == Event::Kind::stop_byte && loader_ != 0 &&
         process_->view(event.thread).registers()[Reg::rip] == loader_;
}

FollowedStop FollowedThread::run_alone() {
  process_->reported(thread_);
  return stop_of(process_->run({.only = thread_}, [&](const Event& event) { return at_full_speed(event); }));
}

FollowedStop FollowedThread::next_in_turn(const std::function<bool(const Event&)>& wanted) {
  return stop_of(process_->run(turns(), [&](const Event& event) {
    if (event.kind == Event::Kind::stop_byte) process_->reported(event.thread);
    loader_came_ |= at_loader(event);
    watch_progress(event);
    if (event.kind == Event::Kind::replaced || event.program_is_gone()) return Answer::hold;
    if (event.kind == Event::Kind::stop_byte || !wanted(event)) return Answer::go_on;
    thread_ = event.thread;
    return Answer::hold;
  }));
}

FollowedStop FollowedThread::run_all(bool system_calls, const std::function<bool(const Event&)>& wanted) {
  return run_to_reports({.system_calls = system_calls}, [&](const Event& event) {
    if (event.kind == Event::Kind::stop_byte) process_->reported(event.thread);
    if (event.kind == Event::Kind::replaced || event.program_is_gone()) return Answer::hold;
    if (!wanted(event)) return Answer::go_on;
    thread_ = event.thread;
    return Answer::hold;
  });
}

FollowedStop FollowedThread::run(int signal) {
  process_->deliver(thread_, signal);
  process_->reported(thread_);
  for (;;) {
    const FollowedStop stop = run_to_reports({}, [&](const Event& event) { return at_full_speed(event); });
    // While it is chosen it may be anybody's.
    if (!choosing_ || !stop.program_is_gone() || stop.kind == Kind::let_go || !move_to_living()) return stop;
  }
}

/// Holds where the dynamic linker reports, too, whichever thread brings it there.
FollowedStop FollowedThread::run_to_reports(const Process::Running& how, const Process::Visit& visit) {
  bool reports = false;
  const Event event = process_->run(how, [&](const Event& one) {
    reports = at_loader(one);
    if (!reports) return visit(one);
    process_->reported(one.thread);
    return Answer::hold;
  });
  FollowedStop stop = stop_of(event);
  if (reports && stop.kind == Kind::stop_byte) stop.kind = Kind::loaded;
  return stop;
}

Answer FollowedThread::at_full_speed(const Event& event) {
  if (event.kind == Event::Kind::child) take_children(*process_);
  if (event.kind == Event::Kind::replaced) return Answer::hold;
  const bool chosen =
      choosing_ ? wanted_ == 0 || numbers_.of(*process_, event.thread) == wanted_ : event.thread == thread_;
  const bool by_register = event.kind == Event::Kind::debug_register;
  if (by_register || event.kind == Event::Kind::stop_byte) {
    if (by_register || !chosen) process_->reported(event.thread);
    if (!chosen) return Answer::go_on;
    thread_ = event.thread;
    return Answer::hold;
  }
  const bool stands = event.kind == Event::Kind::signal || event.kind == Event::Kind::thread_ended;
  return stands && event.thread == thread_ ? Answer::hold : Answer::go_on;
}

bool FollowedThread::follow(std::uint64_t number) {
  const auto thread = numbers_.named(*process_, number);
  if (!thread) return false;
  thread_ = *thread;
  take_registers();
  return true;
}

FollowedStop FollowedThread::stop_of(const Event& event) {
  FollowedStop stop;
  stop.number = event.number;
  switch (event.kind) {
    case Event::Kind::stepped:
    case Event::Kind::about_to_step:
    case Event::Kind::call_exit:
    case Event::Kind::debug_register: break;
    case Event::Kind::stop_byte: stop.kind = Kind::stop_byte; break;
    case Event::Kind::elsewhere:
      move_to(*arrived_, arrived_thread_);
      stop.kind = Kind::stop_byte;
      break;
    case Event::Kind::signal:
      stop.kind = Kind::signal;
      stop.fault_address = event.fault_address;
      stop.fault_address_known = event.fault_address_known;
      stop.by_instruction = event.by_instruction;
      break;
    case Event::Kind::replaced:
      stop.kind = Kind::replaced;
      thread_ = event.thread;
      break;
    case Event::Kind::thread_ended: stop.kind = Kind::ended; break;
    case Event::Kind::exited: stop.kind = Kind::exited; break;
    case Event::Kind::killed: stop.kind = Kind::killed; break;
    default:  // somebody asked for the end
      stop.kind = process_->attached() ? Kind::let_go : Kind::killed;
      stop.number = SIGKILL;
      process_->attached() ? process_->detach() : process_->kill();
  }
  if (process_->has_thread(thread_)) take_registers();
  return stop;
}

}  // namespace deeptrace::control
