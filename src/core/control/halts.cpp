// Stop points: where they stand, by which means, and when one counts as hit.
#include <algorithm>
#include <cstring>

#include "abi/signal_names.h"
#include "abi/system_calls.h"
#include "base/number.h"
#include "control/parts.h"
#include "control/program_to_run.h"
#include "look/places.h"
#include "look/thread_block.h"
#include "program/data_symbols.h"
#include "state/execute.h"

namespace deeptrace::control {

using process::DebugSlot;
using process::kDebugSlots;
using state::Reg;
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

/// Nothing goes by the name, "tide: no such function …": a library that comes later may have it. What is wrong
/// otherwise (a place inside an instruction, a name that could be several) stays so.
bool is_of_unknown(const Error& error) {
  return error.fault == Fault::usage && error.message.find(": no ") != std::string::npos;
}

}  // namespace

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
    if ((slots >> slot & 1) == 0 || std::exchange(guard.reported, true)) continue;
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
  // goes on after its trap by itself (the resume flag, Intel SDM volume 3, 18.3.1.1).
  if (options_.stop_with == StopWith::automatic && !internal && !visiting_) {
    const auto slot = unused_slot();
    if (slot && !state::is_computed(instruction_at(address)) &&
        process_->watch(*slot, DebugSlot{address, 1, DebugSlot::On::execution})) {
      site.slot = slot;
      site.lent = true;
      return true;
    }
  }
  if (options_.stop_with != StopWith::hardware && process_->memory().plant(address)) return true;
  sites_.erase(address);
  return false;
}

bool Control::watch_site(std::uint64_t address) {
  if (watched_sites_.contains(address)) return true;
  if (!use(address, true)) return false;
  watched_sites_.insert(address);
  return true;
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
    process_->memory().remove(address);
  }
  sites_.erase(found);
}

// ---- stop points ----------------------------------------------------------------------------------------------------

Result<unsigned> Control::add(const HaltRule& rule) {
  if (process_->gone()) return Error{Fault::usage, "the program has ended; restart it first"};
  if (auto error = end_is_asked()) return *error;
  auto halt = std::make_unique<Halt>();
  halt->rule = rule;
  if (!rule.condition.empty()) {
    look::Scope scope(*modules_, view());
    const auto is_type = [&](std::string_view name) { return scope.type_named(name).has_value(); };
    Result<inspect::Expression> condition = inspect::Expression::parse(rule.condition, is_type);
    if (!condition) return condition.error();
    if (auto error = condition->literals_fit(scope)) return *error;
    halt->condition = std::make_shared<inspect::Expression>(std::move(*condition));
  }
  halt->number = next_number_;
  if (auto error = place_or_wait(*halt)) {
    if (is_of_unknown(*error) && may_come_later(rule))
      error->message += "; with `later` the stop point waits for a library that has it";
    return *error;
  }
  if (auto error = halt->condition ? wrong_at(*halt->condition, *halt, true) : std::nullopt) {
    unplace(*halt);
    const bool named = error->message.starts_with(rule.condition + ": ");
    return Error{Fault::usage, named ? error->message : rule.condition + ": " + error->message};
  }
  ++next_number_;
  halts_.push_back(std::move(halt));
  if (rule.kind == HaltRule::Kind::at) guard(*halts_.back());
  return halts_.back()->number;
}

std::optional<Error> Control::wrong_at(const inspect::Expression& expression, const Halt& halt, bool is_condition) {
  std::optional<Error> error;
  for (const std::uint64_t place : halt.addresses) {
    inspect::Frame frame;
    frame.registers = view().registers();
    frame.registers[Reg::rip] = place;
    look::Scope scope(*modules_, view(), frame);
    if (const look::Level* level = halt.level_at(place)) scope.at_depth(level->depth);
    error = scope.wrong_in(expression, is_condition);
    if (!error) return std::nullopt;
  }
  return error;
}

std::optional<Error> Control::wrong_at(const inspect::Expression& expression, std::span<const unsigned> halts,
                                       bool is_condition) {
  std::optional<Error> error;
  for (const auto& halt : halts_) {
    if (halt->addresses.empty() || std::ranges::find(halts, halt->number) == halts.end()) continue;
    error = wrong_at(expression, *halt, is_condition);
    if (!error) return std::nullopt;
  }
  return error;
}

/// Places or variables that are not there yet are waited for where that was asked for.
std::optional<Error> Control::place_or_wait(Halt& halt) {
  std::optional<Error> error = halt.rule.on_data() ? place_data(halt) : place_halt(halt);
  if (!error || !halt.rule.later || !is_of_unknown(*error)) return error;
  unplace(halt);
  halt.waiting = true;
  return std::nullopt;
}

/// The program loads libraries by itself, and one of them may have what nothing has yet.
bool Control::may_come_later(const HaltRule& rule) const {
  const HaltKind::By by = rule.how().by;
  if (rule.later || (by != HaltKind::By::place && by != HaltKind::By::data)) return false;
  return std::ranges::any_of(modules_->main().program->relocations(),
                             [](const auto& one) { return !one.defined && one.symbol == "dlopen"; });
}

/// The first instructions of those of the functions that are there; an error where none is.
Result<look::StopPlaces> Control::fixed_places(std::string_view names) {
  std::optional<look::StopPlaces> all;
  std::optional<Error> error;
  while (!names.empty()) {
    const std::size_t end = std::min(names.find(' '), names.size());
    Result<look::StopPlaces> found = look::stop_places(*modules_, view(), std::string(names.substr(0, end)) + "+0");
    names.remove_prefix(std::min(end + 1, names.size()));
    if (!found) {
      error = found.error();
    } else if (!all) {
      all = std::move(*found);
    } else {
      all->places.insert(all->places.end(), found->places.begin(), found->places.end());
    }
  }
  return all ? Result<look::StopPlaces>(std::move(*all)) : Result<look::StopPlaces>(*error);
}

/// Where functions that are to return begin, with the return address on top of the stack; inlined copies have none.
Result<look::StopPlaces> Control::return_places(look::StopPlaces found, const std::string& where) {
  if (found.starts.empty() && found.inlined != 0)
    return Error{Fault::usage, where + ": is inlined wherever it is called, so that no copy returns; `at " + where +
                                   "` stops where each begins"};
  if (found.starts.empty()) return look::stop_places(*modules_, view(), where + "+0", true);
  found.places.clear();
  for (const std::uint64_t start : found.starts) found.places.push_back({start, std::nullopt});
  if (found.inlined != 0) found.found += found.inlined == 1 ? ", which has no return" : ", which have no return";
  return found;
}

std::optional<Error> Control::place_halt(Halt& halt) {
  using By = HaltKind::By;
  const HaltKind& how = halt.rule.how();
  const std::string& where = halt.rule.what;
  switch (how.by) {
    case By::system_call: {
      // 64-bit code can make 32-bit calls (int 0x80).
      const bool known = where == "any" || abi::system_call(std::string_view(where), abi::CallTable::i386) != nullptr ||
                         abi::system_call(std::string_view(where), abi::call_table(view().mode())) != nullptr;
      if (!known) return Error{Fault::usage, where + ": no system call of that name (any stands for all)"};
      return std::nullopt;
    }
    case By::signal:
      if (where != "any" && !abi::signal_named(where))
        return Error{Fault::usage, where + ": no signal of that name (any stands for all)"};
      return std::nullopt;
    case By::loader:
    case By::data: return std::nullopt;
    case By::place: break;
  }
  Result<look::StopPlaces> found =
      how.fixed.empty() ? look::stop_places(*modules_, view(), where, true) : fixed_places(how.fixed);
  halt.waiting = found ? found->waiting : !how.fixed.empty();
  if (halt.waiting) return std::nullopt;
  if (how.at_return && where.find('+') == std::string::npos)
    found = found ? return_places(std::move(*found), where) : look::stop_places(*modules_, view(), where + "+0", true);
  if (!found) return found.error();
  halt.found = found->found;
  for (const look::StopPlace& place : found->places) {
    const std::uint64_t address = place.address;
    if (std::ranges::binary_search(halt.addresses, address)) continue;
    if (use(address)) {
      halt.addresses.insert(std::ranges::upper_bound(halt.addresses, address), address);
      if (place.level) halt.levels.emplace(address, *place.level);
      continue;
    }
    unplace(halt);
    if (options_.stop_with == StopWith::hardware)
      return Error{Fault::usage, halt.rule.what +
                                     ": all four debug registers are in use; remove a stop point, or use "
                                     "--stop-with byte"};
    return Error{Fault::usage, halt.rule.what + ": no memory at " + hex_text(address) + " in the running program"};
  }
  return std::nullopt;
}

std::optional<Error> Control::place_data(Halt& halt) {
  look::Scope scope(*modules_, view());
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
  if (auto error = watch_copies(halt)) return error;
  const auto on = halt.rule.how().reads ? DebugSlot::On::access : DebugSlot::On::write;
  std::vector<DebugSlot> pieces = covering(halt.address_in(view()), halt.size, on, halt.exact);
  // Every thread pointer is aligned to more than the eight bytes of a piece.
  const std::uint64_t pointer = halt.of_thread ? halt.address_in(view()) - halt.address : 0;
  for (DebugSlot& piece : pieces) {
    piece.address -= pointer;
    piece.of_thread = halt.of_thread;
  }
  halt.by_stepping = pieces.size() > free_slots() || options_.stop_with == StopWith::byte;
  for (const DebugSlot& piece : pieces) {
    if (halt.by_stepping) break;
    const auto slot = free_slot();
    if (slot && process_->watch(*slot, piece)) {
      halt.slots.push_back(*slot);
      continue;
    }
    unplace(halt);
    halt.by_stepping = true;
  }
  // A variable on this frame's stack ends with the frame.
  const inspect::Frame& frame = scope.frame();
  const std::uint64_t red_zone = arch::machine_of(view().mode()).red_zone;
  if (frame.cfa != 0 && halt.address >= frame.registers[Reg::rsp] - red_zone && halt.address < frame.cfa) {
    const auto frames = look::frames_of(*modules_, view(), 2);
    if (frames.size() == 2 && use(frames[1].address(), true)) {
      halt.frame_cfa = frame.cfa;
      halt.frame_return = frames[1].address();
      halt.frame_thread = thread_;
    }
  }
  return std::nullopt;
}

/// A variable of each thread's own: every thread's copy, where that was asked for.
std::optional<Error> Control::watch_copies(Halt& halt) {
  const std::optional<look::OwnCopy> own = look::own_copy_at(*modules_, view(), halt.address);
  halt.own_thread = own ? number_of(thread_) : 0;
  const bool wanted = halt.rule.all_threads || halt.rule.thread;
  if (!own && halt.rule.all_threads)
    return Error{Fault::usage, halt.rule.what + ": is one for all threads; leave `for all threads` away"};
  if (!own || !wanted) return std::nullopt;
  if (!own->from_pointer)
    return Error{Fault::usage, halt.rule.what +
                                   ": each thread has its copy in a block of its own that is made when it is first "
                                   "used; stop in the thread and watch that copy alone"};
  halt.of_thread = true;
  halt.address = static_cast<std::uint64_t>(*own->from_pointer);
  const program::Program& program = *own->module->program;
  const Bytes image = program.elf().bytes_at(program::thread_storage(program).from + own->offset);
  halt.fresh.resize(halt.size);  // zeros, as .tbss
  std::copy_n(image.begin(), std::min(image.size(), halt.fresh.size()), halt.fresh.begin());
  for (const pid_t thread : process_->threads()) {
    std::vector<std::uint8_t> bytes(halt.size);
    bytes.resize(process_->memory().read(halt.address_in(process_->view(thread)), bytes));
    halt.lasts[thread] = std::move(bytes);
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

bool Control::remove(unsigned number) {
  const auto found = std::ranges::find_if(halts_, [&](const auto& halt) { return halt->number == number; });
  if (found == halts_.end()) return false;
  unplace(**found);
  halts_.erase(found);
  return true;
}

look::StopNames Control::stop_names() const {
  look::StopNames result;
  for (const auto& halt : halts_) {
    if (halt->rule.on_data()) continue;
    for (const std::uint64_t address : halt->addresses) {
      std::string& names = result[address];
      names += (names.empty() ? "h" : " h") + std::to_string(halt->number);
    }
  }
  return result;
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
    look::Scope scope(*modules_, view());
    inspect::Datum datum = halt->watched;
    datum.loaded = true;
    datum.bytes = bytes;
    if (!datum.type && !datum.shape) {
      datum.shape = inspect::untyped_shape(bytes);
      datum.many = datum.shape->size < bytes.size();
      datum.count = bytes.size() / datum.shape->size;
    }
    // What it keeps elsewhere has changed since.
    return inspect::value_of(datum, scope, {.as_members = true});
  }
  return {};
}

std::vector<look::CardHit> Control::hits_of(const Stopped& stopped) {
  std::vector<look::CardHit> result;
  for (const HaltHit& hit : stopped.hits) {
    look::CardHit& card = result.emplace_back();
    card.halt = hit.halt;
    card.hit = hit.hit;
    card.writer = hit.writer;
    card.by = hit.by;
    card.thrown = hit.thrown;
    if (const HaltRule* rule = rule_of(hit.halt)) {
      card.rule = rule->text();
      card.what = rule->what;
    }
    if (hit.writer != 0) card.writer_place = modules_->place_name(hit.writer);
    if (hit.after.empty()) continue;
    card.before = watched_value(hit.halt, hit.before);
    card.after = watched_value(hit.halt, hit.after);
  }
  return result;
}

std::vector<HaltInfo> Control::halts() const {
  std::vector<HaltInfo> result;
  for (const auto& halt : halts_) {
    HaltInfo info{halt->number, halt->rule, halt->hits, halt->addresses, halt->size, halt->came, halt->entered, {}};
    if (halt->rule.on_data() && !halt->waiting && !halt->of_thread) info.addresses = {halt->address};
    if (halt->spent) {
      info.how = halt->rule.once ? "done (once)" : "ended: what it watched is gone";
    } else if (halt->waiting) {
      info.how = halt->rule.later ? "waits for a library that has it" : "waits for its module to be loaded";
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
      if (!halt->found.empty()) info.how += ", " + halt->found;
      if (halt->rule.kind == HaltRule::Kind::at && halt->addresses.size() == 1) {
        const std::string place = look::after_prologue(*modules_, halt->addresses.front(), halt->rule.what);
        if (!place.empty()) info.how += ", " + place;
        const std::string other = look::called_as(*modules_, halt->rule.what);
        if (!other.empty()) info.how += "; the program calls " + other + " for it";
      }
      if (!hardware && !watched) info.how += "; whether the program reads it is not watched";
    } else {
      const bool loader = halt->rule.how().by == HaltKind::By::loader;
      info.how = loader ? "reported by the dynamic linker" : "reported by the kernel";
    }
    if (halt->frame_cfa != 0) info.how += "; ends with its frame";
    if (halt->of_thread && halt->rule.all_threads) {
      info.how += "; each thread's own copy, as far as the thread itself accesses it";
    } else if (halt->own_thread != 0) {
      const std::uint64_t whose = halt->of_thread ? *halt->rule.thread : halt->own_thread;
      info.how += "; the copy of thread " + std::to_string(whose) + " alone (`for all threads` watches each one's)";
    }
    result.push_back(std::move(info));
  }
  return result;
}

bool Control::watches_data() const {
  return std::ranges::any_of(halts_,
                             [](const auto& halt) { return halt->rule.on_data() && !halt->spent && !halt->waiting; });
}
bool Control::watches_calls() const {
  return std::ranges::any_of(
      halts_, [](const auto& halt) { return halt->rule.how().by == HaltKind::By::system_call && !halt->spent; });
}
bool Control::needs_stepping() const {
  return std::ranges::any_of(halts_, [](const auto& halt) { return halt->by_stepping && !halt->spent; });
}

/// Whether an event at a stop point is one of those that it stops at. Counts it.
bool Control::counts(Halt& halt, pid_t thread, Stopped& stopped, std::optional<std::uint64_t> returned,
                     std::string_view call) {
  if (halt.spent) return false;
  if (halt.rule.thread && *halt.rule.thread != number_of(thread) &&
      *halt.rule.thread != static_cast<std::uint64_t>(thread))
    return false;
  if (halt.condition) {
    look::Scope scope(*modules_, process_->view(thread));
    if (returned) scope.returned_from(*returned);
    const look::Level* level = halt.level_at(process_->view(thread).registers()[Reg::rip]);
    if (level != nullptr) scope.at_depth(level->depth);
    if (!call.empty()) {
      scope.in_call(call, look::table_of_call(process_->view(thread)));
      if (halt.condition->uses_result()) scope.call_returned();
    }
    const Result<bool> holds = halt.condition->holds(scope);
    if (!holds || !*holds) ++halt.came;
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
  if (const look::Level* level = halt.level_at(process_->view(thread).registers()[Reg::rip])) details.level = *level;
  stopped.why = Why::halt;
  stopped.thread = thread;
  if (stopped.hits.empty()) stopped.level = details.level;
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

}  // namespace deeptrace::control
