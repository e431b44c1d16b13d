// Motions: runs to a goal, and single instructions.
#include <algorithm>
#include <cstring>

#include "control/parts.h"
#include "isa/text.h"
#include "look/places.h"
#include "process/attention.h"
#include "program/flow_graph.h"
#include "state/execute.h"
#include "state/touched.h"

namespace deeptrace::control {

using isa::ControlFlow;
using process::Event;
using state::Reg;
using Answer = process::Process::Answer;
using Why = Stopped::Why;

isa::Instruction Control::instruction_at(std::uint64_t address) {
  std::uint8_t bytes[isa::kLongestInstruction] = {};
  const std::size_t size = process_->memory().read(address, bytes);
  return isa::decode({bytes, size}, view().mode());
}

/// Where control can come back into own code other than by a return: exception handlers, and after calls of setjmp.
const std::vector<std::uint64_t>& Control::reentries() {
  if (!reentries_known_) {
    reentries_ = modules_->reentries();
    reentries_known_ = true;
  }
  return reentries_;
}

/// The current thread may have ended while another process moved.
void Control::keep_to_living_thread() {
  if (process_->gone() || process_->has_thread(thread_)) return;
  const auto left = process_->threads();
  thread_ = left.empty() ? process_->pid() : left.front();
}

void Control::begin_motion() {
  keep_to_living_thread();
  moved_.before = view().registers();
  if (options_.follow_vectors) moved_.extended_before = view().extended();
  moved_.written.clear();
  written_read_ = false;
  moved_.ran_through = false;
  moved_.instructions = 0;
  stopped_ = {};
}

const look::Moved& Control::moved() {
  if (!written_read_) {
    written_read_ = true;
    for (state::MemoryChange& change : moved_.written.memory) {
      const std::span<std::uint8_t> after(moved_.written.after(change), change.size);
      change.after_known = !process_->gone() && process_->memory().read(change.address, after) == change.size;
    }
  }
  return moved_;
}

/// Keeps what stands where the next instruction will write; a place that was kept already stays as it was first.
void Control::note_writes(const isa::Instruction& instruction) {
  if (!instruction) return;
  constexpr std::uint64_t kMost = 4096;
  for (const state::TouchedRange& range : state::touched_by(instruction, view().registers())) {
    if (!isa::writes(range.access) || range.size == 0 || range.size > kMost) continue;
    const bool known = std::ranges::any_of(moved_.written.memory, [&](const state::MemoryChange& change) {
      return change.address <= range.address && range.address + range.size <= change.address + change.size;
    });
    if (known) continue;
    state::MemoryChange& change = moved_.written.add_memory(range.address, range.size);
    change.before_known =
        process_->memory().read(range.address, {moved_.written.before(change), range.size}) == range.size;
  }
}

void Control::run_beside() {
  if (process_->gone()) return;
  begin_motion();
  moved_.ran_through = true;
  process_->beside(running(), [this](const Event& event) {
    const Answer answer = visit(event);
    return process_->gone() ? Answer::go_on : answer;
  });
}

const Stopped& Control::settle() {
  if (stopped_.why == Why::let_go) {
    process_->detach();
    return stopped_;
  }
  finish_once();
  if (stopped_.thread != 0 && process_->has_thread(stopped_.thread)) thread_ = stopped_.thread;
  keep_to_living_thread();
  stopped_.thread = thread_;
  for (const look::HaltHit& hit : stopped_.hits) {
    const HaltRule* rule = rule_of(hit.halt);
    if (rule != nullptr && rule->how().by == HaltKind::By::system_call) process_->stand_at_call(thread_);
  }
  return stopped_;
}

/// Lets the program run until a stop point or the goal.
Stopped Control::run(Goal* goal) {
  if (goal != nullptr) {
    for (const auto* list : {&goal->sites, &goal->entries}) {
      for (const std::uint64_t address : *list) {
        if (use(address, true)) goal_sites_.push_back(address);
      }
    }
  }
  goal_ = goal;
  run_to_stop();
  goal_ = nullptr;
  for (const std::uint64_t address : std::exchange(goal_sites_, {})) release(address);
  return settle();
}

process::Process::Running Control::running() const {
  process::Process::Running how;
  how.only = others_run_ == false ? thread_ : 0;
  how.stepping = needs_stepping();
  how.system_calls = watches_calls() || watches_data() || (goal_ != nullptr && goal_->call_exit);
  return how;
}

void Control::wait_for_input(const Event& event) {
  stopped_.why = Why::waits;
  stopped_.thread = event.thread;
}

void Control::run_to_stop() {
  const Event event = process_->run(running(), [this](const Event& e) { return visit(e); });
  if (event.kind == Event::Kind::attention) stopped_.why = Why::attention;
  if (event.kind == Event::Kind::waits) wait_for_input(event);
  if (event.kind == Event::Kind::elsewhere) stopped_.why = Why::elsewhere;
  if (event.program_is_gone() && !stopped_.program_is_gone()) take_end(event, stopped_);
}

/// One instruction of the current thread; a signal that comes is delivered, and a handler is entered.
Stopped Control::one_step() {
  for (;;) {
    const std::uint64_t at = view().registers()[Reg::rip];
    const isa::Instruction instruction = instruction_at(at);
    note_writes(instruction);
    const bool call = instruction && isa::flow_of(instruction) == ControlFlow::system;
    const std::uint64_t number = view().registers()[Reg::rax];
    if (call && (process_->threads().size() > 1 || process_->has_family()) && others_run_ != false &&
        process_->signal_of(thread_) == 0) {
      // Other threads may be what it waits for.
      Goal goal{.thread = thread_, .sites = {}, .entries = {}, .lowest_stack = 0, .call_exit = true};
      return run(&goal);
    }
    ++moved_.instructions;
    about_to_step(thread_);
    handler_entered_ = announced_.handler;
    const Event event = process_->step(thread_);
    take_children();
    switch (event.kind) {
      case Event::Kind::stepped: {
        after_step(thread_, event.slots, stopped_);
        if (!announced_.handler && call && watches_data()) data_after_call(thread_, number, stopped_);
        const std::uint64_t now = view().registers()[Reg::rip];
        const auto site = sites_.find(now);
        if (site != sites_.end() && now != at) {
          process_->reported(thread_);
          arrive(thread_, stopped_);
        }
        break;
      }
      case Event::Kind::stop_byte:
        process_->reported(thread_);
        arrive(thread_, stopped_);
        break;
      case Event::Kind::debug_register: (void)visit(event); break;
      case Event::Kind::signal:
        (void)visit(event);
        if (stopped_.why == Why::arrived) continue;  // delivered with the next step
        break;
      case Event::Kind::attention: stopped_.why = Why::attention; break;
      case Event::Kind::waits: wait_for_input(event); break;
      default: (void)visit(event); break;
    }
    if (stopped_.why == Why::arrived || stopped_.why == Why::halt) stopped_.thread = thread_;
    return stopped_;
  }
}

/// Runs the call at hand through, to the instruction after it in this frame, or to wherever its frames are left.
namespace {

/// The general registers that a called function gives back as they were.
std::vector<Reg> kept_registers(isa::Mode mode, bool with_stack_pointer) {
  const arch::Machine& machine = arch::machine_of(mode);
  std::vector<Reg> result;
  for (unsigned general = 0; general < machine.general_registers(); ++general) {
    if (machine.keeps(general) && (with_stack_pointer || general != machine.stack_pointer))
      result.push_back(state::reg_numbered(general));
  }
  return result;
}

}  // namespace

Stopped Control::through_call(std::uint64_t next) {
  const state::RegisterSet before = view().registers();
  const isa::Instruction call = instruction_at(before[Reg::rip]);
  const state::Outcome outcome = state::execute(call, view());
  moved_.ran_through = true;
  Goal goal{.thread = thread_, .sites = reentries(), .entries = {}, .lowest_stack = before[Reg::rsp]};
  goal.sites.push_back(next);
  const pid_t thread = thread_;
  (void)run(&goal);
  if (stopped_.why != Why::arrived || goal.reached != next || thread_ != thread) return stopped_;
  const state::RegisterSet& after = view().registers();
  if (outcome.ending == state::Ending::done) stopped_.returned_from = outcome.registers[Reg::rip];
  // A 32-bit function may take arguments off the stack itself.
  const bool with_stack = view().mode() == isa::Mode::bits64;
  for (const Reg reg : kept_registers(view().mode(), with_stack)) {
    if (before[reg] != after[reg]) stopped_.not_restored.push_back({reg, before[reg], after[reg]});
  }
  return stopped_;
}

/// One instruction, with what it calls and a handler that a signal calls run through.
Stopped Control::step_one(bool enter_calls) {
  const state::RegisterSet before = view().registers();
  const std::uint64_t at = before[Reg::rip];
  const isa::Instruction instruction = instruction_at(at);
  const std::uint64_t next = at + (instruction ? instruction.length : 1);
  if (!enter_calls && instruction && isa::flow_of(instruction) == ControlFlow::call &&
      process_->signal_of(thread_) == 0) {
    note_writes(instruction);
    return through_call(next);
  }
  if (!enter_calls && instruction && isa::is_repeated(instruction) && process_->signal_of(thread_) == 0) {
    note_writes(instruction);
    Goal goal{.thread = thread_, .sites = {next}, .entries = {}, .lowest_stack = before[Reg::rsp]};
    return run(&goal);
  }
  const pid_t thread = thread_;
  (void)one_step();
  // A handler was entered in place of the instruction: its frame lies below, and its return leads back here.
  while (!enter_calls && stopped_.why == Why::arrived && thread_ == thread) {
    const state::RegisterSet& now = view().registers();
    const std::uint64_t word = arch::machine_of(view().mode()).word;
    const bool entered = instruction && isa::flow_of(instruction) != ControlFlow::call && now[Reg::rip] != next &&
                         now[Reg::rsp] + 64 < before[Reg::rsp] && handler_entered_;
    if (!entered) break;
    handler_entered_ = false;
    std::uint8_t bytes[8] = {};
    std::uint64_t back = 0;
    (void)process_->memory().read(now[Reg::rsp], {bytes, word});
    std::memcpy(&back, bytes, 8);
    moved_.ran_through = true;
    Goal goal{.thread = thread_, .sites = reentries(), .entries = {}, .lowest_stack = now[Reg::rsp] + word};
    goal.sites.push_back(back);
    (void)run(&goal);
    if (stopped_.why != Why::arrived || goal.reached != back) return stopped_;
    // The kernel goes back to where the signal came; then the instruction itself.
    for (int i = 0; i < 4 && view().registers()[Reg::rip] != at; ++i) {
      const Event event = process_->step(thread_);
      if (event.kind != Event::Kind::stepped) {
        (void)visit(event);
        if (stopped_.why != Why::arrived) return stopped_;
      }
    }
    if (sites_.contains(at)) process_->reported(thread_);
    (void)one_step();
  }
  return stopped_;
}

Stopped Control::line(bool enter_calls) {
  const auto start = modules_->line_of(view().registers()[Reg::rip]);
  if (start.second == 0) {
    (void)step_one(false);
    stopped_.notes.push_back("no source line is known here: one instruction was executed");
    return stopped_;
  }
  std::pair<std::string, std::uint32_t> line{start.first, start.second};
  std::uint64_t cfa = look::Scope(*modules_, view()).frame().cfa;
  std::size_t depth = modules_->inlined_depth(view().registers()[Reg::rip]);
  const pid_t thread = thread_;
  bool left = false;
  for (;;) {
    const std::uint64_t at = view().registers()[Reg::rip];
    const isa::Instruction instruction = instruction_at(at);
    const bool call = instruction && isa::flow_of(instruction) == ControlFlow::call;
    if (call && enter_calls && process_->signal_of(thread_) == 0) {
      // Into the first own function with source lines that comes, else through.
      const std::uint64_t next = at + instruction.length;
      note_writes(instruction);
      moved_.ran_through = true;
      Goal goal{.thread = thread_,
                .sites = reentries(),
                .entries = modules_->own_starts(),
                .lowest_stack = view().registers()[Reg::rsp]};
      goal.sites.push_back(next);
      (void)run(&goal);
      if (stopped_.why != Why::arrived) return stopped_;
      const bool entered = std::ranges::find(goal.entries, goal.reached) != goal.entries.end();
      if (entered) return stopped_;
    } else {
      const bool is_call = call;
      (void)step_one(false);
      if (stopped_.why != Why::arrived) return stopped_;
      if (!is_call) stopped_.returned_from.reset();
    }
    if (thread_ != thread) return stopped_;
    if (process::Attention::asked() != process::Attention::Why::none) {
      stopped_.why = Why::attention;
      return stopped_;
    }
    const state::RegisterSet& now = view().registers();
    const bool returned =
        cfa != 0 ? now[Reg::rsp] >= cfa : instruction && isa::flow_of(instruction) == ControlFlow::return_;
    if (returned && !modules_->is_own(now[Reg::rip])) {
      // Back in a library: on to the next own line, in a function that it calls back or after the call of it.
      Goal goal{
          .thread = thread_, .sites = reentries(), .entries = modules_->own_starts(), .lowest_stack = now[Reg::rsp]};
      for (const inspect::Frame& frame : look::frames_of(*modules_, view(), 256)) {
        if (!modules_->is_own(frame.address())) continue;
        goal.sites.push_back(frame.address());
        break;
      }
      moved_.ran_through = true;
      (void)run(&goal);
      if (stopped_.why != Why::arrived || thread_ != thread) return stopped_;
      if (std::ranges::find(goal.entries, goal.reached) != goal.entries.end()) return stopped_;
    }
    const auto here = modules_->line_of(view().registers()[Reg::rip]);
    if (returned) {
      if (here.second == 0) return stopped_;
      left = true;
      cfa = look::Scope(*modules_, view()).frame().cfa;
      depth = modules_->inlined_depth(view().registers()[Reg::rip]);
    }
    const std::uint64_t rip = view().registers()[Reg::rip];
    const bool other = left || here.first != line.first || here.second != line.second;
    if (here.second != 0 && other && modules_->begins_statement(rip) &&
        (enter_calls || modules_->inlined_depth(rip) <= depth))
      return stopped_;
  }
}

Result<Stopped> Control::out() {
  const auto frames = look::frames_of(*modules_, view(), 2);
  if (frames.size() < 2)
    return Error{Fault::usage, "out: nobody called this function, or the way to the caller is lost"};
  const inspect::Frame& caller = frames[1];
  const std::uint64_t inside = frames[0].address();
  moved_.ran_through = true;
  const std::uint64_t stack = caller.registers[Reg::rsp];
  Goal goal{.thread = thread_, .sites = reentries(), .entries = {}, .lowest_stack = stack};
  goal.sites.push_back(caller.address());
  const pid_t thread = thread_;
  (void)run(&goal);
  if (stopped_.why != Why::arrived || goal.reached != caller.address() || thread_ != thread) return stopped_;
  stopped_.returned_from = inside;
  const state::RegisterSet& after = view().registers();
  for (const Reg reg : kept_registers(view().mode(), false)) {
    const bool known = (caller.known >> static_cast<unsigned>(reg) & 1) != 0;
    if (known && caller.registers[reg] != after[reg])
      stopped_.not_restored.push_back({reg, caller.registers[reg], after[reg]});
  }
  return stopped_;
}

Result<Stopped> Control::to(const std::string& where) {
  Result<std::vector<std::uint64_t>> found = look::stop_places(*modules_, view(), where, nullptr);
  if (!found) return found.error();
  moved_.ran_through = true;
  Goal goal{.thread = thread_, .sites = {}, .entries = std::move(*found), .lowest_stack = 0};
  const auto frames = look::frames_of(*modules_, view(), 2);
  if (frames.size() == 2) {
    goal.lowest_stack = frames[1].registers[Reg::rsp];
    goal.sites = reentries();
    goal.sites.push_back(frames[1].address());
  }
  (void)run(&goal);
  const bool there = std::ranges::find(goal.entries, goal.reached) != goal.entries.end();
  if (stopped_.why == Why::arrived && !there)
    stopped_.notes.push_back("the function returned before it came to " + where);
  return stopped_;
}

Result<Stopped> Control::past_loop() {
  const std::uint64_t now = view().registers()[Reg::rip];
  const look::Module* module = modules_->at(now);
  const program::Function* function = module != nullptr ? module->program->function_at(now - module->bias) : nullptr;
  if (function == nullptr) return Error{Fault::usage, "past loop: no function is known here"};
  const program::FlowGraph graph =
      program::flow_graph_of(*module->program, look::Modules::debug(*module).scan, *function);
  const std::uint64_t inside = now - module->bias;
  const auto here = std::ranges::find_if(
      graph.blocks, [&](const program::FlowBlock& block) { return inside >= block.address && inside < block.end; });
  if (here == graph.blocks.end() || here->loop < 0)
    return Error{Fault::usage, "past loop: the instruction at hand lies in no loop of " + function->name.str()};
  const auto head = static_cast<std::size_t>(here->loop);
  // The loop: everything that leads back to its head (a natural loop).
  std::set<std::size_t> loop = {head};
  std::vector<std::size_t> open;
  for (std::size_t i = 0; i < graph.blocks.size(); ++i) {
    for (const program::FlowEdge& edge : graph.blocks[i].edges) {
      if (edge.to == head && edge.back && loop.insert(i).second) open.push_back(i);
    }
  }
  while (!open.empty()) {
    const std::size_t block = open.back();
    open.pop_back();
    for (std::size_t i = 0; i < graph.blocks.size(); ++i) {
      for (const program::FlowEdge& edge : graph.blocks[i].edges) {
        if (edge.to == block && loop.insert(i).second) open.push_back(i);
      }
    }
  }
  moved_.ran_through = true;
  Goal goal{.thread = thread_, .sites = reentries(), .entries = {}, .lowest_stack = view().registers()[Reg::rsp]};
  for (const std::size_t block : loop) {
    for (const program::FlowEdge& edge : graph.blocks[block].edges) {
      if (!loop.contains(edge.to)) goal.sites.push_back(graph.blocks[edge.to].address + module->bias);
    }
  }
  const auto frames = look::frames_of(*modules_, view(), 2);
  if (frames.size() == 2) goal.sites.push_back(frames[1].address());
  return run(&goal);
}

Result<Stopped> Control::go(const Motion& motion) {
  if (process_->gone()) return Error{Fault::usage, "the program has ended; restart it first"};
  begin_motion();
  using Kind = Motion::Kind;
  for (std::uint64_t i = 0; i < std::max<std::uint64_t>(1, motion.count); ++i) {
    switch (motion.kind) {
      case Kind::into: (void)one_step(); break;
      case Kind::over: (void)step_one(false); break;
      case Kind::line:
      case Kind::line_into: (void)line(motion.kind == Kind::line_into); break;
      case Kind::resume:
        moved_.ran_through = true;
        (void)run(nullptr);
        break;
      case Kind::out:
      case Kind::to:
      case Kind::past_loop: {
        const Result<Stopped> result = motion.kind == Kind::out  ? out()
                                       : motion.kind == Kind::to ? to(motion.where)
                                                                 : past_loop();
        if (!result) return result.error();
        break;
      }
    }
    if (stopped_.why != Why::arrived || process::Attention::asked() != process::Attention::Why::none) break;
  }
  finish_once();
  if (stopped_.why == Why::attention) process::Attention::answer();
  stopped_.thread = thread_;
  return stopped_;
}

}  // namespace deeptrace::control
