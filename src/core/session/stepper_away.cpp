// Code that is not own, and how control comes back from it.
#include <algorithm>
#include <iterator>

#include "look/scope.h"
#include "process/maps.h"
#include "session/signal_return.h"
#include "session/stepper.h"

namespace deeptrace::session {

using isa::ControlFlow;
using state::Reg;
using state::RegisterSet;

std::optional<std::uint64_t> Stepper::slot_at(std::uint64_t address) const {
  std::uint8_t bytes[8] = {};
  if (memory().read(address, {bytes, word()}) != word()) return std::nullopt;
  return state::number_of(bytes, sizeof bytes);
}

void Stepper::plant_entries() {
  if (planted_) return;
  planted_ = true;
  loader_ = look::loader_of(modules_.main(), followed_.view());
  if (loader_ && memory().plant(loader_->function)) followed_.watch_loader(loader_->function);
  plant_own();
  for (const std::uint64_t address : to_) memory().plant(address);
  // Own functions that wait for code that stepping began in.
  if (walk_->start_stack != kUnknown) return;
  for (const inspect::Frame& frame : look::frames_of(modules_, followed_.view())) {
    if (modules_.is_own(frame.address())) memory().plant(frame.address());
  }
}

void Stepper::plant_own() {
  look::Modules::OwnEntries entries = modules_.own_entries();
  for (const std::uint64_t address : entries.all) memory().plant(address);
  handlers_ = std::move(entries.handlers);
}

void Stepper::on_loader() {
  if (!loader_ || !look::is_consistent(*loader_, followed_.view())) return;
  const look::Modules::Changes changes = modules_.refresh(followed_.process());
  if (changes.loaded.empty() && changes.unloaded.empty()) return;
  if (!changes.unloaded.empty()) forget_unmapped();
  code_.forget();
  names_.forget();
  plant_own();
}

void Stepper::forget_unmapped() {
  std::vector<std::uint64_t> gone;
  for (const auto& [address, own] : memory().stops().all()) {
    if (modules_.at(address) == nullptr) gone.push_back(address);
  }
  for (const std::uint64_t address : gone) memory().remove(address);
}

namespace {

/// Functions that read the memory that an argument points to, and call nothing of the program's (streams made by
/// fopencookie(3) aside).
constexpr std::string_view kReaders[] = {
    "memcpy", "memmove", "mempcpy", "memcmp", "bcmp",   "bcopy",  "memchr", "memmem",  "write",  "pwrite",
    "send",   "sendto",  "strlen",  "strcmp", "strcpy", "strchr", "crc32",  "adler32", "fwrite", "fwrite_unlocked"};

/// "memcpy" of "memcpy@plt", "__memcpy_chk" and "__memmove_avx_unaligned".
bool is_reader(std::string_view name) {
  name = name.substr(0, name.find_first_of("@+"));
  if (name.starts_with("__mem")) return true;  // the C library's own, for some processor or with a check
  return std::ranges::find(kReaders, name) != std::end(kReaders);
}

}  // namespace

std::uint64_t Stepper::argument(unsigned number) const {
  const arch::Machine& machine = arch::machine_of(followed_.mode());
  const RegisterSet& registers = followed_.registers();
  if (number < machine.arguments.size()) return registers[state::reg_numbered(machine.arguments[number])];
  const std::size_t slot = number - machine.arguments.size() + 1;
  return slot_at(registers[Reg::rsp] + slot * machine.word).value_or(0);
}

Stepper::Reads Stepper::reads_own_code(std::string_view name) const {
  constexpr unsigned kMost = 4;
  const bool reader = is_reader(name);
  // Helpers of the compiler's in the program's file take no such arguments; PLT stubs lead to libraries.
  const program::Function* called = modules_.function_at(rip());
  const bool stub = called != nullptr && called->origin == program::Function::Origin::plt;
  const bool library = stub || modules_.at(rip()) != &modules_.main();
  if (!reader && !library) return Reads::nothing;
  // Of other functions the first argument alone is known to be one: after it there may be what is left of other calls.
  const unsigned most = reader ? kMost : 1;
  Reads result = Reads::nothing;
  for (unsigned i = 0; i < most; ++i) {
    const std::uint64_t address = argument(i);
    if (!modules_.is_own(address)) continue;
    if (reader) return Reads::code;
    // Functions are mostly given to be called back.
    const program::Function* function = modules_.function_at(address);
    const look::Module* module = modules_.at(address);
    if (function == nullptr || function->address + module->bias != address) result = Reads::unknown;
  }
  return result;
}

void Stepper::note_reads(const std::string& name) {
  if (std::exchange(reads_noted_, true)) return;
  rows_.note(name + " is given an address inside own code; if it reads there, it finds the stop bytes of steps");
}

control::FollowedStop Stepper::run_reader(std::uint64_t back) {
  memory().remove_all();
  planted_ = false;
  const process::DebugSlot slot{back, 1, process::DebugSlot::On::execution};
  if (!followed_.process().watch(0, slot)) memory().plant(back);
  const Stop stop = run_on();
  if (!stop.program_is_gone()) followed_.process().watch(0, std::nullopt);
  return stop;
}

control::FollowedStop Stepper::run_on() {
  Stop stop = followed_.run(std::exchange(walk_->deliver, 0));
  for (;;) {
    if (stop.kind == Stop::Kind::loaded) {
      on_loader();
      stop = followed_.run();
    } else if (stop.kind == Stop::Kind::signal && !process::catches_signal(followed_.process().pid(), stop.number)) {
      note_death(stop.number);
      stop = followed_.run(stop.number);
    } else {
      return stop;
    }
  }
}

void Stepper::full_speed() {
  flush();
  if (const unsigned length = signal_return_length(followed_.view(), rip()); length != 0) return signal_return(length);
  plant_entries();
  const RegisterSet before = followed_.registers();
  const std::string name = modules_.called_name(rip());
  const std::uint64_t back = return_address();
  const Reads reads = back != 0 ? reads_own_code(name) : Reads::nothing;
  if (reads == Reads::unknown) note_reads(name);
  if (back != 0) memory().plant(back);
  Recorded& recorded = rows_.open(StepRow::Kind::full_speed);
  recorded.row.function = name;
  recorded.row.memory_followed = false;
  const Stop stop = reads == Reads::code ? run_reader(back) : run_on();
  if (nothing_left(stop)) return full_speed_without_return(recorded, name, stop);
  look_for_written_code();
  const RegisterSet& after = followed_.registers();
  recorded.delta.compare(before, after);
  compare_wide(recorded);
  recorded.text = full_speed_text(name, stop);
  recorded.row.text = recorded.text;
  rows_.close(recorded);
  arrive(stop);
}

std::uint64_t Stepper::return_address() const {
  if (walk_->frames.empty() || walk_->frames.back() < followed_.registers()[Reg::rsp]) return 0;
  const std::optional<std::uint64_t> address = slot_at(walk_->frames.back());
  return address && modules_.is_own(*address) ? *address : 0;
}

std::uint64_t Stepper::returned_slot() const {
  const std::uint64_t stack = followed_.registers()[Reg::rsp];
  constexpr std::uint64_t kMostArguments = 64;  // bytes
  const std::uint64_t most = followed_.mode() == isa::Mode::bits32 ? kMostArguments : 0;
  for (auto slot = walk_->frames.rbegin(); slot != walk_->frames.rend(); ++slot) {
    if (*slot + word() <= stack && stack <= *slot + word() + most) return *slot;
  }
  return 0;
}

Stepper::Arrival Stepper::arrival() {
  if (std::binary_search(handlers_.begin(), handlers_.end(), rip())) return Arrival::handler;
  const std::uint64_t slot = returned_slot();
  if (slot != 0 && slot_at(slot) == rip()) return Arrival::returned;
  const look::Module* module = modules_.at(rip());
  const program::Function* function = module != nullptr ? module->program->function_at(rip() - module->bias) : nullptr;
  return function != nullptr && function->address + module->bias == rip() ? Arrival::called : Arrival::elsewhere;
}

std::string Stepper::full_speed_text(const std::string& name, const Stop& stop) {
  if (stop.kind == Stop::Kind::signal) return name + " ran until " + abi::signal_name(stop.number) + " came";
  switch (arrival()) {
    case Arrival::returned: return name + " ran and returned";
    case Arrival::called: return name + " ran until it called " + modules_.place_name(rip());
    case Arrival::handler: return name + " ran until an exception came to the handler at " + modules_.place_name(rip());
    case Arrival::elsewhere: break;
  }
  return name + " ran until control came to " + modules_.place_name(rip());
}

void Stepper::arrive(const Stop& stop) {
  if (stop.kind == Stop::Kind::signal) return deliver(stop.number);
  const std::uint64_t stack = followed_.registers()[Reg::rsp];
  switch (arrival()) {
    case Arrival::returned:
      walk_->frames.erase(std::find(walk_->frames.begin(), walk_->frames.end(), returned_slot()), walk_->frames.end());
      break;
    case Arrival::called: walk_->frames.push_back(stack); break;
    case Arrival::handler:
    case Arrival::elsewhere:
      std::erase_if(walk_->frames, [&](std::uint64_t slot) { return slot < stack; });
      // Out of the starting function without a return: by longjmp or an exception.
      if (stack > walk_->start_stack && walk_->frames.empty()) finish_walk(StepsEnd::returned);
      break;
  }
}

void Stepper::full_speed_without_return(Recorded& recorded, const std::string& name, const Stop& stop) {
  if (stop.program_is_gone()) ended(stop);
  if (summary_.ended == StepsEnd::interrupt && gone_) return finish(StepsEnd::interrupt);
  recorded.delta.flags_before = recorded.delta.flags_after = followed_.registers()[Reg::rflags];
  recorded.text = name + (stop.kind == Stop::Kind::replaced ? " ran and replaced the program by another"
                          : stop.kind == Stop::Kind::ended  ? " ran until the thread ended"
                                                            : " ran until the program ended");
  recorded.row.text = recorded.text;
  recorded.row.completed = false;
  rows_.close(recorded);
  if (stop.kind == Stop::Kind::ended) return finish_walk(StepsEnd::thread_end);
  finish(stop.kind == Stop::Kind::replaced ? StepsEnd::replaced : StepsEnd::program_end);
}

}  // namespace deeptrace::session
