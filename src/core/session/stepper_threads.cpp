// All threads stepped in turns.
#include <algorithm>

#include "process/kernel_registers.h"
#include "session/signal_return.h"
#include "session/stepper.h"
#include "state/target.h"

namespace deeptrace::session {

using isa::ControlFlow;
using state::Reg;
using state::RegisterSet;

void Stepper::next_of_all() {
  flush();
  if (followed_.loader_came()) on_loader();
  note_waiting();
  const auto wanted = [this](const process::Event& event) { return has_row(event); };
  const bool calling = std::ranges::any_of(walks_, [](const auto& walk) { return walk->calling.has_value(); });
  const Stop stop = anybody_steps() ? followed_.next_in_turn(wanted) : followed_.run_all(calling, wanted);
  if (stop.program_is_gone() || stop.kind == Stop::Kind::replaced) return without_step(stop);
  if (stop.kind == Stop::Kind::loaded) return on_loader();
  walk_ = &walk_of(followed_.thread());
  if (walk_->done) return;
  if (stop.kind == Stop::Kind::ended) return end_of_thread(stop);
  if (walk_->calling) return end_of_call();
  if (walk_->away && modules_.is_own(rip())) return come_back();
  if (stop.kind == Stop::Kind::signal) return deliver(stop.number);
  if (is_target(rip()) && rows_.instructions() != 0) return finish(StepsEnd::to);
  if (request_.count && rows_.instructions() >= *request_.count) return finish(StepsEnd::count);
  if (walk_->start_stack == kUnknown) walk_->start_stack = followed_.registers()[Reg::rsp];
  Code& code = code_at(rip());
  if (code.flow == ControlFlow::system) return begin_call(code);
  step_here(code);
  follow_away();
}

bool Stepper::has_program_for_itself() const {
  return followed_.alone() && std::as_const(followed_).process().stands(followed_.thread()) && !walk_->done &&
         !walk_->calling;
}

Walk* Stepper::known_walk(pid_t thread) const {
  const auto known = std::ranges::find(walks_, thread, [](const auto& walk) { return walk->thread; });
  return known != walks_.end() ? known->get() : nullptr;
}

Walk& Stepper::walk_of(pid_t thread) {
  if (Walk* known = known_walk(thread)) return *known;
  walks_.push_back(std::make_unique<Walk>());
  walks_.back()->thread = thread;
  if (followed_.process().has_thread(thread))
    walks_.back()->wide = process::extended_of(thread).value_or(state::ExtendedSet{});
  return *walks_.back();
}

bool Stepper::anybody_steps() {
  return std::ranges::any_of(followed_.process().threads(), [this](pid_t thread) {
    const Walk* walk = known_walk(thread);
    return (walk == nullptr || (!walk->done && !walk->calling)) && followed_.process().stands(thread) &&
           modules_.is_own(followed_.process().view(thread).registers()[Reg::rip]);
  });
}

bool Stepper::has_row(const process::Event& event) {
  using Kind = process::Event::Kind;
  const Walk* walk = known_walk(event.thread);
  if (walk != nullptr && walk->done) return false;
  if (event.kind == Kind::thread_ended) return walk != nullptr;
  const bool calling = walk != nullptr && walk->calling;
  if (event.kind == Kind::call_exit) {
    // One that was broken off begins again.
    const RegisterSet& now = followed_.process().view(event.thread).registers();
    return calling && !state::broken_off(static_cast<std::int64_t>(now[Reg::rax]));
  }
  if (event.kind == Kind::stop_byte) return true;
  const bool own = modules_.is_own(followed_.process().view(event.thread).registers()[Reg::rip]);
  return (event.kind == Kind::about_to_step || event.kind == Kind::signal) && own && !calling;
}

void Stepper::end_of_thread(const Stop& stop) {
  if (!walk_->away) return finish_walk(StepsEnd::thread_end);
  Recorded& recorded = rows_.open(StepRow::Kind::full_speed);
  const std::string name = walk_->away->function;
  recorded.row.thread = walk_->thread;
  recorded.row.thread_number = followed_.number_of(walk_->thread);
  recorded.row.function = name;
  recorded.row.memory_followed = false;
  full_speed_without_return(recorded, name, stop);
}

void Stepper::follow_away() {
  if (finished_ || walk_->done || modules_.is_own(rip())) return;
  if (const unsigned length = signal_return_length(followed_.view(), rip()); length != 0) signal_return(length);
  if (finished_ || walk_->done || modules_.is_own(rip())) return;
  walk_->away = Away{followed_.registers(), modules_.called_name(rip())};
  if (const std::uint64_t back = return_address(); back != 0) {
    memory().plant(back);
    // Other threads may come to any stop byte, so that all stay.
    if (reads_own_code(walk_->away->function) != Reads::nothing) note_reads(walk_->away->function);
  }
}

void Stepper::come_back() {
  const Away away = *std::exchange(walk_->away, std::nullopt);
  look_for_written_code();
  Recorded& recorded = rows_.open(StepRow::Kind::full_speed);
  recorded.row.address = away.before[Reg::rip];
  recorded.row.function = away.function;
  recorded.row.memory_followed = false;
  recorded.delta.compare(away.before, followed_.registers());
  compare_wide(recorded);
  recorded.text = full_speed_text(away.function, {.kind = Stop::Kind::stop_byte});
  recorded.row.text = recorded.text;
  rows_.close(recorded);
  arrive({.kind = Stop::Kind::stop_byte});
}

void Stepper::begin_call(const Code& code) {
  walk_->calling.emplace();
  walk_->calling->before = followed_.registers();
  walk_->calling->call = call_of(code, followed_.registers());
  walk_->calling->asked = calls_.begin(followed_.view());
  const abi::SystemCall* call = walk_->calling->call;
  if (call != nullptr && call->outputs_known)
    walk_->calling->planned = look::KernelWrites::before(*call, followed_.view(), kMostFollowed);
  followed_.process().deliver(followed_.thread(), std::exchange(walk_->deliver, 0));
}

void Stepper::end_of_call() {
  Calling calling = std::move(*std::exchange(walk_->calling, std::nullopt));
  const Code& code = code_at(calling.before[Reg::rip]);
  Recorded& recorded = rows_.open(StepRow::Kind::instruction);
  recorded.row.address = calling.before[Reg::rip];
  put_place(recorded.row, code);
  const bool known = calling.call != nullptr && calling.call->outputs_known;
  recorded.row.memory_followed = known;
  recorded.delta.compare(calling.before, followed_.registers());
  keep_call(recorded, std::move(calling.asked));
  rows_.close(recorded);
  if (known) kernel_row(code, calling.call, calling.planned, std::nullopt, followed_.registers()[Reg::rax]);
  follow_away();
}

}  // namespace deeptrace::session
