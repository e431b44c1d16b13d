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
  moved_.calls.clear();
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

/// What stood there before the motion is kept already.
bool Control::is_noted(std::uint64_t address, std::uint64_t size) const {
  return std::ranges::any_of(moved_.written.memory, [&](const state::MemoryChange& change) {
    return change.address <= address && address + size <= change.address + change.size;
  });
}

/// Keeps what stands where the next instruction will write; a place that was kept already stays as it was first.
void Control::note_writes(const isa::Instruction& instruction) {
  if (!instruction) return;
  constexpr std::uint64_t kMost = 4096;
  for (const state::TouchedRange& range : state::touched_by(instruction, view().registers())) {
    if (!isa::writes(range.access) || range.size == 0 || range.size > kMost) continue;
    if (is_noted(range.address, range.size)) continue;
    state::MemoryChange& change = moved_.written.add_memory(range.address, range.size);
    change.before_known =
        process_->memory().read(range.address, {moved_.written.before(change), range.size}) == range.size;
  }
}

/// What stands where the system call at hand may write.
look::KernelWrites Control::writes_of_call() {
  constexpr std::uint64_t kMost = 4096;
  const abi::SystemCall* call = abi::system_call(view().registers()[Reg::rax], look::table_of_call(view()));
  return call != nullptr && call->outputs_known ? look::KernelWrites::before(*call, view(), kMost)
                                                : look::KernelWrites();
}

void Control::note_kernel_writes(const look::KernelWrites& kernel) {
  state::Delta written;
  kernel.add_changes(view(), view().registers()[Reg::rax], written);
  for (const state::MemoryChange& one : written.memory) {
    if (is_noted(one.address, one.size)) continue;
    state::MemoryChange& change = moved_.written.add_memory(one.address, one.size);
    change.before_known = one.before_known;
    std::memcpy(moved_.written.before(change), written.before(one), one.size);
  }
}

/// A system call has come back, or was broken off.
void Control::keep_call(look::KernelCall call) {
  constexpr std::size_t kMost = 4;
  kernel_->calls.end(call, view(), *modules_);
  if (!call.over) return;
  if (moved_.calls.size() == kMost) moved_.calls.erase(moved_.calls.begin());
  moved_.calls.push_back(std::make_shared<const look::KernelCall>(std::move(call)));
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
    if (rule != nullptr && rule->how().by == HaltKind::By::system_call && !hit.call_returned)
      process_->stand_at_call(thread_);
  }
  return stopped_;
}

/// Lets the program run until a stop point or the goal; what it waits for ends the run, which can be taken up again.
Stopped Control::run(const std::shared_ptr<Goal>& goal) {
  if (goal != nullptr) {
    for (const auto* list : {&goal->sites, &goal->entries}) {
      for (const std::uint64_t address : *list) {
        if (use(address, true)) goal_sites_.push_back(address);
      }
    }
  }
  goal_ = goal.get();
  run_to_stop();
  goal_ = nullptr;
  for (const std::uint64_t address : std::exchange(goal_sites_, {})) release(address);
  if (stopped_.why == Why::waits) rest_ = [this, goal] { (void)run(goal); };
  return settle();
}

/// What follows in a motion when its part at hand has arrived, now or after a wait for input.
void Control::then(const std::function<void()>& rest) {
  if (stopped_.why == Why::arrived) return rest();
  if (stopped_.why != Why::waits || !rest_) return;
  rest_ = [this, part = std::exchange(rest_, nullptr), rest] {
    part();
    then(rest);
  };
}

process::Process::Running Control::running() const {
  process::Process::Running how;
  how.only = others_run_ == false ? thread_ : 0;
  how.stepping = needs_stepping() || (watcher_ != nullptr && watcher_->counts_instructions());
  how.system_calls = watches_calls() || watches_data() || (goal_ != nullptr && goal_->call_exit);
  return how;
}

void Control::wait_for_input(const Event& event) {
  stopped_.why = Why::waits;
  stopped_.thread = event.thread;
  if (process_->has_thread(event.thread)) process_->stand_at_call(event.thread);
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
    const look::KernelWrites kernel = call ? writes_of_call() : look::KernelWrites();
    const std::uint64_t number = view().registers()[Reg::rax];
    if (call && kernel_ == nullptr) kernel_ = std::make_unique<Kernel>(*process_);
    std::optional<look::KernelCall> asked;
    if (call) asked = kernel_->calls.begin(view());
    if (call) asked->answered = process_->answer_of(thread_).has_value();
    if (call && (process_->threads().size() > 1 || process_->has_family()) && others_run_ != false &&
        process_->signal_of(thread_) == 0) {
      // Other threads may be what it waits for.
      const auto goal = std::make_shared<Goal>(
          Goal{.thread = thread_, .sites = {}, .entries = {}, .lowest_stack = 0, .call_exit = true});
      (void)run(goal);
      if (goal->reached != 0 && thread_ == goal->thread) keep_call(std::move(*asked));
      return stopped_;
    }
    ++moved_.instructions;
    about_to_step(thread_);
    handler_entered_ = announced_.handler;
    const Event event = process_->step(thread_);
    take_children();
    switch (event.kind) {
      case Event::Kind::stepped: {
        after_step(thread_, event.slots, stopped_);
        if (!announced_.handler && call) note_kernel_writes(kernel);
        if (!announced_.handler && call) keep_call(std::move(*asked));
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
      case Event::Kind::waits:
        wait_for_input(event);
        --moved_.instructions;
        rest_ = [this] { (void)one_step(); };
        break;
      default: (void)visit(event); break;
    }
    if (stopped_.why == Why::arrived || stopped_.why == Why::halt) stopped_.thread = thread_;
    return stopped_;
  }
}

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

/// Runs the call at hand through, to the instruction after it in this frame, or to wherever its frames are left.
Stopped Control::through_call(std::uint64_t next) {
  const state::RegisterSet before = view().registers();
  const isa::Instruction call = instruction_at(before[Reg::rip]);
  const state::Outcome outcome = state::execute(call, view());
  moved_.ran_through = true;
  const auto goal = std::make_shared<Goal>(
      Goal{.thread = thread_, .sites = reentries(), .entries = {}, .lowest_stack = before[Reg::rsp]});
  goal->sites.push_back(next);
  (void)run(goal);
  then([this, goal, next, before, outcome] {
    if (goal->reached != next || thread_ != goal->thread) return;
    const state::RegisterSet& after = view().registers();
    if (outcome.ending == state::Ending::done) stopped_.returned_from = outcome.registers[Reg::rip];
    // A 32-bit function may take arguments off the stack itself.
    const bool with_stack = view().mode() == isa::Mode::bits64;
    for (const Reg reg : kept_registers(view().mode(), with_stack)) {
      if (before[reg] != after[reg]) stopped_.not_restored.push_back({reg, before[reg], after[reg]});
    }
  });
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
    return run(std::make_shared<Goal>(std::move(goal)));
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
    const auto goal = std::make_shared<Goal>(
        Goal{.thread = thread_, .sites = reentries(), .entries = {}, .lowest_stack = now[Reg::rsp] + word});
    goal->sites.push_back(back);
    (void)run(goal);
    if (stopped_.why != Why::arrived || goal->reached != back) return stopped_;
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

/// The line that a motion leaves, and the frame that it is in.
struct Control::Line {
  bool enter_calls = false;
  pid_t thread = 0;
  std::pair<std::string, std::uint32_t> line;
  std::uint64_t cfa = 0;
  std::size_t depth = 0;  ///< of inlined calls
  bool left = false;      ///< its function has returned
  isa::Instruction instruction;
  std::uint64_t entered = 0;  ///< the own function that was called, where calls are entered
};

Stopped Control::line(bool enter_calls) {
  const std::uint64_t at = view().registers()[Reg::rip];
  const bool known = reached_ && reached_->thread == thread_ && reached_->rip == at;
  const look::Where start = look::where_at(*modules_, at, known ? std::optional(reached_->level) : std::nullopt);
  if (start.line == 0) {
    (void)step_one(false);
    if (!std::exchange(lineless_said_, true))
      stopped_.notes.push_back("no source line is known here: one instruction was executed");
    return stopped_;
  }
  lineless_said_ = false;
  // An inlined call may begin at this very instruction: nothing has to be executed to be in it.
  if (enter_calls && known) {
    const auto deepest = static_cast<unsigned>(modules_->inlined_depth(at));
    for (unsigned depth = reached_->level.depth + 1; depth <= deepest; ++depth) {
      const auto entered = modules_->line_entered(at, depth);
      if (!entered || entered->depth != depth) continue;
      stopped_.level = entered;
      return stopped_;
    }
  }
  const auto line = std::make_shared<Line>();
  line->enter_calls = enter_calls;
  line->thread = thread_;
  line->line = {start.file, start.line};
  line->cfa = look::Scope(*modules_, view()).frame().cfa;
  line->depth = known ? reached_->level.depth : modules_->inlined_depth(at);
  return line_on(line);
}

/// After a wait for input the rest of the line follows.
void Control::go_on_with(const std::shared_ptr<Line>& line) {
  then([this, line] {
    if (!is_line_left(line)) (void)line_on(line);
  });
}

/// Goes on until the line is left. What waits for input in between goes on from there when it is taken up.
Stopped Control::line_on(const std::shared_ptr<Line>& line) {
  for (;;) {
    step_in_line(line);
    if (stopped_.why != Why::arrived) {
      go_on_with(line);
      return stopped_;
    }
    if (is_line_left(line) || stopped_.why != Why::arrived) return stopped_;
    if (process::Attention::asked() != process::Attention::Why::none) {
      stopped_.why = Why::attention;
      return stopped_;
    }
  }
}

/// The next instruction of a line, with what it calls run through, or up to the first own function with source lines
/// that comes.
void Control::step_in_line(const std::shared_ptr<Line>& line) {
  const std::uint64_t at = view().registers()[Reg::rip];
  line->instruction = instruction_at(at);
  const bool call = line->instruction && isa::flow_of(line->instruction) == ControlFlow::call;
  if (!call || !line->enter_calls || process_->signal_of(thread_) != 0) {
    (void)step_one(false);
    if (stopped_.why == Why::arrived && !call) stopped_.returned_from.reset();
    return;
  }
  note_writes(line->instruction);
  run_to_own(line, at + line->instruction.length);
}

/// Runs to an own function with source lines, or to an address in this frame.
void Control::run_to_own(const std::shared_ptr<Line>& line, std::uint64_t address) {
  moved_.ran_through = true;
  const auto goal = std::make_shared<Goal>(Goal{.thread = thread_,
                                                .sites = reentries(),
                                                .entries = modules_->own_starts(),
                                                .lowest_stack = view().registers()[Reg::rsp]});
  if (address != 0) goal->sites.push_back(address);
  (void)run(goal);
  then([goal, line] {
    if (std::ranges::find(goal->entries, goal->reached) != goal->entries.end()) line->entered = goal->reached;
  });
}

/// Whether the motion ends where the thread stands now, or ended on the way there. Back in a library it first runs on
/// to the next own line, in a function that is called back or after the call of it.
bool Control::is_line_left(const std::shared_ptr<Line>& line) {
  if (line->entered != 0 || thread_ != line->thread) return true;
  const state::RegisterSet& now = view().registers();
  const bool returned = line->cfa != 0 ? now[Reg::rsp] >= line->cfa
                                       : line->instruction && isa::flow_of(line->instruction) == ControlFlow::return_;
  if (returned && !modules_->is_own(now[Reg::rip])) {
    std::uint64_t back = 0;
    for (const inspect::Frame& frame : look::frames_of(*modules_, view(), 256)) {
      if (!modules_->is_own(frame.address())) continue;
      back = frame.address();
      break;
    }
    run_to_own(line, back);
    if (stopped_.why != Why::arrived) {
      go_on_with(line);
      return true;
    }
    if (thread_ != line->thread || line->entered != 0) return true;
  }
  const std::uint64_t rip = view().registers()[Reg::rip];
  if (returned) {
    if (modules_->line_of(rip).second == 0) return true;
    line->left = true;
    line->cfa = look::Scope(*modules_, view()).frame().cfa;
    line->depth = modules_->inlined_depth(rip);
  }
  const auto depth = static_cast<unsigned>(line->depth);
  const auto entered = modules_->line_entered(rip, line->enter_calls ? ~0U : depth);
  // In a caller the rest of its line will do, if it has a row of its own.
  if (!entered) return line->left && modules_->begins_statement(rip) && modules_->inlined_depth(rip) <= depth;
  const bool other = line->left || entered->file != line->line.first || entered->line != line->line.second;
  if (other) stopped_.level = entered;
  return other;
}

Result<Stopped> Control::out() {
  const auto frames = look::frames_of(*modules_, view(), 2);
  if (frames.size() < 2)
    return Error{Fault::usage, "out: nobody called this function, or the way to the caller is lost"};
  const inspect::Frame& caller = frames[1];
  const std::uint64_t inside = frames[0].address();
  moved_.ran_through = true;
  const auto goal = std::make_shared<Goal>(
      Goal{.thread = thread_, .sites = reentries(), .entries = {}, .lowest_stack = caller.registers[Reg::rsp]});
  goal->sites.push_back(caller.address());
  (void)run(goal);
  then([this, goal, caller, inside] {
    if (goal->reached != caller.address() || thread_ != goal->thread) return;
    stopped_.returned_from = inside;
    const state::RegisterSet& after = view().registers();
    for (const Reg reg : kept_registers(view().mode(), false)) {
      const bool known = (caller.known >> static_cast<unsigned>(reg) & 1) != 0;
      if (known && caller.registers[reg] != after[reg])
        stopped_.not_restored.push_back({reg, caller.registers[reg], after[reg]});
    }
  });
  return stopped_;
}

Result<Stopped> Control::to(const std::string& where) {
  const Result<look::StopPlaces> found = look::stop_places(*modules_, view(), where);
  if (!found) return found.error();
  moved_.ran_through = true;
  const auto goal = std::make_shared<Goal>(Goal{.thread = thread_, .sites = {}, .entries = {}, .lowest_stack = 0});
  for (const look::StopPlace& place : found->places) goal->entries.push_back(place.address);
  const auto frames = look::frames_of(*modules_, view(), 2);
  if (frames.size() == 2) {
    goal->lowest_stack = frames[1].registers[Reg::rsp];
    goal->sites = reentries();
    goal->sites.push_back(frames[1].address());
  }
  (void)run(goal);
  then([this, goal, where, places = found->places] {
    const auto place = std::ranges::find(places, goal->reached, &look::StopPlace::address);
    if (place != places.end()) {
      stopped_.level = place->level;
    } else {
      stopped_.notes.push_back("the function returned before it came to " + where);
    }
  });
  return stopped_;
}

Result<Stopped> Control::past_loop() {
  const std::uint64_t now = view().registers()[Reg::rip];
  const look::Module* module = modules_->at(now);
  const program::Function* function = module != nullptr ? module->program->function_at(now - module->bias) : nullptr;
  if (function == nullptr) return Error{Fault::usage, "past loop: no function is known here"};
  const program::FlowGraph graph = program::flow_graph_of(*module->program, look::Modules::scan(*module), *function);
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
  return run(std::make_shared<Goal>(std::move(goal)));
}

/// Whether it is the motion that waiting for input has ended, and the thread still stands there.
bool Control::is_unfinished(const Motion& motion) {
  if (!unfinished_ || process_->gone() || !process_->has_thread(thread_) || thread_ != unfinished_->thread)
    return false;
  const state::RegisterSet& now = view().registers();
  return motion.kind == unfinished_->motion.kind && motion.where == unfinished_->motion.where &&
         now[Reg::rip] == unfinished_->rip && now[Reg::rsp] == unfinished_->rsp;
}

std::optional<Error> Control::move(const Motion& motion) {
  using Kind = Motion::Kind;
  stopped_.level.reset();
  Result<Stopped> result = stopped_;
  switch (motion.kind) {
    case Kind::into: result = one_step(); break;
    case Kind::over: result = step_one(false); break;
    case Kind::line:
    case Kind::line_into: result = line(motion.kind == Kind::line_into); break;
    case Kind::resume:
      moved_.ran_through = true;
      result = run(nullptr);
      break;
    case Kind::out: result = out(); break;
    case Kind::to: result = to(motion.where); break;
    case Kind::past_loop: result = past_loop(); break;
  }
  return result ? std::nullopt : std::optional(result.error());
}

/// The frame that was come to counts until the thread moves.
void Control::note_reached() {
  reached_.reset();
  if (!stopped_.level || process_->gone() || !process_->has_thread(thread_)) return;
  reached_ = Reached{thread_, view().registers()[Reg::rip], *stopped_.level};
}

Result<Stopped> Control::go(const Motion& asked) {
  if (process_->gone()) return Error{Fault::usage, "the program has ended; restart it first"};
  Motion motion = asked;
  std::function<void()> rest;
  if (is_unfinished(asked)) {
    rest = std::move(unfinished_->rest);
    motion.count = std::max(asked.count, unfinished_->motion.count);
    stopped_ = {};
    written_read_ = false;
  } else {
    begin_motion();
  }
  unfinished_.reset();
  for (motion.count = std::max<std::uint64_t>(1, motion.count); motion.count > 0; --motion.count) {
    rest_ = nullptr;
    if (rest) {
      std::exchange(rest, nullptr)();
    } else if (const auto error = move(motion)) {
      return *error;
    }
    note_reached();
    if (stopped_.why != Why::arrived || process::Attention::asked() != process::Attention::Why::none) break;
  }
  finish_once();
  if (stopped_.why == Why::attention) process::Attention::answer();
  stopped_.thread = thread_;
  if (stopped_.why == Why::waits && rest_) {
    const state::RegisterSet& now = view().registers();
    unfinished_ = std::make_unique<Unfinished>(
        Unfinished{motion, now[Reg::rip], now[Reg::rsp], thread_, std::exchange(rest_, nullptr)});
  }
  return stopped_;
}

}  // namespace deeptrace::control
