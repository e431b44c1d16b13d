// The loop over a thread's instructions, and one of them.
#include "session/stepper.h"

#include <algorithm>
#include <cstring>

#include "look/scope.h"
#include "process/kernel_registers.h"
#include "process/maps.h"
#include "state/execute.h"
#include "state/touched.h"

namespace deeptrace::session {

using isa::ControlFlow;
using state::Delta;
using state::Reg;
using state::RegisterSet;

Stepper::Stepper(control::FollowedThread& followed, look::Modules& modules, const StepsRequest& request,
                 StepsSink& sink)
    : followed_(followed),
      modules_(modules),
      descriptors_(std::as_const(followed).process().pid(), nullptr),
      calls_(std::as_const(followed).process(),
             control::surroundings_of(std::as_const(followed).process().pid(), descriptors_)),
      request_(request),
      sink_(sink),
      code_(modules, std::as_const(followed).process().memory()),
      names_(modules, followed),
      rows_(followed, sink),
      processor_(followed.thread()) {
  walks_.push_back(std::make_unique<Walk>());
  walk_ = walks_.back().get();
}

StepsSummary Stepper::run(std::vector<std::uint64_t> to) {
  to_ = std::move(to);
  const std::uint64_t start = rip();
  // In code that is not own (where an attached program mostly stands) no function is under way that could return.
  if (modules_.is_own(start)) walk_->start_stack = followed_.registers()[Reg::rsp];
  if (!to_.empty()) know_callers();
  walk_->wide = process::extended_of(followed_.thread()).value_or(state::ExtendedSet{});
  const std::string place = modules_.place_name(start);
  walk_->thread = followed_.thread();
  const bool randomised = process::is_randomised(followed_.process().pid());
  sink_.begin({modules_.main().path, followed_.mode(), randomised, request_.all_threads, followed_.thread(), start,
               place, request_.trace_children ? followed_.process().pid() : 0, &names_});
  if (request_.all_threads) plant_entries();
  while (!finished_) {
    const bool own = modules_.is_own(rip());
    if (request_.all_threads && !(own && has_program_for_itself())) {
      next_of_all();
    } else if (is_target(rip()) && rows_.instructions() != 0) {
      finish(StepsEnd::to);
    } else if (own) {
      if (walk_->start_stack == kUnknown) walk_->start_stack = followed_.registers()[Reg::rsp];
      request_.count&& rows_.instructions() >= *request_.count ? finish(StepsEnd::count) : own_step();
      if (request_.all_threads) follow_away();
    } else {
      full_speed();
    }
  }
  flush();
  run_to_end();
  summary_.rows = rows_.count();
  summary_.instructions = rows_.instructions();
  summary_.other_threads = followed_.other_threads_seen();
  sink_.end(summary_);
  return summary_;
}

/// What is waited for may lie in a caller: the function that stepping begins in is then one among others.
void Stepper::know_callers() {
  const std::vector<inspect::Frame> frames = look::frames_of(modules_, followed_.view());
  for (std::size_t i = 0; i < frames.size(); ++i) {
    if (frames[i].cfa == 0) continue;
    const std::uint64_t slot = frames[i].cfa - word();  // of the address that it returns to
    if (modules_.is_own(frames[i].inside())) walk_->start_stack = slot;
    if (i + 1 < frames.size() && modules_.is_own(frames[i + 1].inside())) walk_->frames.push_back(slot);
  }
  std::ranges::sort(walk_->frames, std::ranges::greater());
}

bool Stepper::is_target(std::uint64_t address) const { return std::find(to_.begin(), to_.end(), address) != to_.end(); }

void Stepper::finish(StepsEnd why) {
  summary_.ended = why;
  finished_ = true;
}

void Stepper::finish_walk(StepsEnd why) {
  walk_->done = true;
  if (std::ranges::all_of(walks_, &Walk::done)) finish(why);
}

void Stepper::run_to_end() {
  if (gone_) return;
  if (followed_.process().attached()) {
    followed_.process().deliver(followed_.thread(), walk_->deliver);
    followed_.process().detach();
    summary_.exit = {RunEnd::How::detached, 0};
    return;
  }
  memory().remove_all();
  int signal = walk_->deliver;
  for (;;) {
    const Stop stop = followed_.run(signal);
    if (stop.program_is_gone()) return ended(stop);
    signal = stop.kind == Stop::Kind::signal ? stop.number : 0;
  }
}

void Stepper::ended(const Stop& stop) {
  gone_ = true;
  const RunEnd::How how = stop.kind == Stop::Kind::exited   ? RunEnd::How::exited
                          : stop.kind == Stop::Kind::let_go ? RunEnd::How::detached
                                                            : RunEnd::How::killed;
  summary_.exit = {how, stop.number};
  if (interrupted()) summary_.ended = StepsEnd::interrupt;
}

bool Stepper::nothing_left(const Stop& stop) {
  return stop.program_is_gone() || stop.kind == Stop::Kind::ended || stop.kind == Stop::Kind::replaced;
}

void Stepper::flush() {
  ++stretch_;
  processor_.apart();
  rows_.settle();
  rows_.forget_memory();
}

void Stepper::without_step(const Stop& stop) {
  switch (stop.kind) {
    case Stop::Kind::signal: return deliver(stop.number);
    case Stop::Kind::ended: return finish_walk(StepsEnd::thread_end);
    case Stop::Kind::replaced: return finish(StepsEnd::replaced);
    case Stop::Kind::exited:
    case Stop::Kind::killed:
    case Stop::Kind::let_go:
      // Gone in the middle: by a signal that was waiting, or killed from outside.
      ended(stop);
      return finish(interrupted() ? StepsEnd::interrupt : StepsEnd::program_end);
    default: break;
  }
}

void Stepper::own_step() {
  if (const Stop stop = followed_.others_turn(); stop.kind != Stop::Kind::stepped) return without_step(stop);
  if (followed_.loader_came()) on_loader();
  note_waiting();
  Code& code = code_at(rip());
  code.flow == ControlFlow::system ? system_step(code) : step_here(code);
}

void Stepper::note_waiting() {
  if (!followed_.stuck()) return;
  rows_.note("in " + std::to_string(control::Progress::kTurns) +
             " turns the registers of every thread came back to the same values: they may wait for each other");
}

void Stepper::step_here(Code& code) {
  if (followed_.alone()) processor_.together();
  Recorded& recorded = rows_.open();
  bool followed = static_cast<bool>(code.instruction);
  const RegisterSet before = followed_.registers();
  if (code.plain) {
    for (const Access& write : code.writes) add_write(recorded, code, write, before);
  } else {
    followed &= add_writes(recorded, code);
  }
  rows_.prepare(recorded.delta);
  if (code.compared && sink_.for_people())
    rows_.keep_compared(
        recorded,
        state::address_of(code.compared->recipe, before, before[Reg::rip] + code.length, code.compared->width),
        code.compared->width / 8U);
  uncover_reads(code, before);
  if (code.plain && walk_->deliver == 0) {
    if (carry_out(code, before)) return queue_plain(recorded, code, before);
    const Stop stop = followed_.step(0, true);
    cover_reads();
    if (stop.kind == Stop::Kind::stepped && followed_.alone() && !code_changed_) {
      prove(code, before);
      return queue_plain(recorded, code, before);
    }
    rows_.start(recorded, StepRow::Kind::instruction);
    recorded.row.address = before[Reg::rip];
    put_place(recorded.row, code);
    return settle(recorded, code, before, stop);
  }
  rows_.start(recorded, StepRow::Kind::instruction);
  put_place(recorded.row, code);
  recorded.row.memory_followed = followed;
  const Stop stop =
      code.repeated ? step_repeated(before[Reg::rip] + code.length) : followed_.step(std::exchange(walk_->deliver, 0));
  cover_reads();
  settle(recorded, code, before, stop);
}

bool Stepper::carry_out(const Code& code, const RegisterSet& before) {
  if (code.proved_in != stretch_ || carried_out_ == kMostCarriedOut) return false;
  const state::Outcome outcome = state::execute(code.instruction, before);
  if (!outcome.is_certain() || !followed_.pass(outcome.registers)) return false;
  ++carried_out_;
  return true;
}

void Stepper::prove(Code& code, const RegisterSet& before) {
  carried_out_ = 0;
  if (!code.computed || code.proved_in == stretch_) return;
  const state::Outcome outcome = state::execute(code.instruction, before);
  code.computed = outcome.is_certain() && outcome.registers == followed_.registers();
  if (code.computed) code.proved_in = stretch_;
}

void Stepper::uncover_reads(const Code& code, const RegisterSet& registers) {
  if (memory().stops().empty()) return;
  if (code.plain) {
    for (const Access& read : code.reads)
      uncover(state::address_of(read.recipe, registers, registers[Reg::rip] + code.length, read.width),
              read.width / 8U);
    return;
  }
  if (!code.instruction) return;
  RegisterSet at = registers;
  at[Reg::rip] += code.shadowed ? code.instruction.length : 0;
  const Code& reader = code.last();
  for (const state::TouchedRange& range : state::touched_by(reader.instruction, at)) {
    if (isa::reads(range.access)) uncover(range.address, range.size);
  }
}

/// The kernel may read what an argument points to, for instance to write it into a file.
void Stepper::uncover_arguments(const RegisterSet& registers) {
  if (!followed_.alone() || memory().stops().empty()) return;
  bool own = false;
  for (unsigned i = 0; i < abi::kMostArguments; ++i)
    own |= modules_.is_own(abi::argument(registers, i, followed_.mode()));
  if (own) uncover(0, ~std::uint64_t(0));
}

/// Code ran that was not stepped, which may have written code.
void Stepper::look_for_written_code() {
  if (!code_.is_outdated()) return;
  rows_.settle();  // rows that wait point into what is forgotten
  code_.forget();
  names_.forget();
  memory().plant_overwritten();
}

void Stepper::uncover(std::uint64_t address, std::uint64_t size) {
  const std::map<std::uint64_t, std::uint8_t>& all = memory().stops().all();
  if (address > all.rbegin()->first || address + size <= all.begin()->first) return;
  for (auto stop = all.lower_bound(address); stop != all.end() && stop->first - address < size; ++stop) {
    memory().uncover(stop->first);
    uncovered_.push_back(stop->first);
  }
}

void Stepper::cover_reads() {
  for (const std::uint64_t address : uncovered_) {
    if (!gone_) memory().cover(address);
  }
  uncovered_.clear();
}

void Stepper::add_write(Recorded& recorded, const Code& code, const Access& write, const RegisterSet& registers) {
  const std::uint64_t next = registers[Reg::rip] + code.length;
  const std::uint64_t address = state::address_of(write.recipe, registers, next, write.width);
  recorded.delta.add_memory(address, write.width / 8U);
  if (modules_.is_own(address)) code_changed_ = true;
}

void Stepper::queue_plain(Recorded& recorded, const Code& code, const RegisterSet& before) {
  keep_stack(recorded, before);
  rows_.close_plain(recorded, code, before);
  if (code.flow == ControlFlow::call || code.flow == ControlFlow::return_)
    follow_frames(code.flow, before, followed_.registers());
}

void Stepper::keep_stack(Recorded& recorded, const RegisterSet& before) {
  if (!request_.stack) return;
  constexpr std::uint64_t kRedZone = 128, kNear = 65536;  // bytes around the stack pointer that count as the stack
  constexpr std::size_t kMost = 32;                       // words
  const std::uint64_t top = followed_.registers()[Reg::rsp];
  const bool wrote = std::ranges::any_of(recorded.delta.memory, [&](const state::MemoryChange& one) {
    return one.address + kRedZone >= top && one.address < top + kNear;
  });
  if (top == before[Reg::rsp] && !wrote) return;
  const state::StateView& view = followed_.process().view(followed_.thread());
  recorded.stack = look::innermost_words(modules_, view, kMost, &recorded.delta);
}

bool Stepper::add_writes(Recorded& recorded, const Code& code) {
  const Code& writer = code.last();
  if (!writer.writes_memory) return true;
  bool followed = true;
  RegisterSet registers = followed_.registers();
  registers[Reg::rip] += code.shadowed ? code.instruction.length : 0;
  const state::Touched touched = state::touched_by(writer.instruction, registers);
  followed = touched.complete;
  for (const state::TouchedRange& range : touched) {
    if (!isa::writes(range.access)) continue;
    if (range.size > kMostFollowed) {
      followed = false;
    } else {
      recorded.delta.add_memory(range.address, range.size);
    }
    if (modules_.is_own(range.address)) code_changed_ = true;
  }
  return followed;
}

control::FollowedStop Stepper::step_repeated(std::uint64_t next) {
  const std::uint64_t at = rip();
  Stop stop = followed_.step(std::exchange(walk_->deliver, 0));
  if (stop.kind != Stop::Kind::stepped || rip() != at) return stop;
  const bool here = memory().is_planted(at);
  const bool after = memory().is_planted(next);
  if (here) memory().remove(at);
  if (!memory().plant(next)) return stop;
  stop = followed_.run_alone();
  if (!stop.program_is_gone()) {
    if (!after) memory().remove(next);
    if (here) memory().plant(at);
  }
  if (stop.kind == Stop::Kind::stop_byte) stop.kind = Stop::Kind::stepped;
  return stop;
}

void Stepper::settle(Recorded& recorded, const Code& code, const RegisterSet& before, const Stop& stop) {
  StepRow& row = recorded.row;
  if (nothing_left(stop)) return without_step(stop);
  const RegisterSet& after = followed_.registers();
  const bool moved = after[Reg::rip] != before[Reg::rip];
  const bool interrupted = stop.kind == Stop::Kind::signal && !moved;
  if (interrupted && !stop.by_instruction && after == before) return deliver(stop.number);
  row.completed = !interrupted;
  if (interrupted && stop.by_instruction) {
    row.signal = stop.number;
    row.fault_address = stop.fault_address;
    if (!stop.fault_address_known) row.fault_address = operand_address(code, before);
    if (!code.repeated) recorded.delta.memory.clear();
  }
  recorded.before = before;
  recorded.after = after;
  row.before = &recorded.before;
  row.after = &recorded.after;
  row.compared = recorded.compared;
  recorded.delta.compare(before, after);
  if (row.completed && sink_.for_people()) recorded.delta.add_written(code.general_written, before, after);
  if (code.repeated) trim_repetitions(recorded, code, before, after);
  compare_wide(recorded, code.wide);
  recorded.delta.name_as(code.wide_written);
  if (code.flow == ControlFlow::conditional) row.taken = after[Reg::rip] != before[Reg::rip] + code.length;
  name_mode(row, code, after);
  const bool completed = row.completed;
  const bool ordinary =
      completed && row.memory_followed && !code.repeated && !code.flag_image && static_cast<bool>(code.instruction);
  const ControlFlow flow = code.flow;
  keep_stack(recorded, before);
  if (!recorded.stack.empty()) row.stack = &recorded.stack;
  rows_.close(recorded);
  if (!ordinary || code_changed_) {
    rows_.settle();
    rows_.forget_memory();
  }
  if (std::exchange(code_changed_, false)) {
    code_.forget();
    names_.forget();
    memory().plant_overwritten();
  }
  if (completed) follow_frames(flow, before, after);
  if (stop.kind == Stop::Kind::signal && !finished_) deliver(stop.number);
}

void Stepper::trim_repetitions(Recorded& recorded, const Code& code, const RegisterSet& before,
                               const RegisterSet& after) {
  const unsigned bits = code.instruction.address_size * 8U;
  const isa::RegisterPart counter{isa::RegisterFile::general, isa::kRcx, 0, static_cast<std::uint16_t>(bits)};
  const std::uint64_t whole = value_of(before, counter);
  const std::uint64_t done = whole - value_of(after, counter);
  recorded.row.repetitions = done;
  if (done == whole || whole == 0) return;
  for (state::MemoryChange& change : recorded.delta.memory) {
    // Fewer repetitions than planned: the bytes after them were not written. The halves of the storage move along.
    const std::uint64_t size = change.size / whole * done;
    const bool downwards = (before[Reg::rflags] & 0x400) != 0;
    const std::uint64_t skip = downwards ? change.size - size : 0;
    std::uint8_t* bytes = recorded.delta.bytes.data() + change.at;
    std::memmove(bytes, bytes + skip, size);
    change.address += skip;
    change.size = size;
  }
  std::erase_if(recorded.delta.memory, [](const state::MemoryChange& change) { return change.size == 0; });
}

void Stepper::compare_wide(Recorded& recorded, Code::Wide which) {
  if (which == Code::Wide::none) return;
  state::ExtendedSet now = walk_->wide;
  if (which == Code::Wide::legacy) {
    process::refresh_legacy(followed_.thread(), now);
  } else if (const auto all = process::extended_of(followed_.thread())) {
    now = *all;
  }
  recorded.delta.compare(walk_->wide, now);
  walk_->wide = now;
}

void Stepper::follow_frames(ControlFlow flow, const RegisterSet& before, const RegisterSet& after) {
  if (flow == ControlFlow::call) {
    walk_->frames.push_back(after[Reg::rsp]);
  } else if (flow == ControlFlow::return_) {
    const std::uint64_t slot = before[Reg::rsp];
    const auto found = std::find(walk_->frames.rbegin(), walk_->frames.rend(), slot);
    if (found != walk_->frames.rend()) {
      walk_->frames.erase(found.base() - 1, walk_->frames.end());
    } else if (slot >= walk_->start_stack) {
      finish_walk(StepsEnd::returned);
    }
  }
}

}  // namespace deeptrace::session
