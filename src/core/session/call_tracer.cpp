#include "session/call_tracer.h"

#include <algorithm>
#include <cstring>
#include <utility>

#include "abi/inferred_arguments.h"
#include "abi/prototypes.h"
#include "arch/relocations.h"
#include "look/address_name.h"
#include "look/call_arguments.h"
#include "look/call_before.h"
#include "look/places.h"
#include "look/scope.h"
#include "process/maps.h"
#include "session/inlined_sites.h"
#include "session/signal_return.h"
#include "state/touched.h"

namespace deeptrace::session {

using program::Function;
using state::Reg;

namespace {

const inspect::ValueLimits kLimits{.elements = 16};

bool is_wanted(const Function& function) { return function.origin != Function::Origin::plt; }

/// The function that a slot which the dynamic linker fills is for, where an instruction goes through one; else empty.
std::string_view import_of(look::Modules& modules, const isa::Instruction& instruction, const state::StateView& view) {
  const isa::Operand operand = isa::operands_of(instruction)[0];
  if (operand.kind != isa::Operand::Kind::memory) return {};
  const state::RegisterSet& registers = view.registers();
  const std::uint64_t slot =
      state::address_of(operand.memory(), registers, registers[Reg::rip] + instruction.length, operand.width);
  const look::Module* module = modules.at(slot);
  const auto* filled = module != nullptr ? module->program->relocation_in(slot - module->bias, 1) : nullptr;
  // A table of virtual functions has addresses that the linker puts there, too.
  const bool absolute =
      filled != nullptr && arch::relocation_means(filled->type, view.mode(), arch::RelocationKind::kAbsolute);
  return filled != nullptr && !absolute ? filled->symbol : std::string_view();
}

unsigned word_of(const state::StateView& view) { return arch::machine_of(view.mode()).word; }

}  // namespace

CallTracer::CallTracer(CallsRun& run, control::Control& control, std::uint64_t number)
    : run_(run), control_(control), number_(number) {
  make_checks();
}

/// What they know of a program's code is that of its modules.
void CallTracer::make_checks() {
  if (run_.request.check) checks_.emplace(control_.modules());
}

// ---- what is watched ------------------------------------------------------------------------------------------------

void CallTracer::modules_changed() {
  look::Modules& modules = control_.modules();
  // What stood at an address may be something else now.
  if (!checks_) make_checks();
  callees_.clear();
  for (auto& [address, site] : sites_) old_sites_.push_back(std::move(site));
  sites_.clear();
  std::set<std::pair<std::string, std::uint64_t>> present;
  std::vector<const look::Module*> fresh;
  for (const auto& module : modules.all()) {
    if (!module->program || module->system) continue;
    present.emplace(module->path, module->bias);
    if (!watched_.contains({module->path, module->bias})) fresh.push_back(module.get());
  }
  watched_ = std::move(present);
  for (const look::Module* module : fresh) {
    if (module == &modules.main()) continue;
    for (const Function& function : module->program->functions()) {
      if (is_wanted(function) && module->program->is_own(function)) own_symbols_.emplace(function.symbol());
    }
  }
  for (const look::Module* module : fresh) watch(*module);
  for (const std::uint64_t address : modules.own_entries().handlers) {
    if (control_.watch_site(address)) handlers_.insert(address);
  }
  for (const std::uint64_t address : modules.reentries()) (void)control_.watch_site(address);
  find_roots();
}

bool CallTracer::is_own_elsewhere(std::string_view symbol) const {
  return own_symbols_.contains(std::string(symbol.substr(0, symbol.find('@'))));
}

void CallTracer::watch(const look::Module& module) {
  const CallSites found = call_sites_of(module, [this](std::string_view symbol) { return is_own_elsewhere(symbol); });
  for (const std::uint64_t address : found.entries) {
    if (control_.watch_site(address)) entries_.insert(address);
  }
  for (const std::uint64_t address : found.calls) {
    if (control_.watch_site(address)) leavings_.try_emplace(address);
  }
  if (!run_.request.inlined) return;
  for (InlinedSite& site : inlined_sites_of(module)) {
    if (!control_.watch_site(site.address)) continue;
    Callee& callee = all_callees_.emplace_back();
    callee.address = site.address;
    callee.function = std::move(site.function);
    callee.own = true;
    inlined_[site.address].push_back({site.depth, site.described, &callee, {}});
  }
}

void CallTracer::find_roots() {
  for (const std::string& name : run_.request.of) {
    const auto places = look::stop_places(control_.modules(), control_.view(), name, true);
    if (places) roots_.insert(places->starts.begin(), places->starts.end());
  }
}

std::optional<Error> CallTracer::wrong_name() const {
  for (const std::string& name : run_.request.of) {
    const auto places = look::stop_places(control_.modules(), control_.view(), name, true);
    if (!places) return places.error();
    if (places->starts.empty() && !places->waiting)
      return Error{Fault::usage, name + " is no function: --of takes names of functions"};
  }
  return std::nullopt;
}

bool CallTracer::is_root(const Callee& callee) const {
  const std::vector<std::string>& names = run_.request.of;
  return names.empty() || roots_.contains(callee.address) ||
         (!callee.own && std::ranges::find(names, callee.function) != names.end());
}

// ---- what is known of places ----------------------------------------------------------------------------------------

std::uint64_t CallTracer::word_at(const state::StateView& view, std::uint64_t address) const {
  std::uint8_t bytes[8] = {};
  std::uint64_t value = 0;
  const unsigned word = word_of(view);
  if (view.read_memory(address, {bytes, word}) == word) std::memcpy(&value, bytes, sizeof value);
  return value;
}

std::uint64_t CallTracer::now() const {
  return static_cast<std::uint64_t>(
      std::chrono::duration_cast<std::chrono::nanoseconds>(Clock::now() - run_.begun).count());
}

const Callee& CallTracer::callee(std::uint64_t target, std::string_view import) {
  const auto [place, added] = callees_.try_emplace(target);
  if (!added) return *place->second;
  look::Modules& modules = control_.modules();
  Callee& made = all_callees_.emplace_back();
  place->second = &made;
  made.address = target;
  const std::string name = import.empty() ? modules.called_name(target) : program::demangled(import);
  made.function = abi::source_name(name);
  const look::Module* module = modules.at(target);
  const Function* function = modules.function_at(target);
  const bool stub = function != nullptr && function->origin == Function::Origin::plt;
  made.own = entries_.contains(target) || (stub && is_own_elsewhere(function->name.symbol()));
  debuginfo::Types& home = look::Modules::debug(modules.main()).types;
  const arch::Mode mode = module != nullptr ? module->program->mode() : modules.main().program->mode();
  made.signature = look::signature_of(modules, target, name, home, mode);
  if (made.signature.known || stub || function == nullptr) return made;
  made.inferred = true;
  made.signature.layout.arguments = abi::inferred_arguments(*module->program, look::Modules::scan(*module), *function);
  return made;
}

const CallTracer::Site& CallTracer::site_of(std::uint64_t back, const state::StateView& view) {
  const auto [place, added] = sites_.try_emplace(back);
  if (!added) return *place->second;
  place->second = std::make_unique<Site>();
  Site& site = *place->second;
  site.is_signal = signal_return_length(view, back) != 0;
  if (site.is_signal) return site;
  look::Modules& modules = control_.modules();
  const look::Module* module = modules.at(back);
  const bool library = module != nullptr && module->system;  // whose source nobody asks for
  const auto call = library ? look::likely_call_before(modules, back) : look::call_before(modules, back);
  if (!call) return site;
  site.is_call = true;
  site.origin.address = call->address;
  if (library) {
    site.origin.where.place = modules.return_name(back);
  } else {
    site.origin.where = look::own_where_at(modules, call->address);
  }
  return site;
}

CallTracer::Leaving* CallTracer::leaving_at(std::uint64_t address) {
  const auto found = leavings_.find(address);
  if (found == leavings_.end()) return nullptr;
  Leaving& site = found->second;
  if (site.origin.address != 0) return &site;
  look::Modules& modules = control_.modules();
  const look::Module* module = modules.at(address);
  if (module == nullptr) return nullptr;
  site.instruction = isa::decode(module->program->elf().bytes_at(address - module->bias), module->program->mode());
  site.origin = {address, look::own_where_at(modules, address)};
  return &site;
}

CallTracer::Thread& CallTracer::thread_of(pid_t id) {
  const auto [place, added] = threads_.try_emplace(id);
  if (added) place->second.number = ++threads_seen_;
  return place->second;
}

CallTracer::Stack& CallTracer::stack_of(Thread& thread, const state::StateView& view) {
  const std::uint64_t at = view.registers()[Reg::rsp];
  const auto holds = [&](const Stack& stack) { return stack.from <= at && at < stack.to; };
  if (thread.current < thread.stacks.size() && holds(thread.stacks[thread.current]))
    return thread.stacks[thread.current];
  std::int64_t level = -1;
  std::uint64_t row = 0;
  if (thread.current < thread.stacks.size() && !thread.stacks[thread.current].frames.empty()) {
    const Frame& top = thread.stacks[thread.current].frames.back();
    level = top.level;
    if (top.row) row = top.row->number;
  }
  auto found = std::ranges::find_if(thread.stacks, holds);
  if (found == thread.stacks.end()) {
    // The first thread's memory grows down.
    Stack stack{at & ~std::uint64_t(0xfff), at + 1, -1, 0, {}};
    for (const state::Mapping& mapping : control_.process().mappings()) {
      if (mapping.from <= at && at < mapping.to) stack.from = mapping.from, stack.to = mapping.to;
    }
    found = std::ranges::find(thread.stacks, stack.to, &Stack::to);
    if (found != thread.stacks.end()) {
      found->from = stack.from;
    } else {
      thread.stacks.push_back(std::move(stack));
      found = thread.stacks.end() - 1;
    }
  }
  thread.current = static_cast<std::size_t>(found - thread.stacks.begin());
  if (found->frames.empty()) found->base = level, found->parent = row;
  return *found;
}

// ---- calls ----------------------------------------------------------------------------------------------------------

bool CallTracer::arrived(pid_t id, std::uint64_t address) {
  const state::StateView& view = control_.process().view(id);
  Thread& thread = thread_of(id);
  Stack& stack = stack_of(thread, view);
  unwind(thread, stack, view, address);
  if (entries_.contains(address)) enter(thread, stack, view, callee(address));
  thread.jump = 0;
  thread.through_pointer = false;
  // A function may begin with a call.
  if (const auto inlined = inlined_.find(address); inlined != inlined_.end()) {
    for (InlinedPlace& place : inlined->second) note_inlined(thread, stack, view, place);
  }
  if (Leaving* site = leaving_at(address)) leave_own(thread, stack, view, *site);
  return !run_.enough;
}

/// Takes off what is over, now that control is at an address.
void CallTracer::unwind(const Thread& thread, Stack& stack, const state::StateView& view, std::uint64_t address) {
  constexpr std::uint64_t kReleased = 256;  // bytes of arguments that a function may take off the stack itself
  const std::uint64_t at = view.registers()[Reg::rsp];
  while (!stack.frames.empty() && stack.frames.back().cfa <= at) {
    Frame& top = stack.frames.back();
    const bool returned = top.back == address && at - top.cfa <= kReleased;
    const bool thrown = !returned && handlers_.contains(address);
    end_call(thread, top,
             returned ? CallRow::End::returned
             : thrown ? CallRow::End::thrown
                      : CallRow::End::left,
             &view);
    stack.frames.pop_back();
    if (returned) break;
  }
}

/// At the first instruction of an own function.
void CallTracer::enter(Thread& thread, Stack& stack, const state::StateView& view, const Callee& callee) {
  const unsigned word = word_of(view);
  const std::uint64_t at = view.registers()[Reg::rsp];
  const std::uint64_t back = word_at(view, at);
  const std::uint64_t jump = std::exchange(thread.jump, 0);
  const bool pointer = std::exchange(thread.through_pointer, false);
  Frame* const top = stack.frames.empty() ? nullptr : &stack.frames.back();
  if (top != nullptr && top->cfa == at + word && top->back == back) {
    // The frame that was there is gone, and its caller waits for this one now. Its own first instruction again is a
    // loop's head.
    if (top->callee == &callee && jump == 0 && !callee.signature.known) return;
    const std::uint64_t cfa = top->cfa;
    const Leaving* site = jump != 0 ? leaving_at(jump) : nullptr;
    CallOrigin& left = left_by_jump_[top->callee];
    if (site == nullptr) left.where.place = top->callee->function;
    const CallOrigin& origin = site != nullptr ? site->origin : left;
    end_call(thread, *top, CallRow::End::jumped, nullptr);
    stack.frames.pop_back();
    Frame& frame = begin_call(thread, stack, view, callee, CallRow::By::jump, origin, at + word);
    frame.cfa = cfa;
    frame.back = back;
    return;
  }
  const Site& site = site_of(back, view);
  CallRow::By by = site.is_signal ? CallRow::By::signal : pointer ? CallRow::By::indirect : CallRow::By::call;
  const Function* function = control_.modules().function_at(callee.address);
  bool entry = false;
  if (!site.is_call && !site.is_signal) {
    entry = control_.process().auxiliary(state::Auxiliary::entry) == callee.address;
    if (!entry && (function == nullptr || !function->typed)) return;  // a label that control comes to without a call
    by = CallRow::By::start;
  }
  const bool returns = by != CallRow::By::start && control_.watch_site(back);
  Frame& frame = begin_call(thread, stack, view, callee, by, site.origin, at + word);
  // The program's entry may take off the stack what it finds there, as argc.
  frame.cfa = entry ? ~std::uint64_t(0) : at + word;
  frame.back = returns ? back : 0;
}

/// At an instruction of own code that calls or jumps to another function.
void CallTracer::leave_own(Thread& thread, Stack& stack, const state::StateView& view, Leaving& site) {
  const auto target = look::flow_target(site.instruction, view);
  if (!target) return;
  std::uint64_t direct = 0;
  const bool is_direct = isa::direct_target(site.instruction, site.origin.address, direct);
  const std::string_view import =
      is_direct ? std::string_view() : import_of(control_.modules(), site.instruction, view);
  const bool pointer = !is_direct && import.empty();
  const bool jumps = isa::flow_of(site.instruction) == isa::ControlFlow::jump;
  const Callee& called = callee(*target, import);
  if (called.own) {  // its first instruction is watched
    thread.through_pointer = pointer && !jumps;
    thread.jump = jumps ? site.origin.address : 0;
    return;
  }
  const unsigned word = word_of(view);
  const std::uint64_t at = view.registers()[Reg::rsp];
  if (!jumps) {
    const std::uint64_t back = site.origin.address + site.instruction.length;
    if (!control_.watch_site(back)) return;
    Frame& frame =
        begin_leaving(thread, stack, view, called, pointer ? CallRow::By::indirect : CallRow::By::call, site, at);
    frame.cfa = at;
    frame.back = back;
    return;
  }
  Frame* const top = stack.frames.empty() ? nullptr : &stack.frames.back();
  const std::uint64_t back = word_at(view, at);
  if (top == nullptr || top->cfa != at + word || top->back != back) return;
  end_call(thread, *top, CallRow::End::jumped, nullptr);
  stack.frames.pop_back();
  Frame& frame = begin_leaving(thread, stack, view, called, CallRow::By::jump, site, at + word);
  frame.cfa = at + word;
  frame.back = back;
}

/// The parameters of an inlined function, as the debug information finds them where its code begins.
std::vector<look::Argument> CallTracer::inlined_arguments(const state::StateView& view, unsigned depth) {
  std::vector<look::Argument> arguments;
  look::Scope scope(control_.modules(), view);
  scope.at_depth(depth);
  for (look::Scope::Listed& one : scope.locals()) {
    if (!one.parameter || one.depth != depth) continue;
    look::Argument& argument = arguments.emplace_back();
    argument.name = std::move(one.name);
    if (!one.datum) {
      argument.unknown = one.datum.error().message;
      continue;
    }
    inspect::Datum& datum = *one.datum;
    argument.value = inspect::value_of(datum, scope, kLimits);
    if (datum.type) argument.type = datum.type.types->name(datum.type.id);
    if (datum.place == inspect::Datum::Place::reg) argument.where = isa::name_of(datum.part);
  }
  return arguments;
}

/// Its parameters, as the debug information finds them where its code begins. Code of it and of its caller are mixed,
/// so that its end has no place.
void CallTracer::note_inlined(const Thread& thread, const Stack& stack, const state::StateView& view,
                              InlinedPlace& place) {
  if (stack.frames.empty() || stack.frames.back().level < 0 || !stack.frames.back().row || run_.enough) return;
  const CallRow& around = *stack.frames.back().row;
  const CallsRequest& request = run_.request;
  if (request.depth && around.depth + place.depth >= *request.depth) return;
  if (request.count && run_.summary.rows == *request.count) {
    run_.enough = true;
    return;
  }
  CallRow row;
  row.number = ++run_.summary.rows;
  row.parent = around.number;
  row.process = number_;
  row.thread = thread.number;
  row.depth = around.depth + place.depth;
  row.by = CallRow::By::inlined;
  row.end = CallRow::End::inlined;
  row.callee = place.callee;
  if (place.origin.address == 0) {
    place.origin.address = place.callee->address;
    place.origin.where = look::where_at(control_.modules(), place.callee->address, look::Level{place.depth - 1, {}, 0});
  }
  row.from = &place.origin;
  row.start = now();
  if (request.limit && row.number > *request.limit) {
    ++run_.summary.unlisted;
    return;
  }
  if (place.described) {
    row.arguments = inlined_arguments(view, place.depth);
  } else {
    row.arguments.emplace_back().unknown = "the compiler does not count this instruction among the function's";
  }
  run_.sink.entered(row);
  run_.sink.over(row);
}

/// Of what nothing describes, and whose code is not at hand, the registers that are set for the call are shown.
CallTracer::Frame& CallTracer::begin_leaving(Thread& thread, Stack& stack, const state::StateView& view,
                                             const Callee& called, CallRow::By by, Leaving& site,
                                             std::uint64_t stacked) {
  if (called.signature.known || called.inferred)
    return begin_call(thread, stack, view, called, by, site.origin, stacked);
  if (!site.set) {
    look::Modules& modules = control_.modules();
    const auto rules = [&modules](std::uint64_t address) { return modules.frame_rule(address); };
    const auto state = look::CallState::before_instruction(modules, view, inspect::innermost_frame(view, rules));
    site.set = state ? look::arguments_set(*state) : 0;
  }
  return begin_call(thread, stack, view, called, by, site.origin, stacked, *site.set);
}

/// `stacked` is where arguments on the stack begin; `most`: so many arguments are shown.
CallTracer::Frame& CallTracer::begin_call(Thread& thread, Stack& stack, const state::StateView& view,
                                          const Callee& callee, CallRow::By by, const CallOrigin& from,
                                          std::uint64_t stacked, std::size_t most) {
  std::int64_t around = stack.base;
  std::uint64_t parent = stack.parent;
  if (!stack.frames.empty()) {
    around = stack.frames.back().level;
    parent = stack.frames.back().row ? stack.frames.back().row->number : 0;
  }
  Frame& frame = stack.frames.emplace_back();
  frame.callee = &callee;
  frame.level = around >= 0 ? around + 1 : is_root(callee) ? 0 : -1;
  const std::optional<std::uint64_t>& depth = run_.request.depth;
  if (frame.level < 0 || run_.enough || (depth && static_cast<std::uint64_t>(frame.level) >= *depth)) return frame;
  if (run_.request.count && run_.summary.rows == *run_.request.count) {
    run_.enough = true;
    return frame;
  }
  if (static_cast<std::uint64_t>(frame.level) >= kDeepest) {
    ++run_.summary.too_deep;
    return frame;
  }
  frame.row = std::make_unique<CallRow>();
  CallRow& row = *frame.row;
  row.number = ++run_.summary.rows;
  row.parent = parent;
  row.process = number_;
  row.thread = thread.number;
  row.depth = static_cast<std::uint64_t>(frame.level);
  row.by = by;
  row.callee = &callee;
  row.from = &from;
  const bool listed = !run_.request.limit || row.number <= *run_.request.limit;
  if (listed) {
    look::Scope names(control_.modules(), view);
    // What a program begins with is nothing that somebody passed.
    const bool passed = by != CallRow::By::start || !callee.inferred;
    if (passed) row.arguments = look::arguments_of(callee.signature, {view, names, stacked, kLimits});
    row.arguments.resize(std::min(row.arguments.size(), most));
    if (by == CallRow::By::indirect) row.object = object_of(callee, view, stacked);
    row.result_where = look::where_result_is(callee.signature);
  } else {
    ++run_.summary.unlisted;
  }
  if (checks_) check_call(frame, view, stacked);
  frame.instructions = thread.instructions;
  row.start = now();
  if (listed) run_.sink.entered(row);
  return frame;
}

/// A virtual function's first argument is an object, which begins with the address of its class's table (Itanium C++
/// ABI, 2.5): that of the class that it is of, and not of the one that it is known as.
std::string CallTracer::object_of(const Callee& callee, const state::StateView& view, std::uint64_t stacked) {
  const auto& parameters = callee.signature.parameters;
  if (parameters.empty() || parameters.front().name != "this") return {};
  const arch::Machine& machine = arch::machine_of(view.mode());
  const std::uint64_t object = machine.arguments.empty()
                                   ? word_at(view, stacked)
                                   : view.registers()[state::reg_numbered(machine.arguments.front())];
  const std::uint64_t table = word_at(view, object);
  if (table == 0) return {};
  const std::string name = look::address_name(control_.modules(), view, table, 0).name;
  constexpr std::string_view kTable = "vtable for ";
  if (!name.starts_with(kTable)) return {};
  return name.substr(kTable.size(), name.rfind('+') - kTable.size());
}

void CallTracer::end_call(const Thread& thread, Frame& frame, CallRow::End end, const state::StateView* view) {
  if (!frame.row) return;
  CallRow& row = *frame.row;
  row.end = end;
  row.duration = now() - row.start;
  if (run_.request.every_instruction) row.instructions = thread.instructions - frame.instructions;
  if (checks_ && end == CallRow::End::returned && view != nullptr) check_return(frame, *view);
  if (run_.request.limit && row.number > *run_.request.limit) return;
  if (end == CallRow::End::returned && view != nullptr) {
    look::Scope names(control_.modules(), *view);
    auto result = look::result_of(frame.callee->signature, {*view, names, std::nullopt, kLimits});
    if (result) row.result = std::move(*result);
  }
  run_.sink.over(row);
  if (run_.request.count && row.number >= *run_.request.count) run_.enough = true;
}

look::CheckedCall CallTracer::checked(const Frame& frame, std::uint64_t stacked) const {
  return {frame.callee->function,  frame.callee->address, frame.callee->own, frame.row->from->address, stacked,
          &frame.callee->signature};
}

void CallTracer::check_call(Frame& frame, const state::StateView& view, std::uint64_t stacked) {
  // By a jump, and by the kernel, nobody made a call.
  const CallRow::By by = frame.row->by;
  if (by == CallRow::By::call || by == CallRow::By::indirect)
    take(checks_->at_call(view, checked(frame, stacked), frame.row->arguments), *frame.row);
  if (frame.callee->own) frame.kept = std::make_unique<look::KeptRegisters>(look::kept_registers(view));
}

void CallTracer::check_return(Frame& frame, const state::StateView& view) {
  const auto before = frame.kept ? std::optional(*frame.kept) : std::nullopt;
  take(checks_->at_return(view, checked(frame, 0), before, frame.cfa), *frame.row);
}

void CallTracer::take(std::vector<look::Finding> found, CallRow& row) {
  for (look::Finding& one : found) {
    ++(one.note ? run_.summary.noted : run_.summary.wrong);
    row.findings.push_back(std::move(one));
  }
}

// ---- ends -----------------------------------------------------------------------------------------------------------

void CallTracer::end_all(Thread& thread, CallRow::End end) {
  for (std::size_t i = thread.stacks.size(); i-- > 0;) {
    std::vector<Frame>& frames = thread.stacks[i].frames;
    for (; !frames.empty(); frames.pop_back()) end_call(thread, frames.back(), end, nullptr);
  }
}

void CallTracer::thread_ended(pid_t id) {
  const auto found = threads_.find(id);
  if (found == threads_.end()) return;
  end_all(found->second, CallRow::End::unfinished);
  threads_.erase(found);
}

void CallTracer::give_up() {
  for (auto& [id, thread] : threads_) end_all(thread, CallRow::End::unfinished);
  threads_.clear();
}

void CallTracer::ended() { give_up(); }

void CallTracer::replaced() {
  give_up();
  entries_.clear();
  leavings_.clear();
  callees_.clear();
  for (auto& [address, site] : sites_) old_sites_.push_back(std::move(site));
  sites_.clear();
  handlers_.clear();
  watched_.clear();
  own_symbols_.clear();
  roots_.clear();
  checks_.reset();
}

control::SiteWatcher* CallTracer::of_child(control::Control& child, pid_t forked_by) {
  run_.tracers.push_back(std::make_unique<CallTracer>(run_, child, run_.tracers.size() + 1));
  CallTracer& made = *run_.tracers.back();
  if (forked_by == 0) return &made;
  made.entries_ = entries_;
  for (const auto& [address, site] : leavings_) made.leavings_.try_emplace(address);
  made.handlers_ = handlers_;
  made.inlined_ = inlined_;
  made.watched_ = watched_;
  made.own_symbols_ = own_symbols_;
  made.roots_ = roots_;
  // What is under way in the thread that forked is under way in the child; its rows are the parent's.
  const auto parent = threads_.find(forked_by);
  if (parent == threads_.end()) return &made;
  Thread& thread = made.thread_of(child.process().pid());
  for (const Stack& stack : parent->second.stacks) {
    Stack& copy = thread.stacks.emplace_back(Stack{stack.from, stack.to, stack.base, stack.parent, {}});
    for (const Frame& frame : stack.frames)
      copy.frames.push_back(
          {frame.cfa, frame.back, &made.callee(frame.callee->address), frame.level, nullptr, 0, nullptr});
  }
  thread.current = parent->second.current;
  return &made;
}

}  // namespace deeptrace::session
