#include "session/control.h"

#include <algorithm>
#include <climits>
#include <csignal>
#include <cstdlib>
#include <cstring>

#include "abi/system_calls.h"
#include "base/number.h"
#include "isa/text.h"
#include "process/attention.h"
#include "process/maps.h"
#include "program/flow_graph.h"
#include "session/places.h"
#include "session/signal_names.h"
#include "state/execute.h"
#include "state/touched.h"

namespace deeptrace::session {

using isa::ControlFlow;
using process::DebugSlot;
using process::Event;
using process::kDebugSlots;
using state::Reg;
using Answer = process::Process::Answer;
using Why = Stopped::Why;

namespace {

/// The pieces that debug registers can watch, each aligned to its size, as few as cover a range: one for each eight
/// bytes.
std::vector<DebugSlot> covering(std::uint64_t address, std::uint64_t size, DebugSlot::On on, bool& exact) {
  std::vector<DebugSlot> result;
  exact = true;
  const std::uint64_t end = address + size;
  while (address < end) {
    const std::uint64_t window = address / 8 * 8;
    const std::uint64_t stop = std::min(end, window + 8);
    unsigned width = 1;
    while (address / width * width + width < stop) width *= 2;
    const std::uint64_t start = address / width * width;
    exact &= start == address && start + width == stop;
    result.push_back({start, width, on});
    address = stop;
  }
  return result;
}

bool overlap(std::uint64_t a, std::uint64_t a_size, std::uint64_t b, std::uint64_t b_size) {
  return a < b + b_size && b < a + a_size;
}

}  // namespace

struct Control::Site {
  unsigned count = 0;
  std::optional<unsigned> slot;  ///< a debug register; nothing: a stop byte
  bool lent = false;             ///< the register gives way to stop points that cannot do without
};

struct Control::Halt {
  unsigned number = 0;
  HaltRule rule;
  std::shared_ptr<const inspect::Expression> condition;
  std::uint64_t hits = 0;
  bool waiting = false;  ///< for a module that is not loaded
  bool spent = false;    ///< `once`, and it was
  bool told_failure = false;
  std::vector<std::uint64_t> addresses;
  // Data:
  std::uint64_t address = 0, size = 0;
  inspect::Datum watched;          ///< its type
  std::vector<std::uint8_t> last;  ///< what was there when it was looked at last
  std::vector<std::uint8_t> mask;  ///< of a bit field: its bits; empty: all
  std::vector<unsigned> slots;
  bool exact = true;
  bool by_stepping = false;
  std::uint64_t frame_cfa = 0, frame_return = 0;  ///< of a local variable's frame
  pid_t frame_thread = 0;

  [[nodiscard]] bool same(const std::vector<std::uint8_t>& now) const {
    if (mask.empty() || now.size() != last.size()) return now == last;
    for (std::size_t i = 0; i < now.size(); ++i) {
      if (((now[i] ^ last[i]) & mask[i]) != 0) return false;
    }
    return true;
  }
};

/// Where a motion ends.
struct Control::Goal {
  pid_t thread = 0;                    ///< 0: any
  std::vector<std::uint64_t> sites;    ///< reached with the stack pointer at `lowest_stack` or above
  std::vector<std::uint64_t> entries;  ///< reached in any frame
  std::uint64_t lowest_stack = 0;
  bool call_exit = false;  ///< when the thread's system call has returned
  std::uint64_t reached = 0;
};

namespace {

/// Where the dynamic linker tells that it has loaded libraries, by its symbols (System V ABI, "Dynamic Section", and
/// <link.h>: the state is the fourth word of _r_debug).
struct LinkerHook {
  std::uint64_t function = 0, state = 0;
};

LinkerHook linker_hook(pid_t pid, std::uint64_t base, isa::Mode mode) {
  LinkerHook hook;
  for (const process::Mapping& mapping : process::mappings_of(pid)) {
    if (mapping.from != base || mapping.path.empty()) continue;
    const Result<binary::Elf> elf = binary::Elf::open(mapping.path);
    if (!elf) return {};
    const std::uint64_t word = mode == isa::Mode::bits64 ? 8 : 4;
    const binary::SymbolTable& symbols = elf->symbols();
    for (std::size_t i = 0; i < symbols.size(); ++i) {
      const std::string_view name = symbols.name_at(i);
      if (name == "_dl_debug_state") hook.function = symbols[i].address + base;
      if (name == "_r_debug") hook.state = symbols[i].address + base + 3 * word;
    }
  }
  return hook.function != 0 && hook.state != 0 ? hook : LinkerHook{};
}

}  // namespace

bool is_harmless(pid_t pid, int signal) {
  if (signal == SIGCHLD || signal == SIGURG || signal == SIGWINCH || signal == SIGCONT || signal == SIGSTOP ||
      signal == SIGTSTP || signal == SIGTTIN || signal == SIGTTOU)
    return true;
  return process::catches_signal(pid, signal) || process::ignores_signal(pid, signal);
}

// ---- beginning ------------------------------------------------------------------------------------------------------

Control::Control(ControlOptions options) : options_(std::move(options)) {}
Control::~Control() = default;

Result<std::unique_ptr<Control>> Control::start(ControlOptions options) {
  std::unique_ptr<Control> control(new Control(std::move(options)));
  if (auto error = control->begin()) return *error;
  return control;
}

Result<program::Program> Control::open_main(const std::string& path) {
  Result<program::Program> program = program::Program::open(path, options_.open);
  if (!program) return program;
  if (program->elf().kind() == binary::Kind::relocatable)
    return Error{Fault::program, path + ": is an object file; link it into a program first"};
  return program;
}

std::optional<Error> Control::begin() {
  std::string path;
  if (options_.attach != 0) {
    char real[PATH_MAX];
    const std::string link = "/proc/" + std::to_string(options_.attach) + "/exe";
    const ssize_t size = ::readlink(link.c_str(), real, sizeof real);
    Result<std::unique_ptr<process::Process>> attached = process::Process::attach(options_.attach);
    if (!attached) return attached.error();
    process_ = std::move(*attached);
    path = size > 0 ? std::string(real, static_cast<std::size_t>(size)) : link;
    if (path.ends_with(" (deleted)")) path = link;
  } else {
    Result<std::string> found = process::find_program(options_.launch.program);
    if (!found) return found.error();
    path = *found;
  }
  Result<program::Program> program = open_main(path);
  if (!program) return program.error();
  if (!process_) {
    Result<std::unique_ptr<process::Process>> launched = process::Process::launch(options_.launch);
    if (!launched) return launched.error();
    process_ = std::move(*launched);
  }
  if (options_.trace_children) process_->trace_children();
  thread_ = process_->pid();
  if (options_.attach == 0) {
    if (auto error = run_to_beginning(path)) return error;
  }
  modules_ = std::make_unique<Modules>(process_->pid(), std::move(*program), options_.open);
  find_loader();
  before_ = view().registers();
  return std::nullopt;
}

/// At the entry the dynamic linker has mapped every library that the program names, and their constructors have run. It
/// calls a function of its own when all is mapped and relocated, before those.
std::optional<Error> Control::run_to_beginning(const std::string& path) {
  const pid_t pid = process_->pid();
  const std::uint64_t entry = process::auxiliary_value(pid, 9);        // AT_ENTRY
  const std::uint64_t linker_base = process::auxiliary_value(pid, 7);  // AT_BASE
  if (view().registers()[Reg::rip] == entry) return std::nullopt;
  process::Memory& memory = process_->memory();
  if (!memory.plant(entry)) return Error{Fault::program, path + ": its entry cannot be reached"};
  LinkerHook hook;
  if (options_.before_libraries && linker_base != 0) hook = linker_hook(pid, linker_base, view().mode());
  if (hook.function != 0 && !memory.plant(hook.function)) hook = {};
  const Event event = process_->run({}, [&](const Event& e) {
    if (e.kind != Event::Kind::stop_byte) return Answer::go_on;
    process_->told(e.thread);
    std::uint8_t state[4] = {1};
    const bool at_hook = process_->view(e.thread).registers()[Reg::rip] == hook.function;
    if (at_hook) (void)memory.read(hook.state, state);
    return at_hook && state[0] != 0 ? Answer::go_on : Answer::hold;
  });
  if (event.program_is_gone()) return Error{Fault::program, path + ": ended before its entry was reached"};
  if (event.kind == Event::Kind::attention) return Error{Fault::program, path + ": interrupted before its entry"};
  memory.lift(entry);
  if (hook.function != 0) memory.lift(hook.function);
  return std::nullopt;
}

/// The child stands behind its fork, or at the beginning of a program of its own.
Result<std::unique_ptr<Control>> Control::of_child(const Control& parent, std::unique_ptr<process::Process> child) {
  std::unique_ptr<Control> control(new Control(parent.options_));
  control->process_ = std::move(child);
  control->thread_ = control->process_->pid();
  control->next_number_ = parent.next_number_;
  control->others_run_ = parent.others_run_;
  control->on_child_ = parent.on_child_;
  control->copy_halts(parent);
  if (control->process_->is_fresh()) {
    if (auto error = control->replaced()) return *error;
    control->before_ = control->view().registers();
    return control;
  }
  control->modules_ = std::make_unique<Modules>(*parent.modules_);
  control->sites_ = parent.sites_;
  control->guards_ = parent.guards_;
  control->loader_site_ = parent.loader_site_;
  control->loader_state_ = parent.loader_state_;
  control->entry_site_ = parent.entry_site_;
  for (Returning returning : parent.returning_) {
    const bool forked_inside = returning.thread == control->process_->forked_by();
    returning.thread = control->thread_;
    if (forked_inside) control->returning_.push_back(returning);
    if (!forked_inside) control->release(returning.address);
  }
  for (const std::uint64_t address : parent.goal_sites_) control->release(address);
  for (const std::uint64_t address : parent.deserted_) {
    control->sites_[address].count = 1;
    control->release(address);
  }
  control->before_ = control->view().registers();
  return control;
}

void Control::copy_halts(const Control& parent) {
  for (const auto& halt : parent.halts_) {
    halts_.push_back(std::make_unique<Halt>(*halt));
    Halt& copy = *halts_.back();
    copy.hits = 0;
    if (copy.frame_thread == process_->forked_by()) copy.frame_thread = thread_;
  }
}

void Control::take_children() {
  while (std::unique_ptr<process::Process> child = process_->take_child()) {
    const pid_t pid = child->pid();
    Result<std::unique_ptr<Control>> control = of_child(*this, std::move(child));
    if (!control) {
      stopped_.notes.push_back("child process " + std::to_string(pid) + " is let go: " + control.error().message);
    } else if (on_child_) {
      on_child_(std::move(*control));
    }
  }
}

/// The dynamic linker calls a function of its own whenever it has loaded or unloaded a library; its address stands in
/// a table that the program's dynamic section points to (System V ABI, "Dynamic Section", DT_DEBUG).
void Control::find_loader() {
  const program::Program& program = *modules_->main().program;
  const bool wide = program.elf().wide();
  const std::uint64_t word = wide ? 8 : 4;
  constexpr std::uint64_t kDebugTag = 21;
  const auto read = [&](std::uint64_t address) {
    std::uint8_t bytes[8] = {};
    std::uint64_t value = 0;
    (void)process_->memory().read(address, {bytes, word});
    std::memcpy(&value, bytes, 8);
    return value;
  };
  for (const binary::Segment& segment : program.elf().segments()) {
    if (segment.type != binary::kDynamicSegment) continue;
    const std::uint64_t start = segment.address + modules_->main().bias;
    for (std::uint64_t at = start; at < start + segment.memory_size; at += 2 * word) {
      if (read(at) != kDebugTag) continue;
      const std::uint64_t table = read(at + word);
      if (table == 0) return;
      loader_site_ = read(table + 2 * word);
      loader_state_ = table + 3 * word;
    }
  }
  if (loader_site_ != 0 && !process_->memory().plant(loader_site_)) loader_site_ = 0;
  if (loader_site_ != 0) sites_[loader_site_].count = 1;
}

void Control::on_loader(Stopped& stopped) {
  std::uint8_t state[4] = {};
  (void)process_->memory().read(loader_state_, state);
  if (state[0] != 0) return;  // in the middle of a change
  const Modules::Changes changes = modules_->refresh(process_->pid());
  neighbours_.clear();
  reentries_known_ = false;
  for (const std::string& path : changes.loaded) {
    stopped.notes.push_back(path + " was loaded");
    for (const auto& halt : halts_) {
      if (halt->rule.kind == HaltRule::Kind::load && path.find(halt->rule.what) != std::string::npos &&
          counts(*halt, stopped.thread, stopped))
        hit(*halt, stopped.thread, stopped, {.by = path});
    }
  }
  for (const auto& halt : halts_) {
    for (const std::string& path : changes.unloaded) {
      // What stood in it went with it; the kernel unmapped the bytes.
      const bool inside = !halt->addresses.empty() && modules_->at(halt->addresses.front()) == nullptr;
      if (!inside || halt->rule.on_data()) continue;
      for (const std::uint64_t address : halt->addresses) {
        process_->memory().lift(address);
        sites_.erase(address);
      }
      halt->addresses.clear();
      halt->waiting = true;
      stopped.notes.push_back("h" + std::to_string(halt->number) + " waits: " + path + " was unloaded");
    }
  }
  if (!changes.loaded.empty()) resolve_waiting();
}

void Control::resolve_waiting() {
  for (const auto& halt : halts_) {
    if (!halt->waiting) continue;
    halt->waiting = false;
    if (place_halt(*halt)) halt->waiting = true;
  }
}

// ---- sites ----------------------------------------------------------------------------------------------------------

std::optional<unsigned> Control::unused_slot() const {
  for (unsigned i = 0; i < kDebugSlots; ++i) {
    if (!process_->watched(i)) return i;
  }
  return std::nullopt;
}

/// Guards give way, and stop points that can do with a stop byte.
std::optional<unsigned> Control::free_slot() {
  if (const auto unused = unused_slot(); unused || visiting_) return unused;
  if (!guards_.empty()) {
    const unsigned slot = guards_.begin()->first;
    guards_.erase(slot);
    process_->watch(slot, std::nullopt);
    return slot;
  }
  for (auto& [address, site] : sites_) {
    if (!site.lent || !process_->memory().plant(address)) continue;
    const unsigned slot = *std::exchange(site.slot, std::nullopt);
    site.lent = false;
    process_->watch(slot, std::nullopt);
    return slot;
  }
  return std::nullopt;
}

unsigned Control::free_slots() const {
  auto count = static_cast<unsigned>(guards_.size());
  for (unsigned i = 0; i < kDebugSlots; ++i) count += process_->watched(i) ? 0 : 1;
  for (const auto& [address, site] : sites_) count += site.lent ? 1 : 0;
  return count;
}

/// Fetching an instruction is no access to memory for a debug register, so it sees only what reads the code as data.
void Control::guard(const Halt& halt) {
  for (const std::uint64_t address : halt.addresses) {
    const auto site = sites_.find(address);
    if (site == sites_.end() || site->second.slot) continue;
    for (unsigned i = 0; i < kDebugSlots; ++i) {
      if (process_->watched(i)) continue;
      if (process_->watch(i, DebugSlot{address, 1, DebugSlot::On::access})) guards_[i] = {address, halt.number};
      break;
    }
  }
}

void Control::guard_event(unsigned slots, Stopped& stopped) {
  for (auto& [slot, guard] : guards_) {
    if ((slots >> slot & 1) == 0 || std::exchange(guard.told, true)) continue;
    stopped.notes.push_back("the program itself read or wrote " + modules_->place_name(guard.address) +
                            ", where the stop byte of h" + std::to_string(guard.halt) +
                            " lies: it saw cc; with --stop-with hardware its code stays as it is");
  }
}

/// Makes the program stop at an address. `internal` places are not the user's: they leave the last debug registers to
/// stop points.
bool Control::use(std::uint64_t address, bool internal) {
  Site& site = sites_[address];
  if (site.count++ != 0) return true;
  const bool hardware = options_.stop_with == StopWith::hardware ||
                        (options_.stop_with == StopWith::automatic && process_->attached() && !internal);
  if (hardware) {
    if (visiting_) process_->hold_others();  // debug registers are set in threads that stand still
    const auto slot = free_slot();
    if (slot && process_->watch(*slot, DebugSlot{address, 1, DebugSlot::On::execution})) {
      site.slot = slot;
      return true;
    }
  }
  // Where the instruction would have to be stepped at every pass, an unused debug register spares that: the processor
  // goes on behind its trap by itself (the resume flag, Intel SDM volume 3, 18.3.1.1).
  if (options_.stop_with == StopWith::automatic && !internal && !visiting_ &&
      !state::is_computed(instruction_at(address))) {
    const auto slot = unused_slot();
    if (slot && process_->watch(*slot, DebugSlot{address, 1, DebugSlot::On::execution})) {
      site.slot = slot;
      site.lent = true;
      return true;
    }
  }
  if (options_.stop_with != StopWith::hardware && process_->memory().plant(address)) return true;
  sites_.erase(address);
  return false;
}

/// While threads run, one may just have met the stop byte: it stays until all stand still.
void Control::release(std::uint64_t address) {
  const auto found = sites_.find(address);
  if (found == sites_.end() || --found->second.count != 0) return;
  if (visiting_) {
    deserted_.push_back(address);
    return;
  }
  if (process_->gone()) {
    sites_.erase(found);
    return;
  }
  if (found->second.slot) {
    process_->watch(*found->second.slot, std::nullopt);
  } else {
    process_->memory().lift(address);
  }
  sites_.erase(found);
}

// ---- stop points ----------------------------------------------------------------------------------------------------

Result<unsigned> Control::add(const HaltRule& rule) {
  if (process_->gone()) return Error{Fault::usage, "the program has ended; restart it first"};
  auto halt = std::make_unique<Halt>();
  halt->rule = rule;
  if (!rule.condition.empty()) {
    Scope scope(*modules_, view());
    const auto is_type = [&](std::string_view name) { return scope.type_named(name).has_value(); };
    Result<inspect::Expression> condition = inspect::Expression::parse(rule.condition, is_type);
    if (!condition) return condition.error();
    halt->condition = std::make_shared<inspect::Expression>(std::move(*condition));
  }
  halt->number = next_number_;
  if (auto error = rule.on_data() ? place_data(*halt) : place_halt(*halt)) return *error;
  ++next_number_;
  halts_.push_back(std::move(halt));
  if (rule.kind == HaltRule::Kind::at) guard(*halts_.back());
  return halts_.back()->number;
}

std::optional<Error> Control::place_halt(Halt& halt) {
  using Kind = HaltRule::Kind;
  std::string where = halt.rule.what;
  switch (halt.rule.kind) {
    case Kind::system_call: {
      const auto table = abi::call_table(view().mode());
      if (where != "any" && abi::system_call(std::string_view(where), table) == nullptr)
        return Error{Fault::usage, where + ": no system call of that name (any stands for all)"};
      return std::nullopt;
    }
    case Kind::signal:
      if (where != "any" && !signal_named(where))
        return Error{Fault::usage, where + ": no signal of that name (any stands for all)"};
      return std::nullopt;
    case Kind::load: return std::nullopt;
    case Kind::thrown: where = "__cxa_throw"; break;
    case Kind::returns:
      // The first instruction, where the return address lies on top of the stack.
      if (where.find('+') == std::string::npos) where += "+0";
      break;
    default: break;
  }
  bool waiting = false;
  Result<std::vector<std::uint64_t>> found = stop_places(*modules_, view(), where, &waiting);
  if (!found && halt.rule.kind == Kind::thrown) waiting = true;
  if (waiting) {
    halt.waiting = true;
    return std::nullopt;
  }
  if (!found) return found.error();
  for (const std::uint64_t address : *found) {
    if (use(address)) {
      halt.addresses.push_back(address);
      continue;
    }
    unplace(halt);
    if (options_.stop_with == StopWith::hardware)
      return Error{Fault::usage, halt.rule.what +
                                     ": all four debug registers are in use; lift a stop point, or use "
                                     "--stop-with byte"};
    return Error{Fault::usage, halt.rule.what + ": no memory at " + hex_text(address) + " in the running program"};
  }
  return std::nullopt;
}

std::optional<Error> Control::place_data(Halt& halt) {
  Scope scope(*modules_, view());
  const auto is_type = [&](std::string_view name) { return scope.type_named(name).has_value(); };
  const auto address_of = [&](std::string_view text) -> Result<inspect::Datum> {
    Result<inspect::Expression> expression = inspect::Expression::parse(text, is_type);
    if (!expression) return expression.error();
    return expression->evaluate(scope);
  };
  const std::string& what = halt.rule.what;
  if (const std::size_t dots = what.find(".."); dots != std::string::npos) {
    std::uint64_t bounds[2] = {};
    for (int i = 0; i < 2; ++i) {
      Result<inspect::Datum> datum =
          address_of(i == 0 ? std::string_view(what).substr(0, dots) : std::string_view(what).substr(dots + 2));
      if (!datum) return datum.error();
      const Result<std::uint64_t> number = inspect::number_of(*datum, scope);
      if (!number) return number.error();
      bounds[i] = *number;
    }
    if (bounds[0] >= bounds[1]) return Error{Fault::usage, what + ": a range is written as FROM..TO"};
    halt.address = bounds[0];
    halt.size = bounds[1] - bounds[0];
  } else {
    Result<inspect::Datum> datum = address_of(what);
    if (!datum) return datum.error();
    if (datum->place == inspect::Datum::Place::reg)
      return Error{Fault::usage, what + ": lies in a register, which cannot be watched; `steps` shows when it changes"};
    if (datum->place != inspect::Datum::Place::memory)
      return Error{Fault::usage, what + ": lies in no memory; name a variable, or memory such as [u32 " + what + "]"};
    halt.address = datum->address;
    halt.size = inspect::size_of(*datum, scope);
    halt.watched = *datum;
    if (datum->bit_size != 0) {
      halt.mask.resize(halt.size);
      const std::uint64_t bits = (datum->bit_size >= 64 ? ~0ULL : (1ULL << datum->bit_size) - 1) << datum->bit_offset;
      std::memcpy(halt.mask.data(), &bits, std::min<std::size_t>(8, halt.size));
    }
  }
  constexpr std::uint64_t kMost = std::uint64_t(1) << 20;
  if (halt.size == 0 || halt.size > kMost)
    return Error{Fault::usage, what + ": " + std::to_string(halt.size) + " bytes cannot be watched (1 to 1048576)"};
  halt.last.resize(halt.size);
  if (process_->memory().read(halt.address, halt.last) != halt.size)
    return Error{Fault::usage, what + ": memory at " + hex_text(halt.address) + " cannot be read"};
  const auto on = halt.rule.kind == HaltRule::Kind::access ? DebugSlot::On::access : DebugSlot::On::write;
  const std::vector<DebugSlot> pieces = covering(halt.address, halt.size, on, halt.exact);
  halt.by_stepping = pieces.size() > free_slots() || options_.stop_with == StopWith::byte;
  for (const DebugSlot& piece : pieces) {
    if (halt.by_stepping) break;
    const unsigned slot = *free_slot();
    if (process_->watch(slot, piece)) {
      halt.slots.push_back(slot);
      continue;
    }
    unplace(halt);
    halt.by_stepping = true;
  }
  // A variable on this frame's stack ends with the frame.
  const inspect::Frame& frame = scope.frame();
  constexpr std::uint64_t kRedZone = 128;
  if (frame.cfa != 0 && halt.address >= frame.registers[Reg::rsp] - kRedZone && halt.address < frame.cfa) {
    const auto frames = frames_of(*modules_, view(), 2);
    if (frames.size() == 2 && use(frames[1].address(), true)) {
      halt.frame_cfa = frame.cfa;
      halt.frame_return = frames[1].address();
      halt.frame_thread = thread_;
    }
  }
  return std::nullopt;
}

void Control::unplace(Halt& halt) {
  std::erase_if(guards_, [&](const auto& one) {
    if (one.second.halt != halt.number) return false;
    if (!process_->gone()) process_->watch(one.first, std::nullopt);
    return true;
  });
  for (const std::uint64_t address : halt.addresses) release(address);
  halt.addresses.clear();
  for (const unsigned slot : halt.slots) process_->watch(slot, std::nullopt);
  halt.slots.clear();
  if (halt.frame_return != 0) release(halt.frame_return);
  halt.frame_return = 0;
  for (const Returning& returning : returning_) {
    if (returning.halt == halt.number) release(returning.address);
  }
  std::erase_if(returning_, [&](const Returning& returning) { return returning.halt == halt.number; });
}

bool Control::lift(unsigned number) {
  const auto found = std::ranges::find_if(halts_, [&](const auto& halt) { return halt->number == number; });
  if (found == halts_.end()) return false;
  unplace(**found);
  halts_.erase(found);
  return true;
}

const HaltRule* Control::rule_of(unsigned number) const {
  for (const auto& halt : halts_) {
    if (halt->number == number) return &halt->rule;
  }
  return nullptr;
}

inspect::Value Control::watched_value(unsigned number, const std::vector<std::uint8_t>& bytes) {
  for (const auto& halt : halts_) {
    if (halt->number != number) continue;
    Scope scope(*modules_, view());
    inspect::Datum datum = halt->watched;
    datum.loaded = true;
    datum.bytes = bytes;
    if (!datum.type && !datum.shape) {
      datum.shape = inspect::fitting_shape(bytes);
      datum.many = datum.shape->size < bytes.size();
      datum.count = bytes.size() / datum.shape->size;
    }
    // What it keeps elsewhere has changed since.
    return inspect::value_of(datum, scope, {.as_members = true});
  }
  return {};
}

std::vector<HaltInfo> Control::halts() const {
  std::vector<HaltInfo> result;
  for (const auto& halt : halts_) {
    HaltInfo info{halt->number, halt->rule, halt->hits, halt->addresses, halt->size, {}};
    if (halt->rule.on_data()) info.addresses = {halt->address};
    if (halt->spent) {
      info.how = halt->rule.once ? "done (once)" : "ended: what it watched is gone";
    } else if (halt->waiting) {
      info.how = "waits for its module to be loaded";
    } else if (halt->by_stepping) {
      info.how = "by stepping every instruction (some 100,000 a second)";
    } else if (!halt->slots.empty()) {
      info.how = halt->slots.size() == 1 ? "debug register" : "debug registers";
      for (const unsigned slot : halt->slots) info.how += " " + std::to_string(slot);
      if (!halt->exact) info.how += ", which cover more: other writes are sorted out";
    } else if (!halt->addresses.empty()) {
      const auto site = sites_.find(halt->addresses.front());
      const bool hardware = site != sites_.end() && site->second.slot;
      const bool watched =
          std::ranges::any_of(guards_, [&](const auto& one) { return one.second.halt == halt->number; });
      info.how = hardware ? "debug register " + std::to_string(*site->second.slot) : "stop byte";
      if (!hardware && !watched) info.how += "; whether the program reads it is not watched";
    } else if (halt->rule.kind == HaltRule::Kind::system_call || halt->rule.kind == HaltRule::Kind::signal) {
      info.how = "the kernel tells";
    } else {
      info.how = "the dynamic linker tells";
    }
    if (halt->frame_cfa != 0) info.how += "; ends with its frame";
    result.push_back(std::move(info));
  }
  return result;
}

bool Control::watches_data() const {
  return std::ranges::any_of(halts_, [](const auto& halt) { return halt->rule.on_data() && !halt->spent; });
}
bool Control::watches_calls() const {
  return std::ranges::any_of(
      halts_, [](const auto& halt) { return halt->rule.kind == HaltRule::Kind::system_call && !halt->spent; });
}
bool Control::needs_stepping() const {
  return std::ranges::any_of(halts_, [](const auto& halt) { return halt->by_stepping && !halt->spent; });
}

/// Whether an event at a stop point is one of those that it stops at. Counts it.
bool Control::counts(Halt& halt, pid_t thread, Stopped& stopped, std::optional<std::uint64_t> returned) {
  if (halt.spent) return false;
  if (halt.rule.thread && *halt.rule.thread != number_of(thread) &&
      *halt.rule.thread != static_cast<std::uint64_t>(thread))
    return false;
  if (halt.condition) {
    Scope scope(*modules_, process_->view(thread));
    if (returned) scope.returned_from(*returned);
    const Result<bool> holds = halt.condition->holds(scope);
    if (!holds && halt.told_failure) return false;
    if (!holds) {
      halt.told_failure = true;
      stopped.notes.push_back("h" + std::to_string(halt.number) +
                              ": its condition could not be evaluated and counts as false: " + holds.error().message);
      return false;
    }
    if (!*holds) return false;
  }
  ++halt.hits;
  return halt.hits >= halt.rule.from && (halt.hits - halt.rule.from) % halt.rule.every == 0;
}

void Control::hit(Halt& halt, pid_t thread, Stopped& stopped, HaltHit details) {
  details.halt = halt.number;
  details.hit = halt.hits;
  stopped.why = Why::halt;
  stopped.thread = thread;
  stopped.hits.push_back(std::move(details));
  if (halt.rule.once) halt.spent = true;
}

/// Stop points that were for once, and places that nobody wants any more, go when everything stands still.
void Control::finish_once() {
  for (const std::uint64_t address : std::exchange(deserted_, {})) {
    const auto site = sites_.find(address);
    if (site == sites_.end() || site->second.count != 0) continue;
    site->second.count = 1;
    release(address);
  }
  for (const auto& halt : halts_) {
    if (halt->spent) unplace(*halt);
  }
}

// ---- events ---------------------------------------------------------------------------------------------------------

/// A thread has come to an address where something stands, and has not executed the instruction there.
void Control::arrive(pid_t thread, Stopped& stopped) {
  const state::RegisterSet& registers = process_->view(thread).registers();
  const std::uint64_t address = registers[Reg::rip], stack = registers[Reg::rsp];
  if (address == loader_site_) {
    stopped.thread = thread;
    on_loader(stopped);
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
    if (std::ranges::find(halt->addresses, address) == halt->addresses.end() || halt->rule.on_data()) continue;
    if (halt->rule.kind == HaltRule::Kind::returns) {
      const std::uint64_t word = process_->view(thread).mode() == isa::Mode::bits64 ? 8 : 4;
      std::uint8_t bytes[8] = {};
      std::uint64_t back = 0;
      if (process_->memory().read(stack, {bytes, word}) != word) continue;
      std::memcpy(&back, bytes, 8);
      if (use(back, true)) returning_.push_back({halt->number, thread, back, stack + word, address});
      continue;
    }
    if (counts(*halt, thread, stopped)) hit(*halt, thread, stopped);
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
  const Module* module = modules_->at(address);
  if (module == nullptr) return result;
  const program::Function* function = module->program->function_at(address - module->bias);
  if (function == nullptr) return result;
  const std::uint64_t start = function->address + module->bias;
  const Bytes code = module->program->elf().bytes_at(function->address);
  for (std::uint64_t at = start; at < address && at - start < code.size();) {
    const isa::Instruction instruction = isa::decode(code.subspan(at - start), module->program->mode());
    const std::uint64_t next = at + (instruction ? instruction.length : 1);
    if (next == address && instruction) {
      result.before = at;
      result.instruction = instruction;
    }
    at = next;
  }
  return result;
}

/// The instruction whose memory access a debug register saw: it is the one before where the thread stands, unless
/// control came from elsewhere.
std::uint64_t Control::writer_before(pid_t thread, const Halt& halt) {
  const process::ThreadView& view = process_->view(thread);
  const std::uint64_t now = view.registers()[Reg::rip];
  const bool reads_count = halt.rule.kind == HaltRule::Kind::access;
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
    if (state::value_of(view.registers(), counter) != 0 && overlap(to - kNear, 2 * kNear, halt.address, halt.size))
      return now;
  }
  if (around.before != 0) {
    const ControlFlow flow = isa::flow_of(around.instruction);
    if ((flow == ControlFlow::next || flow == ControlFlow::conditional) && accesses(around.instruction))
      return around.before;
  }
  // A call wrote its return address.
  const std::uint64_t word = view.mode() == isa::Mode::bits64 ? 8 : 4;
  const std::uint64_t stack = view.registers()[Reg::rsp];
  if (overlap(stack, word, halt.address, halt.size)) {
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
    std::vector<std::uint8_t> now(halt->size);
    now.resize(process_->memory().read(halt->address, now));
    const bool changed = !halt->same(now);
    const std::uint64_t writer = writer_before(thread, *halt);
    bool wanted = changed;
    if (!changed && halt->rule.kind != HaltRule::Kind::change && halt->mask.empty()) {
      wanted = halt->exact || writer == 0;
      if (!wanted) {
        // A neighbour in the same slot? The instruction's operands tell, as far as it left its registers alone.
        state::RegisterSet at_writer = registers;
        at_writer[Reg::rip] = writer;
        const isa::Instruction instruction = instruction_at(writer);
        for (const state::TouchedRange& range : state::touched_by(instruction, at_writer))
          wanted |= overlap(range.address, range.size, halt->address, halt->size);
      }
    }
    HaltHit details{.writer = writer, .by = {}, .before = halt->last, .after = now};
    if (writer == 0) details.by = "an instruction that went on elsewhere";
    halt->last = now;
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
      const bool counts_here =
          isa::writes(range.access) || (halt->rule.kind == HaltRule::Kind::access && isa::reads(range.access));
      return counts_here && overlap(range.address, range.size, halt->address, halt->size);
    });
    if (touched) announced_.halts.push_back(halt->number);
  }
}

void Control::after_step(pid_t thread, unsigned slots, Stopped& stopped) {
  if (slots != 0) data_event(thread, slots, stopped);
  for (const auto& halt : halts_) {
    if (std::ranges::find(announced_.halts, halt->number) == announced_.halts.end()) continue;
    std::vector<std::uint8_t> now(halt->size);
    now.resize(process_->memory().read(halt->address, now));
    const bool changed = !halt->same(now);
    HaltHit details{.writer = announced_.address, .by = {}, .before = halt->last, .after = now};
    halt->last = now;
    const bool wanted = changed || (halt->rule.kind != HaltRule::Kind::change && halt->mask.empty());
    if (wanted && counts(*halt, thread, stopped)) hit(*halt, thread, stopped, std::move(details));
  }
}

/// What the kernel wrote for a system call no debug register sees: it is found by comparing.
void Control::data_after_call(pid_t thread, std::uint64_t number, Stopped& stopped) {
  const process::ThreadView& view = process_->view(thread);
  const auto table = abi::call_table(view.mode());
  const abi::SystemCall* call = abi::system_call(number, table);
  const unsigned by_kernel = process_->kernel_slots(thread);
  std::optional<unsigned> by_others;
  for (const auto& halt : halts_) {
    if (!halt->rule.on_data() || halt->spent) continue;
    std::vector<std::uint8_t> now(halt->size);
    now.resize(process_->memory().read(halt->address, now));
    const auto in = [&](unsigned slots) {
      return std::ranges::any_of(halt->slots, [&](unsigned slot) { return (slots >> slot & 1) != 0; });
    };
    const bool certain = in(by_kernel) && halt->exact && halt->mask.empty();
    if (now == halt->last && !(certain && halt->rule.kind != HaltRule::Kind::change)) continue;
    // Another thread's instruction may have written it a moment ago: its debug register will say so.
    if (!in(by_kernel) && process_->threads().size() > 1 && !halt->slots.empty()) {
      if (!by_others) by_others = process_->untold_slots(thread);
      if (in(*by_others)) continue;
    }
    if (call != nullptr && call->outputs_known && table == abi::CallTable::x86_64) {
      bool may = false;
      for (unsigned i = 0; i < call->output_count; ++i) {
        const abi::KernelOutput& output = call->outputs[i];
        const std::uint64_t address = abi::argument(view.registers(), output.argument);
        const std::uint64_t size =
            output.size != 0 ? output.size : abi::argument(view.registers(), output.argument + 1U);
        may |= overlap(address, size, halt->address, halt->size);
      }
      if (!may) continue;  // another thread's instruction wrote it, and its debug register will say so
    }
    HaltHit details{.by = "system call " + abi::call_name(number, table), .before = halt->last, .after = now};
    const bool wanted = certain ? halt->rule.kind != HaltRule::Kind::change || !halt->same(now) : !halt->same(now);
    halt->last = now;
    if (wanted && counts(*halt, thread, stopped)) hit(*halt, thread, stopped, std::move(details));
  }
}

void Control::signal_event(const Event& event, Stopped& stopped) {
  for (const auto& halt : halts_) {
    if (halt->rule.kind != HaltRule::Kind::signal) continue;
    if (halt->rule.what != "any" && signal_named(halt->rule.what) != event.number) continue;
    if (counts(*halt, event.thread, stopped)) hit(*halt, event.thread, stopped, {.by = signal_name(event.number)});
  }
  const bool forced = event.by_instruction && !process::catches_signal(process_->pid(), event.number);
  if (is_harmless(process_->pid(), event.number) && !forced) {
    const bool routine = event.number == SIGCHLD || event.number == SIGWINCH || event.number == SIGURG;
    if (!routine && stopped.hits.empty()) stopped.notes.push_back(signal_name(event.number) + " came");
    return;
  }
  stopped.number = event.number;
  stopped.fault_address = event.fault_address;
  stopped.fault_address_known = event.by_instruction && event.fault_address_known && event.number != SIGTRAP;
  if (!options_.hold_at_crash || !stopped.hits.empty()) return;
  stopped.why = Why::signal;
  stopped.thread = event.thread;
}

void Control::call_event(const Event& event, Stopped& stopped) {
  const auto number = static_cast<std::uint64_t>(event.number);
  if (event.kind == Event::Kind::call_exit) {
    data_after_call(event.thread, number, stopped);
    if (goal_ != nullptr && goal_->call_exit && goal_->thread == event.thread) {
      goal_->reached = process_->view(event.thread).registers()[Reg::rip];
      stopped.thread = event.thread;
    }
    return;
  }
  const std::string name = abi::call_name(number, abi::call_table(process_->view(event.thread).mode()));
  for (const auto& halt : halts_) {
    if (halt->rule.kind != HaltRule::Kind::system_call) continue;
    if (halt->rule.what != "any" && halt->rule.what != name) continue;
    if (counts(*halt, event.thread, stopped)) hit(*halt, event.thread, stopped, {.by = "system call " + name});
  }
}

/// Another program: its modules are not mapped yet, so stop points wait for its entry.
std::optional<Error> Control::replaced() {
  thread_ = process_->pid();
  sites_.clear();
  guards_.clear();
  returning_.clear();
  loader_site_ = 0;
  reentries_known_ = false;
  neighbours_.clear();
  for (const auto& halt : halts_) {
    halt->addresses.clear();
    halt->slots.clear();
    halt->frame_return = 0;
    halt->spent |= halt->rule.on_data();  // what it watched is gone
    using Kind = HaltRule::Kind;
    const Kind kind = halt->rule.kind;
    halt->waiting = kind == Kind::at || kind == Kind::returns || kind == Kind::thrown;
  }
  char real[PATH_MAX];
  const std::string link = "/proc/" + std::to_string(process_->pid()) + "/exe";
  const ssize_t size = ::readlink(link.c_str(), real, sizeof real);
  Result<program::Program> program = open_main(size > 0 ? std::string(real, static_cast<std::size_t>(size)) : link);
  if (!program) return program.error();
  modules_ = std::make_unique<Modules>(process_->pid(), std::move(*program), options_.open);
  entry_site_ = process::auxiliary_value(process_->pid(), 9);
  if (entry_site_ != 0 && !use(entry_site_, true)) entry_site_ = 0;
  return std::nullopt;
}

void Control::take_end(const Event& event, Stopped& stopped) {
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
      process_->told(event.thread);
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
        process_->told(event.thread);
        arrive(event.thread, stopped);
      }
      break;
    }
    case Kind::about_to_step: about_to_step(event.thread); break;
    case Kind::stepped: after_step(event.thread, event.slots, stopped); break;
    case Kind::signal: signal_event(event, stopped); break;
    case Kind::call_entry:
    case Kind::call_exit: call_event(event, stopped); break;
    case Kind::replaced:
      (void)replaced();
      stopped.notes.push_back("the program replaced itself by another, " + path());
      if (goal_ != nullptr) {
        stopped.why = Why::replaced;
        stopped.thread = process_->pid();
      }
      break;
    case Kind::thread_ended:
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
    (void)modules_->refresh(process_->pid());
    find_loader();
    resolve_waiting();
  }
  const bool reached = goal_ != nullptr && goal_->reached != 0;
  return stopped.why != Why::arrived || reached ? Answer::hold : Answer::go_on;
}

// ---- motion ---------------------------------------------------------------------------------------------------------

isa::Instruction Control::instruction_at(std::uint64_t address) {
  std::uint8_t bytes[isa::kLongestInstruction] = {};
  const std::size_t size = process_->memory().read(address, bytes);
  return isa::decode({bytes, size}, view().mode());
}

/// Where control can come back into own code other than by a return: exception handlers, and behind calls of setjmp.
const std::vector<std::uint64_t>& Control::reentries() {
  if (!reentries_known_) {
    reentries_ = modules_->reentries();
    reentries_known_ = true;
  }
  return reentries_;
}

void Control::begin_motion() {
  before_ = view().registers();
  if (options_.follow_vectors) extended_before_ = view().extended();
  written_.clear();
  written_read_ = false;
  ran_through_ = false;
  stopped_ = {};
}

const state::Delta& Control::written() {
  if (!written_read_) {
    written_read_ = true;
    for (state::MemoryChange& change : written_.memory) {
      const std::span<std::uint8_t> after(written_.after(change), change.size);
      change.after_known = !process_->gone() && process_->memory().read(change.address, after) == change.size;
    }
  }
  return written_;
}

/// Keeps what stands where the next instruction will write; a place that was kept already stays as it was first.
void Control::note_writes(const isa::Instruction& instruction) {
  if (!instruction) return;
  constexpr std::uint64_t kMost = 4096;
  for (const state::TouchedRange& range : state::touched_by(instruction, view().registers())) {
    if (!isa::writes(range.access) || range.size == 0 || range.size > kMost) continue;
    const bool known = std::ranges::any_of(written_.memory, [&](const state::MemoryChange& change) {
      return change.address <= range.address && range.address + range.size <= change.address + change.size;
    });
    if (known) continue;
    state::MemoryChange& change = written_.add_memory(range.address, range.size);
    change.before_known = process_->memory().read(range.address, {written_.before(change), range.size}) == range.size;
  }
}

void Control::run_beside() {
  if (process_->gone()) return;
  begin_motion();
  ran_through_ = true;
  process_->beside(running(), [this](const Event& event) {
    const Answer answer = visit(event);
    return process_->gone() ? Answer::go_on : answer;
  });
}

const Stopped& Control::settle() {
  finish_once();
  if (stopped_.thread != 0 && process_->has_thread(stopped_.thread)) thread_ = stopped_.thread;
  stopped_.thread = thread_;
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

void Control::run_to_stop() {
  const Event event = process_->run(running(), [this](const Event& e) { return visit(e); });
  if (event.kind == Event::Kind::attention) stopped_.why = Why::attention;
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
          process_->told(thread_);
          arrive(thread_, stopped_);
        }
        break;
      }
      case Event::Kind::stop_byte:
        process_->told(thread_);
        arrive(thread_, stopped_);
        break;
      case Event::Kind::debug_register: (void)visit(event); break;
      case Event::Kind::signal:
        (void)visit(event);
        if (stopped_.why == Why::arrived) continue;  // delivered with the next step
        break;
      case Event::Kind::attention: stopped_.why = Why::attention; break;
      default: (void)visit(event); break;
    }
    if (stopped_.why == Why::arrived || stopped_.why == Why::halt) stopped_.thread = thread_;
    return stopped_;
  }
}

/// Runs the call at hand through, to the instruction behind it in this frame, or to wherever its frames are left.
Stopped Control::through_call(std::uint64_t next) {
  const state::RegisterSet before = view().registers();
  const isa::Instruction call = instruction_at(before[Reg::rip]);
  const state::Outcome outcome = state::execute(call, view());
  ran_through_ = true;
  Goal goal{.thread = thread_, .sites = reentries(), .entries = {}, .lowest_stack = before[Reg::rsp]};
  goal.sites.push_back(next);
  const pid_t thread = thread_;
  (void)run(&goal);
  if (stopped_.why != Why::arrived || goal.reached != next || thread_ != thread) return stopped_;
  const state::RegisterSet& after = view().registers();
  if (outcome.ending == state::Ending::done) stopped_.returned_from = outcome.registers[Reg::rip];
  // System V ABI: x86-64, figure 3.4; i386, table 2.3.
  const bool wide = view().mode() == isa::Mode::bits64;
  const std::vector<Reg> kept =
      wide ? std::vector<Reg>{Reg::rbx, Reg::rbp, Reg::rsp, Reg::r12, Reg::r13, Reg::r14, Reg::r15}
           : std::vector<Reg>{Reg::rbx, Reg::rsi, Reg::rdi, Reg::rbp};
  for (const Reg reg : kept) {
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
    const std::uint64_t word = view().mode() == isa::Mode::bits64 ? 8 : 4;
    const bool entered = instruction && isa::flow_of(instruction) != ControlFlow::call && now[Reg::rip] != next &&
                         now[Reg::rsp] + 64 < before[Reg::rsp] && handler_entered_;
    if (!entered) break;
    handler_entered_ = false;
    std::uint8_t bytes[8] = {};
    std::uint64_t back = 0;
    (void)process_->memory().read(now[Reg::rsp], {bytes, word});
    std::memcpy(&back, bytes, 8);
    ran_through_ = true;
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
    if (sites_.contains(at)) process_->told(thread_);
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
  std::uint64_t cfa = Scope(*modules_, view()).frame().cfa;
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
      ran_through_ = true;
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
      // Back in a library: on to the next own line, in a function that it calls back or behind the call of it.
      Goal goal{
          .thread = thread_, .sites = reentries(), .entries = modules_->own_starts(), .lowest_stack = now[Reg::rsp]};
      for (const inspect::Frame& frame : frames_of(*modules_, view(), 256)) {
        if (!modules_->is_own(frame.address())) continue;
        goal.sites.push_back(frame.address());
        break;
      }
      ran_through_ = true;
      (void)run(&goal);
      if (stopped_.why != Why::arrived || thread_ != thread) return stopped_;
      if (std::ranges::find(goal.entries, goal.reached) != goal.entries.end()) return stopped_;
    }
    const auto here = modules_->line_of(view().registers()[Reg::rip]);
    if (returned) {
      if (here.second == 0) return stopped_;
      left = true;
      cfa = Scope(*modules_, view()).frame().cfa;
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
  const auto frames = frames_of(*modules_, view(), 2);
  if (frames.size() < 2)
    return Error{Fault::usage, "out: nobody called this function, or the way to the caller is lost"};
  const inspect::Frame& caller = frames[1];
  const std::uint64_t inside = frames[0].address();
  ran_through_ = true;
  const std::uint64_t stack = caller.registers[Reg::rsp];
  Goal goal{.thread = thread_, .sites = reentries(), .entries = {}, .lowest_stack = stack};
  goal.sites.push_back(caller.address());
  const pid_t thread = thread_;
  (void)run(&goal);
  if (stopped_.why != Why::arrived || goal.reached != caller.address() || thread_ != thread) return stopped_;
  stopped_.returned_from = inside;
  const state::RegisterSet& after = view().registers();
  const bool wide = view().mode() == isa::Mode::bits64;
  const std::vector<Reg> kept = wide ? std::vector<Reg>{Reg::rbx, Reg::rbp, Reg::r12, Reg::r13, Reg::r14, Reg::r15}
                                     : std::vector<Reg>{Reg::rbx, Reg::rsi, Reg::rdi, Reg::rbp};
  for (const Reg reg : kept) {
    const bool known = (caller.known >> static_cast<unsigned>(reg) & 1) != 0;
    if (known && caller.registers[reg] != after[reg])
      stopped_.not_restored.push_back({reg, caller.registers[reg], after[reg]});
  }
  return stopped_;
}

Result<Stopped> Control::to(const std::string& where) {
  Result<std::vector<std::uint64_t>> found = stop_places(*modules_, view(), where, nullptr);
  if (!found) return found.error();
  ran_through_ = true;
  Goal goal{.thread = thread_, .sites = {}, .entries = std::move(*found), .lowest_stack = 0};
  const auto frames = frames_of(*modules_, view(), 2);
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
  const Module* module = modules_->at(now);
  const program::Function* function = module != nullptr ? module->program->function_at(now - module->bias) : nullptr;
  if (function == nullptr) return Error{Fault::usage, "past loop: no function is known here"};
  const program::FlowGraph graph = program::flow_graph_of(*module->program, Modules::debug(*module).scan, *function);
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
  ran_through_ = true;
  Goal goal{.thread = thread_, .sites = reentries(), .entries = {}, .lowest_stack = view().registers()[Reg::rsp]};
  for (const std::size_t block : loop) {
    for (const program::FlowEdge& edge : graph.blocks[block].edges) {
      if (!loop.contains(edge.to)) goal.sites.push_back(graph.blocks[edge.to].address + module->bias);
    }
  }
  const auto frames = frames_of(*modules_, view(), 2);
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
        ran_through_ = true;
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

void Control::detach() { process_->detach(); }

// ---- threads --------------------------------------------------------------------------------------------------------

std::uint64_t Control::number_of(pid_t thread) {
  for (const pid_t id : process_->threads()) {
    if (std::ranges::find(numbers_, id) == numbers_.end()) numbers_.push_back(id);
  }
  const auto found = std::ranges::find(numbers_, thread);
  return static_cast<std::uint64_t>(found - numbers_.begin()) + 1;
}

bool Control::choose_thread(std::uint64_t number) {
  for (const pid_t id : process_->threads()) {
    if (number_of(id) != number && static_cast<std::uint64_t>(id) != number) continue;
    thread_ = id;
    before_ = view().registers();
    extended_before_ = view().extended();
    written_.clear();
    return true;
  }
  return false;
}

std::string Control::place(pid_t thread) { return modules_->place_name(process_->view(thread).registers()[Reg::rip]); }

}  // namespace deeptrace::session
