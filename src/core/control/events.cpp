// What the events of a running program mean to stop points and motions.
#include <algorithm>
#include <csignal>
#include <cstring>

#include "abi/call_errors.h"
#include "abi/signal_names.h"
#include "abi/system_calls.h"
#include "control/parts.h"
#include "control/program_to_run.h"
#include "isa/walk.h"
#include "look/exception.h"
#include "look/foresight.h"
#include "process/maps.h"
#include "state/touched.h"

namespace deeptrace::control {

using isa::ControlFlow;
using process::DebugSlot;
using process::Event;
using process::kDebugSlots;
using state::Reg;
using Answer = process::Process::Answer;
using Why = Stopped::Why;

bool is_harmless(pid_t pid, int signal) {
  if (signal == SIGCHLD || signal == SIGURG || signal == SIGWINCH || signal == SIGCONT || signal == SIGSTOP ||
      signal == SIGTSTP || signal == SIGTTIN || signal == SIGTTOU)
    return true;
  return process::catches_signal(pid, signal) || process::ignores_signal(pid, signal);
}

/// A thread has come to an address where something stands, and has not executed the instruction there.
void Control::arrive(pid_t thread, Stopped& stopped) {
  const state::RegisterSet& registers = process_->view(thread).registers();
  const std::uint64_t address = registers[Reg::rip], stack = registers[Reg::rsp];
  if (loader_ && address == loader_->function) {
    stopped.thread = thread;
    on_loader(stopped);
  }
  if (watcher_ != nullptr && watched_sites_.contains(address) && !watcher_->arrived(thread, address)) {
    stopped.why = Why::enough;
    stopped.thread = thread;
  }
  for (std::size_t i = returning_.size(); i-- > 0;) {
    const Returning returning = returning_[i];
    if (returning.thread != thread || stack < returning.cfa) continue;
    // Higher on the stack than the function's frame: it has returned, or was left by a jump or an exception.
    returning_.erase(returning_.begin() + static_cast<std::ptrdiff_t>(i));
    const auto halt = std::ranges::find_if(halts_, [&](const auto& one) { return one->number == returning.halt; });
    constexpr std::uint64_t kReleased = 64;  // bytes of arguments that the function took off the stack itself
    if (halt != halts_.end() && returning.address == address && stack - returning.cfa <= kReleased &&
        counts(**halt, thread, stopped, returning.function)) {
      hit(**halt, thread, stopped);
      stopped.returned_from = returning.function;
    }
    release(returning.address);
  }
  for (const auto& halt : halts_) {
    if (halt->frame_return == address && halt->frame_thread == thread && stack >= halt->frame_cfa) {
      stopped.notes.push_back("h" + std::to_string(halt->number) + " ended with its frame");
      halt->spent = true;
    }
    if (!std::ranges::binary_search(halt->addresses, address) || halt->rule.on_data()) continue;
    if (halt->rule.how().at_return) {
      const std::uint64_t word = arch::machine_of(process_->view(thread).mode()).word;
      std::uint8_t bytes[8] = {};
      std::uint64_t back = 0;
      if (process_->memory().read(stack, {bytes, word}) != word) continue;
      std::memcpy(&back, bytes, 8);
      ++halt->entered;
      if (use(back, true)) returning_.push_back({halt->number, thread, back, stack + word, address});
      continue;
    }
    if (!counts(*halt, thread, stopped)) continue;
    using Kind = HaltRule::Kind;
    const bool exception = halt->rule.kind == Kind::thrown || halt->rule.kind == Kind::caught;
    look::ThrownObject object;
    if (exception) object = look::exception_at(*modules_, process_->view(thread));
    hit(*halt, thread, stopped, {.by = std::move(object.words), .thrown = std::move(object.value)});
  }
  if (goal_ == nullptr) return;
  if (goal_->thread != 0 && goal_->thread != thread) return;
  const bool entry = std::ranges::find(goal_->entries, address) != goal_->entries.end();
  const bool site = stack >= goal_->lowest_stack && std::ranges::find(goal_->sites, address) != goal_->sites.end();
  if (entry || site) {
    goal_->reached = address;
    stopped.thread = thread;
  }
}

/// By the code of the function from its start on.
const Control::Neighbours& Control::neighbours(std::uint64_t address) {
  const auto [place, added] = neighbours_.try_emplace(address);
  Neighbours& result = place->second;
  if (!added) return result;
  result.here = instruction_at(address);
  const look::Module* module = modules_->at(address);
  if (module == nullptr) return result;
  const program::Function* function = module->program->function_at(address - module->bias);
  if (function == nullptr) return result;
  const std::uint64_t start = function->address + module->bias;
  const Bytes code = module->program->elf().bytes_at(function->address);
  for (const isa::Placed& one : isa::instructions_of(code, module->program->mode())) {
    if (start + one.at >= address) break;
    if (start + one.next() != address || !one.instruction) continue;
    result.before = start + one.at;
    result.instruction = one.instruction;
  }
  return result;
}

/// The instruction whose memory access a debug register saw: it is the one before where the thread stands, unless
/// control came from elsewhere.
std::uint64_t Control::writer_before(pid_t thread, const Halt& halt) {
  const process::ThreadView& view = process_->view(thread);
  const std::uint64_t now = view.registers()[Reg::rip];
  const bool reads_count = halt.rule.how().reads;
  const auto accesses = [&](const isa::Instruction& instruction) {
    for (const isa::Operand& operand : isa::operands_of(instruction)) {
      if (operand.kind != isa::Operand::Kind::memory || operand.width == 0) continue;
      if (isa::writes(operand.access) || (reads_count && isa::reads(operand.access))) return true;
    }
    return false;
  };
  // A repeated string instruction is not done yet.
  const Neighbours& around = neighbours(now);
  const isa::Instruction& here = around.here;
  if (here && isa::is_repeated(here) && accesses(here)) {
    const isa::RegisterPart counter{isa::RegisterFile::general, isa::kRcx, 0, 64};
    const std::uint64_t to = view.registers()[Reg::rdi];
    constexpr std::uint64_t kNear = 128;
    if (state::value_of(view.registers(), counter) != 0 &&
        overlap(to - kNear, 2 * kNear, halt.address_in(view), halt.size))
      return now;
  }
  if (around.before != 0) {
    const ControlFlow flow = isa::flow_of(around.instruction);
    if ((flow == ControlFlow::next || flow == ControlFlow::conditional) && accesses(around.instruction))
      return around.before;
  }
  // A call wrote its return address.
  const std::uint64_t word = arch::machine_of(view.mode()).word;
  const std::uint64_t stack = view.registers()[Reg::rsp];
  if (overlap(stack, word, halt.address_in(view), halt.size)) {
    std::uint8_t bytes[8] = {};
    std::uint64_t back = 0;
    (void)process_->memory().read(stack, {bytes, word});
    std::memcpy(&back, bytes, 8);
    for (const std::uint64_t length : {5, 2, 3, 6, 7, 8, 4}) {
      const isa::Instruction call = instruction_at(back - length);
      if (call && call.length == length && isa::flow_of(call) == ControlFlow::call) return back - length;
    }
  }
  return 0;
}

/// Debug registers have seen accesses.
void Control::data_event(pid_t thread, unsigned slots, Stopped& stopped) {
  guard_event(slots, stopped);
  for (const auto& halt : halts_) {
    const bool seen = std::ranges::any_of(halt->slots, [&](unsigned slot) { return (slots >> slot & 1) != 0; });
    if (!seen || halt->spent || !halt->rule.on_data()) continue;
    const state::RegisterSet& registers = process_->view(thread).registers();
    if (halt->frame_cfa != 0 && halt->frame_thread == thread && registers[Reg::rsp] > halt->frame_cfa) {
      stopped.notes.push_back("h" + std::to_string(halt->number) + " ended with its frame");
      halt->spent = true;
      continue;
    }
    const std::uint64_t address = halt->address_in(process_->view(thread));
    std::vector<std::uint8_t>& last = halt->last_of(thread);
    std::vector<std::uint8_t> now(halt->size);
    now.resize(process_->memory().read(address, now));
    const bool changed = !halt->same(now, last);
    const std::uint64_t writer = writer_before(thread, *halt);
    bool wanted = changed;
    if (!changed && !halt->rule.how().only_changes && halt->mask.empty()) {
      wanted = halt->exact || writer == 0;
      if (!wanted) {
        // A neighbour in the same slot? The instruction's operands tell, as far as it left its registers alone.
        state::RegisterSet at_writer = registers;
        at_writer[Reg::rip] = writer;
        const isa::Instruction instruction = instruction_at(writer);
        for (const state::TouchedRange& range : state::touched_by(instruction, at_writer))
          wanted |= overlap(range.address, range.size, address, halt->size);
      }
    }
    HaltHit details{.writer = writer, .by = {}, .before = last, .after = now};
    if (writer == 0) details.by = "an instruction that went on elsewhere";
    last = now;
    if (wanted && counts(*halt, thread, stopped)) hit(*halt, thread, stopped, std::move(details));
  }
}

/// What an instruction will access of data that is watched by stepping.
void Control::about_to_step(pid_t thread) {
  const process::ThreadView& view = process_->view(thread);
  const int signal = process_->signal_of(thread);
  announced_ = {.address = view.registers()[Reg::rip],
                .halts = {},
                .handler = signal != 0 && process::catches_signal(process_->pid(), signal)};
  if (announced_.handler || !needs_stepping()) return;
  const isa::Instruction instruction = instruction_at(announced_.address);
  if (!instruction) return;
  const state::Touched ranges = state::touched_by(instruction, view.registers());
  for (const auto& halt : halts_) {
    if (!halt->by_stepping || halt->spent) continue;
    const bool touched = std::ranges::any_of(ranges, [&](const state::TouchedRange& range) {
      const bool counts_here = isa::writes(range.access) || (halt->rule.how().reads && isa::reads(range.access));
      return counts_here && overlap(range.address, range.size, halt->address_in(view), halt->size);
    });
    if (touched) announced_.halts.push_back(halt->number);
  }
}

void Control::after_step(pid_t thread, unsigned slots, Stopped& stopped) {
  if (slots != 0) data_event(thread, slots, stopped);
  for (const auto& halt : halts_) {
    if (std::ranges::find(announced_.halts, halt->number) == announced_.halts.end()) continue;
    std::vector<std::uint8_t>& last = halt->last_of(thread);
    std::vector<std::uint8_t> now(halt->size);
    now.resize(process_->memory().read(halt->address_in(process_->view(thread)), now));
    const bool changed = !halt->same(now, last);
    HaltHit details{.writer = announced_.address, .by = {}, .before = last, .after = now};
    last = now;
    const bool wanted = changed || (!halt->rule.how().only_changes && halt->mask.empty());
    if (wanted && counts(*halt, thread, stopped)) hit(*halt, thread, stopped, std::move(details));
  }
}

namespace {

/// True of a call that lets a child run in the program's memory until that executes a program or ends.
bool lends_memory(const state::StateView& view, std::string_view call) {
  constexpr std::uint64_t kVfork = 0x4000;  // CLONE_VFORK, linux/sched.h
  std::uint64_t flags = abi::argument(view.registers(), 1, view.mode());
  if (call == "clone3") {  // the first member of struct clone_args
    std::uint8_t bytes[8] = {};
    if (view.read_memory(flags, bytes) != sizeof bytes) return false;
    std::memcpy(&flags, bytes, sizeof flags);
  }
  return call == "vfork" || ((call == "clone" || call == "clone3") && (flags & kVfork) != 0);
}

}  // namespace

/// What the kernel wrote for a system call no debug register sees: it is found by comparing.
void Control::data_after_call(pid_t thread, std::uint64_t number, Stopped& stopped) {
  const process::ThreadView& view = process_->view(thread);
  const auto table = look::table_of_call(view);
  const abi::SystemCall* call = abi::system_call(number, table);
  const bool lent = call != nullptr && lends_memory(view, call->name);
  const unsigned by_kernel = process_->kernel_slots(thread);
  std::optional<unsigned> by_others;
  for (const auto& halt : halts_) {
    if (!halt->rule.on_data() || halt->spent) continue;
    const std::uint64_t watched = halt->address_in(view);
    std::vector<std::uint8_t>& last = halt->last_of(thread);
    std::vector<std::uint8_t> now(halt->size);
    now.resize(process_->memory().read(watched, now));
    const auto in = [&](unsigned slots) {
      return std::ranges::any_of(halt->slots, [&](unsigned slot) { return (slots >> slot & 1) != 0; });
    };
    const bool certain = in(by_kernel) && halt->exact && halt->mask.empty();
    if (now == last && !(certain && !halt->rule.how().only_changes)) continue;
    // Another thread's instruction may have written it a moment ago: its debug register will say so.
    if (!in(by_kernel) && process_->threads().size() > 1 && !halt->slots.empty()) {
      if (!by_others) by_others = process_->unreported_slots(thread);
      if (in(*by_others)) continue;
    }
    if (lent && options_.trace_children) {  // that child's own stop points have counted it
      last = now;
      continue;
    }
    if (call != nullptr && !lent && call->outputs_known && table == abi::CallTable::x86_64) {
      bool may = false;
      for (unsigned i = 0; i < call->output_count; ++i) {
        const abi::KernelOutput& output = call->outputs[i];
        const std::uint64_t address = abi::argument(view.registers(), output.argument);
        const std::uint64_t size =
            output.size != 0 ? output.size : abi::argument(view.registers(), output.argument + 1U);
        may |= overlap(address, size, watched, halt->size);
      }
      if (!may) continue;  // another thread's instruction wrote it, and its debug register will say so
    }
    const std::string by =
        lent ? "a child process in the program's memory" : "system call " + abi::call_name(number, table);
    HaltHit details{.by = by, .before = last, .after = now};
    const bool changed = !halt->same(now, last);
    const bool wanted = changed || (certain && !halt->rule.how().only_changes);
    last = now;
    if (wanted && counts(*halt, thread, stopped)) hit(*halt, thread, stopped, std::move(details));
  }
}

void Control::signal_event(const Event& event, Stopped& stopped) {
  for (const auto& halt : halts_) {
    if (halt->rule.how().by != HaltKind::By::signal) continue;
    if (halt->rule.what != "any" && abi::signal_named(halt->rule.what) != event.number) continue;
    if (counts(*halt, event.thread, stopped)) hit(*halt, event.thread, stopped, {.by = abi::signal_name(event.number)});
  }
  const bool forced = event.by_instruction && !process::catches_signal(process_->pid(), event.number);
  if (is_harmless(process_->pid(), event.number) && !forced) {
    const bool routine = event.number == SIGCHLD || event.number == SIGWINCH || event.number == SIGURG;
    if (!routine && stopped.hits.empty()) stopped.notes.push_back(abi::signal_name(event.number) + " came");
    return;
  }
  stopped.number = event.number;
  stopped.fault_address = event.fault_address;
  stopped.fault_address_known = event.by_instruction && event.fault_address_known && event.number != SIGTRAP;
  if (!options_.hold_at_crash || !stopped.hits.empty()) return;
  stopped.why = Why::signal;
  stopped.thread = event.thread;
}

namespace {

/// Of the kernel's own numbers for calls that a signal has broken off (linux/errno.h).
bool begins_anew(std::int64_t result) {
  constexpr std::int64_t kFirst = 512, kLast = 516;
  return -result >= kFirst && -result <= kLast;
}

/// " gave 22", " failed: EFAULT".
std::string given_words(std::int64_t result) {
  const std::string error = result < 0 ? abi::error_name(static_cast<int>(-result)) : "";
  return error.empty() ? " gave " + std::to_string(result) : " failed: " + error;
}

/// The result of the call that a thread has just come out of.
std::int64_t call_result(const state::StateView& view) {
  const std::uint64_t result = view.registers()[Reg::rax];
  return view.mode() == isa::Mode::bits32 ? static_cast<std::int32_t>(result) : static_cast<std::int64_t>(result);
}

}  // namespace

void Control::call_event(const Event& event, Stopped& stopped) {
  const auto number = static_cast<std::uint64_t>(event.number);
  if (event.kind == Event::Kind::call_exit) {
    data_after_call(event.thread, number, stopped);
    if (goal_ != nullptr && goal_->call_exit && goal_->thread == event.thread) {
      goal_->reached = process_->view(event.thread).registers()[Reg::rip];
      stopped.thread = event.thread;
    }
  }
  const bool returned = event.kind == Event::Kind::call_exit;
  const std::int64_t result = call_result(process_->view(event.thread));
  if (returned && begins_anew(result)) return;
  const std::string name = abi::call_name(number, look::table_of_call(process_->view(event.thread)));
  for (const auto& halt : halts_) {
    if (halt->rule.how().by != HaltKind::By::system_call) continue;
    if (halt->rule.what != "any" && halt->rule.what != name) continue;
    // What it gives is known when it returns.
    if (returned != (halt->condition && halt->condition->uses_result())) continue;
    if (!counts(*halt, event.thread, stopped, std::nullopt, name)) continue;
    std::string by = "system call " + name;
    if (returned) by += given_words(result);
    hit(*halt, event.thread, stopped, {.call_returned = returned, .by = std::move(by)});
  }
}

/// Another program: its modules are not mapped yet, so stop points wait for its entry.
std::optional<Error> Control::replaced() {
  thread_ = process_->pid();
  kernel_.reset();
  sites_.clear();
  watched_sites_.clear();
  guards_.clear();
  returning_.clear();
  loader_.reset();
  reentries_known_ = false;
  neighbours_.clear();
  for (const auto& halt : halts_) {
    halt->addresses.clear();
    halt->levels.clear();
    halt->slots.clear();
    halt->frame_return = 0;
    halt->spent |= halt->rule.on_data();  // what it watched is gone
    halt->waiting = halt->rule.how().by == HaltKind::By::place;
  }
  Result<program::Program> program = program_to_run(process::executable_of(process_->pid()), options_.open);
  if (!program) return program.error();
  modules_ = std::make_unique<look::Modules>(*process_, std::move(*program), options_.open);
  entry_site_ = process_->auxiliary(state::Auxiliary::entry).value_or(0);
  if (entry_site_ != 0 && !use(entry_site_, true)) entry_site_ = 0;
  return std::nullopt;
}

void Control::take_end(const Event& event, Stopped& stopped) {
  if (watcher_ != nullptr) watcher_->ended();
  stopped.why = event.kind == Event::Kind::exited ? Why::exited : Why::killed;
  stopped.number = event.number;
  stopped.thread = event.thread;
  stopped.hits.clear();
}

Answer Control::visit(const Event& event) {
  visiting_ = true;
  const Answer answer = judge(event);
  visiting_ = false;
  return answer;
}

Answer Control::judge(const Event& event) {
  Stopped& stopped = stopped_;
  using Kind = Event::Kind;
  switch (event.kind) {
    case Kind::stop_byte:
      process_->reported(event.thread);
      arrive(event.thread, stopped);
      break;
    case Kind::debug_register: {
      data_event(event.thread, event.slots, stopped);
      bool code = false;
      for (unsigned i = 0; i < kDebugSlots; ++i) {
        const auto& slot = process_->watched(i);
        code |= (event.slots >> i & 1) != 0 && slot && slot->on == DebugSlot::On::execution;
      }
      if (code) {
        process_->reported(event.thread);
        arrive(event.thread, stopped);
      }
      break;
    }
    case Kind::about_to_step: about_to_step(event.thread); break;
    case Kind::stepped:
      if (watcher_ != nullptr) watcher_->stepped(event.thread);
      after_step(event.thread, event.slots, stopped);
      break;
    case Kind::signal: signal_event(event, stopped); break;
    case Kind::call_entry:
    case Kind::call_exit: call_event(event, stopped); break;
    case Kind::replaced:
      if (watcher_ != nullptr) watcher_->replaced();
      if (const auto error = replaced()) {
        stopped.notes.push_back("the program replaced itself by another, which is let go: " + error->message);
        stopped.why = Why::let_go;
        break;
      }
      stopped.notes.push_back("the program replaced itself by another, " + path());
      if (goal_ != nullptr) {
        stopped.why = Why::replaced;
        stopped.thread = process_->pid();
      }
      break;
    case Kind::thread_ended:
      if (watcher_ != nullptr) watcher_->thread_ended(event.thread);
      if (event.thread == thread_) {
        const auto left = process_->threads();
        if (!left.empty()) thread_ = left.front();
        if (goal_ != nullptr && goal_->thread == event.thread) stopped.why = Why::thread_ended;
      }
      break;
    case Kind::child: take_children(); break;
    case Kind::exited:
    case Kind::killed: take_end(event, stopped); return Answer::hold;
    default: break;
  }
  const bool at_site = event.kind == Kind::stop_byte || event.kind == Kind::debug_register;
  if (entry_site_ != 0 && at_site && process_->has_thread(event.thread) &&
      process_->view(event.thread).registers()[Reg::rip] == entry_site_) {
    release(std::exchange(entry_site_, 0));
    (void)modules_->refresh(*process_);
    find_loader();
    resolve_waiting();
    if (watcher_ != nullptr) watcher_->modules_changed();
  }
  const bool reached = goal_ != nullptr && goal_->reached != 0;
  return stopped.why != Why::arrived || reached ? Answer::hold : Answer::go_on;
}

}  // namespace deeptrace::control
