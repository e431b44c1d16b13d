#include "control/control.h"

#include <algorithm>

#include "control/parts.h"
#include "control/program_to_run.h"

namespace deeptrace::control {

using process::Event;
using state::Reg;
using Answer = process::Process::Answer;

namespace {

/// Where the dynamic linker will report, by its symbols: its table is not filled in before it has run.
std::optional<look::Loader> loader_by_symbols(const state::Target& target, std::uint64_t base, isa::Mode mode) {
  look::Loader loader;
  for (const state::Mapping& mapping : target.mappings()) {
    if (mapping.from != base || mapping.path.empty()) continue;
    const Result<binary::Elf> elf = binary::Elf::open(mapping.path);
    if (!elf) return std::nullopt;
    const std::uint64_t word = arch::machine_of(mode).word;
    const binary::SymbolTable& symbols = elf->symbols();
    for (std::size_t i = 0; i < symbols.size(); ++i) {
      const std::string_view name = symbols.name_at(i);
      if (name == "_dl_debug_state") loader.function = symbols[i].address + base;
      if (name == "_r_debug") loader.state = symbols[i].address + base + 3 * word;
    }
  }
  return loader.function != 0 && loader.state != 0 ? std::optional(loader) : std::nullopt;
}

}  // namespace

Control::Control(ControlOptions options) : options_(std::move(options)) {}
Control::~Control() = default;

Result<std::unique_ptr<Control>> Control::start(ControlOptions options) {
  std::unique_ptr<Control> control(new Control(std::move(options)));
  if (auto error = control->begin()) return *error;
  return control;
}

std::optional<Error> Control::begin() {
  Result<Running> running =
      options_.attach != 0 ? attach(options_.attach, options_.open) : launch(options_.launch, options_.open);
  if (!running) return running.error();
  kernel_.reset();
  process_ = std::move(running->process);
  if (options_.trace_children) process_->trace_children();
  thread_ = process_->pid();
  if (options_.attach == 0) {
    if (auto error = run_to_beginning(running->program.elf().path())) return error;
  }
  modules_ = std::make_unique<look::Modules>(*process_, std::move(running->program), options_.open);
  find_loader();
  moved_.before = view().registers();
  if (options_.end_at_input) process_->end_at_input();
  if (options_.pause) process_->at_pauses(options_.pause);
  return end_is_asked();
}

/// At the entry the dynamic linker has mapped every library that the program names, and their constructors have run. It
/// calls a function of its own when all is mapped and relocated, before those.
std::optional<Error> Control::run_to_beginning(const std::string& path) {
  const std::uint64_t entry = process_->auxiliary(state::Auxiliary::entry).value_or(0);
  const std::uint64_t linker_base = process_->auxiliary(state::Auxiliary::linker_base).value_or(0);
  if (view().registers()[Reg::rip] == entry) return std::nullopt;
  process::Memory& memory = process_->memory();
  if (!memory.plant(entry)) return Error{Fault::program, path + ": its entry cannot be reached"};
  std::optional<look::Loader> loader;
  if (options_.before_libraries && linker_base != 0) loader = loader_by_symbols(*process_, linker_base, view().mode());
  if (loader && !memory.plant(loader->function)) loader.reset();
  const Event event = process_->run({}, [&](const Event& e) {
    if (e.kind != Event::Kind::stop_byte) return Answer::go_on;
    process_->reported(e.thread);
    const state::StateView& thread = process_->view(e.thread);
    const bool reports = loader && thread.registers()[Reg::rip] == loader->function;
    return reports && !look::is_consistent(*loader, thread) ? Answer::go_on : Answer::hold;
  });
  if (event.program_is_gone()) return Error{Fault::program, path + ": ended before its entry was reached"};
  if (event.kind == Event::Kind::attention) return Error{Fault::program, path + ": interrupted before its entry"};
  memory.remove(entry);
  if (loader) memory.remove(loader->function);
  return std::nullopt;
}

/// The child stands after its fork, or at the beginning of a program of its own.
Result<std::unique_ptr<Control>> Control::of_child(const Control& parent, std::unique_ptr<process::Process> child) {
  std::unique_ptr<Control> control(new Control(parent.options_));
  control->process_ = std::move(child);
  if (parent.options_.end_at_input) control->process_->end_at_input();
  control->thread_ = control->process_->pid();
  control->next_number_ = parent.next_number_;
  control->others_run_ = parent.others_run_;
  control->on_child_ = parent.on_child_;
  control->copy_halts(parent);
  if (control->process_->is_fresh()) {
    if (auto error = control->replaced()) {
      control->process_->detach();  // it goes on alone
      return *error;
    }
    control->moved_.before = control->view().registers();
    if (parent.watcher_ != nullptr) control->watcher_ = parent.watcher_->of_child(*control, 0);
    return control;
  }
  control->modules_ = std::make_unique<look::Modules>(*parent.modules_, *control->process_);
  control->sites_ = parent.sites_;
  control->guards_ = parent.guards_;
  control->loader_ = parent.loader_;
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
  control->moved_.before = control->view().registers();
  control->watched_sites_ = parent.watched_sites_;
  if (parent.watcher_ != nullptr)
    control->watcher_ = parent.watcher_->of_child(*control, control->process_->forked_by());
  return control;
}

void Control::copy_halts(const Control& parent) {
  for (const auto& halt : parent.halts_) {
    halts_.push_back(std::make_unique<Halt>(*halt));
    Halt& copy = *halts_.back();
    copy.hits = copy.came = copy.entered = 0;
    if (copy.frame_thread == process_->forked_by()) copy.frame_thread = thread_;
    if (const auto own = copy.lasts.find(process_->forked_by()); own != copy.lasts.end())
      copy.lasts = {{thread_, own->second}};
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

void Control::find_loader() {
  loader_ = look::loader_of(modules_->main(), view());
  if (loader_ && !process_->memory().plant(loader_->function)) loader_.reset();
  if (loader_) sites_[loader_->function].count = 1;
}

void Control::on_loader(Stopped& stopped) {
  if (!look::is_consistent(*loader_, view())) return;
  const look::Modules::Changes changes = modules_->refresh(*process_);
  neighbours_.clear();
  reentries_known_ = false;
  for (const std::string& path : changes.loaded) {
    stopped.notes.push_back(path + " was loaded");
    for (const auto& halt : halts_) {
      if (halt->rule.how().by == HaltKind::By::loader && path.find(halt->rule.what) != std::string::npos &&
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
        process_->memory().remove(address);
        sites_.erase(address);
      }
      halt->addresses.clear();
      halt->levels.clear();
      halt->waiting = true;
      stopped.notes.push_back("h" + std::to_string(halt->number) + " waits: " + path + " was unloaded");
    }
  }
  if (!changes.loaded.empty()) resolve_waiting();
  if (watcher_ == nullptr || (changes.loaded.empty() && changes.unloaded.empty())) return;
  std::erase_if(watched_sites_, [&](std::uint64_t address) {
    if (modules_->at(address) != nullptr) return false;  // else the kernel unmapped the byte
    process_->memory().remove(address);
    sites_.erase(address);
    return true;
  });
  watcher_->modules_changed();
}

void Control::resolve_waiting() {
  for (const auto& halt : halts_) {
    if (!halt->waiting) continue;
    halt->waiting = false;
    if (place_or_wait(*halt)) halt->waiting = true;
    if (halt->waiting || !halt->condition) continue;
    const auto error = wrong_at(*halt->condition, *halt, true);
    halt->told_failure |= error.has_value();
    if (error)
      stopped_.notes.push_back("h" + std::to_string(halt->number) + ": its condition cannot hold: " + error->message);
  }
}

void Control::detach() { process_->detach(); }

}  // namespace deeptrace::control
