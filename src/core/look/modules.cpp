#include "look/modules.h"

#include <algorithm>
#include <array>
#include <map>
#include <set>

#include "base/number.h"
#include "base/path.h"
#include "debuginfo/unwind_table.h"
#include "isa/operand.h"
#include "isa/text.h"
#include "isa/walk.h"
#include "program/code_starts.h"
#include "program/frame.h"
#include "program/location.h"
#include "program/source_text.h"

namespace deeptrace::look {
namespace {

constexpr std::uint64_t kPage = 4096;
constexpr std::string_view kVdso = "[vdso]";  // as /proc/PID/maps calls it

/// The lowest address that the file asks to be loaded at.
std::uint64_t lowest_address(const binary::Elf& elf) {
  std::uint64_t lowest = ~std::uint64_t(0);
  for (const binary::Segment& segment : elf.segments()) {
    if (segment.type == binary::kLoadSegment) lowest = std::min(lowest, segment.address);
  }
  return lowest == ~std::uint64_t(0) ? 0 : lowest / kPage * kPage;
}

/// Variables that begin as zero may lie in pages that are no file's.
std::uint64_t end_of(const Module& module) {
  if (!module.program) return 0;
  std::uint64_t end = 0;
  for (const binary::Segment& segment : module.program->elf().segments()) {
    if (segment.type == binary::kLoadSegment) end = std::max(end, segment.address + segment.memory_size);
  }
  return end == 0 ? 0 : end + module.bias;
}

bool returns_twice(std::string_view name) {
  constexpr std::array<std::string_view, 5> kNames = {"setjmp", "_setjmp", "sigsetjmp", "__sigsetjmp", "getcontext"};
  return std::find(kNames.begin(), kNames.end(), name) != kNames.end();
}

/// Places after direct or GOT calls of functions that return twice, in one function.
void add_second_returns(const program::Program& program, const program::Function& function,
                        std::vector<std::uint64_t>& out) {
  Bytes code = program.elf().bytes_at(function.address);
  code = code.first(std::min<std::size_t>(code.size(), function.size));
  for (const isa::Placed& one : isa::instructions_of(code, program.mode())) {
    const isa::Instruction& instruction = one.instruction;
    const std::uint64_t here = function.address + one.at;
    if (!instruction || isa::flow_of(instruction) != isa::ControlFlow::call) continue;
    std::uint64_t target = 0;
    const bool known =
        isa::direct_target(instruction, here, target) || isa::fixed_memory_address(instruction, here, target);
    if (known && returns_twice(program.reference(target).name)) out.push_back(function.address + one.next());
  }
}

}  // namespace

Modules::Modules(const state::Target& target, program::Program main, program::OpenOptions options)
    : target_(&target), options_(std::move(options)) {
  modules_.push_back(std::make_shared<Module>());
  Module& first = *modules_.front();
  first.program = std::make_unique<program::Program>(std::move(main));
  const std::uint64_t entry = target.auxiliary(state::Auxiliary::entry).value_or(0);
  first.bias = entry - first.program->elf().entry();
  first.path = first.program->elf().path();
  first.from = lowest_address(first.program->elf()) + first.bias;
  first.to = first.from + 1;
  place(target);
}

Modules::Changes Modules::refresh(const state::Target& target) {
  target_ = &target;
  mappings_.clear();
  std::vector<std::string> before;
  for (const auto& module : modules_) before.push_back(module->path);
  place(target);
  Changes changes;
  for (const auto& module : modules_) {
    if (std::ranges::find(before, module->path) == before.end()) changes.loaded.push_back(module->path);
  }
  for (const std::string& path : before) {
    const bool here = std::ranges::any_of(modules_, [&](const auto& module) { return module->path == path; });
    if (!here) changes.unloaded.push_back(path);
  }
  return changes;
}

/// Finds where the files that are mapped lie.
void Modules::place(const state::Target& target) {
  struct Range {
    std::uint64_t from, to;
    bool code;
  };
  std::map<std::string, Range> mapped;
  std::set<std::string_view> with_code;  ///< other files that are mapped are data
  std::string main_path;
  const std::uint64_t main_start = lowest_address(main().program->elf()) + main().bias;
  const std::vector<state::Mapping> mappings = target.mappings();
  for (const state::Mapping& mapping : mappings) {
    if (mapping.executable) with_code.insert(mapping.path);
  }
  for (const state::Mapping& mapping : mappings) {
    if (!mapping.path.starts_with('/')) continue;
    const auto [range, added] = mapped.try_emplace(mapping.path, Range{mapping.from, mapping.to, mapping.executable});
    // A program may have mapped a library's file as data too: what counts is where its code lies.
    if (!added && mapping.offset == 0 && range->second.code) continue;
    if (!added && mapping.offset == 0) range->second = {mapping.from, mapping.to, false};
    range->second.to = std::max(range->second.to, mapping.to);
    range->second.code |= mapping.executable;
    if (main_start >= mapping.from && main_start < mapping.to) main_path = mapping.path;
  }
  std::erase_if(mapped,
                [&](const auto& entry) { return entry.first != main_path && !with_code.contains(entry.first); });
  std::erase_if(modules_, [&](const auto& module) {
    if (module == modules_.front() || module->path == kVdso) return false;
    const auto found = mapped.find(module->path);
    return found == mapped.end() || found->second.from != module->from;
  });
  for (const auto& entry : mapped) {
    const std::string& path = entry.first;
    const Range& range = entry.second;
    if (path == main_path) {
      Module& module = *modules_.front();
      module.path = path;
      module.from = range.from;
      module.to = std::max(range.to, end_of(module));
      continue;
    }
    const auto known = std::ranges::find_if(modules_, [&](const auto& module) { return module->path == path; });
    if (known != modules_.end()) {
      (*known)->to = std::max(range.to, end_of(**known));
      continue;
    }
    auto module = std::make_shared<Module>();
    module->path = path;
    module->from = range.from;
    module->to = range.to;
    module->system = program::in_system_libraries(path);
    if (!module->system || options_.own.all || !options_.own.paths.empty()) open(*module);
    modules_.push_back(std::move(module));
  }
  add_vdso(mappings);
  rules_.clear();
  variable_names.clear();
  no_symbols.clear();
  own_starts_.clear();
  collect_own();
}

/// The kernel's own library lies in memory alone.
Result<program::Program> Modules::read_image(const Module& module) const {
  std::vector<std::uint8_t> bytes(module.to - module.from);
  const std::vector<state::ThreadId> threads = target_->threads();
  if (!threads.empty()) bytes.resize(target_->view(threads.front()).read_memory(module.from, bytes));
  Result<binary::Elf> elf = binary::Elf::read(MappedFile::of(module.path, std::move(bytes)));
  return elf ? program::Program::read(std::move(*elf), options_) : elf.error();
}

void Modules::add_vdso(const std::vector<state::Mapping>& mappings) {
  const auto place = target_->auxiliary(state::Auxiliary::vdso);
  const auto found =
      std::ranges::find_if(mappings, [&](const auto& one) { return place && *place >= one.from && *place < one.to; });
  const auto known = std::ranges::find(modules_, kVdso, [](const auto& module) { return module->path; });
  if (known != modules_.end() && found != mappings.end() && (*known)->from == found->from) return;
  if (known != modules_.end()) modules_.erase(known);
  if (found == mappings.end()) return;
  auto module = std::make_shared<Module>();
  module->path = kVdso;
  module->from = found->from;
  module->to = found->to;
  module->system = true;
  modules_.push_back(std::move(module));
}

void Modules::open(Module& module) {
  Result<program::Program> opened =
      module.path == kVdso ? read_image(module) : program::Program::open(module.path, options_);
  if (!opened) return;
  module.program = std::make_unique<program::Program>(std::move(*opened));
  module.bias = module.from - lowest_address(module.program->elf());
  module.to = std::max(module.to, end_of(module));
}

void Modules::collect_own() {
  own_.clear();
  for (const auto& module : modules_) {
    if (!module->program) continue;
    for (const program::Function& function : module->program->functions()) {
      if (function.size != 0 && module->program->is_own(function))
        own_.push_back({function.address + module->bias, function.address + function.size + module->bias});
    }
  }
  std::sort(own_.begin(), own_.end(), [](const auto& a, const auto& b) { return a.from < b.from; });
  std::vector<program::AddressRange> merged;
  for (const program::AddressRange& range : own_) {
    if (!merged.empty() && range.from <= merged.back().to) {
      merged.back().to = std::max(merged.back().to, range.to);
    } else {
      merged.push_back(range);
    }
  }
  own_ = std::move(merged);
}

bool Modules::is_own(std::uint64_t address) const {
  auto after = std::upper_bound(own_.begin(), own_.end(), address,
                                [](std::uint64_t a, const program::AddressRange& r) { return a < r.from; });
  return after != own_.begin() && (after - 1)->holds(address);
}

const Module* Modules::at(std::uint64_t address) {
  for (const auto& module : modules_) {
    if (address < module->from || address >= module->to) continue;
    if (!module->program) open(*module);
    if (module->program) return module.get();
  }
  return nullptr;
}

std::optional<state::Mapping> Modules::mapping_at(const state::StateView& view, std::uint64_t address) {
  std::uint8_t byte = 0;
  if (view.read_memory(address, {&byte, 1}) != 1) return std::nullopt;
  const auto find = [&] {
    return std::ranges::find_if(mappings_, [&](const auto& one) { return address >= one.from && address < one.to; });
  };
  auto found = find();
  if (found == mappings_.end()) {
    mappings_ = target_->mappings();
    found = find();
  }
  return found != mappings_.end() && found->readable ? std::optional(*found) : std::nullopt;
}

const debuginfo::StaticVariable* ModuleDebug::static_at(const program::Program& program, std::uint64_t address) {
  if (!statics) statics = debuginfo::static_variables(program.debug(), types);
  if (!placed) {
    placed.emplace();
    for (const debuginfo::StaticVariable& variable : *statics) {
      if (!variable.in_thread) placed->push_back(&variable);
    }
    std::ranges::stable_sort(*placed, {}, &debuginfo::StaticVariable::address);
  }
  const auto after = std::ranges::upper_bound(*placed, address, {}, &debuginfo::StaticVariable::address);
  if (after == placed->begin()) return nullptr;
  const debuginfo::StaticVariable* variable = *(after - 1);
  return address - variable->address < types.size(variable->type) ? variable : nullptr;
}

ModuleDebug& Modules::debug(const Module& module) {
  if (!module.debug) module.debug = std::make_unique<ModuleDebug>(*module.program, scan(module));
  return *module.debug;
}

program::CodeScan& Modules::scan(const Module& module) {
  if (!module.scan) module.scan = std::make_unique<program::CodeScan>(*module.program);
  return *module.scan;
}

const program::Assignments& Modules::assignments(const Module& module, std::uint32_t file) {
  auto& known = debug(module).assignments;
  if (const auto found = known.find(file); found != known.end()) return found->second;
  program::SourceText sources(options_.moved_sources);  // the text is not kept
  const auto text = sources.whole(module.program->lines().file(file));
  return known.try_emplace(file, std::string(text.value_or(""))).first->second;
}

const program::Function* Modules::function_at(std::uint64_t address) {
  const Module* module = at(address);
  return module != nullptr ? module->program->function_at(address - module->bias) : nullptr;
}

bool Modules::is_own_line(std::uint64_t address, bool after_call) {
  // After a call that never returns another function may begin.
  const std::uint64_t inside = address - (after_call ? 1 : 0);
  if (is_own(inside)) return true;
  const Module* module = at(inside);
  if (module == nullptr || module->system) return false;
  const auto [file, line] = line_of(inside);
  return line != 0 && module->program->is_own_source(file);
}

std::pair<std::string_view, std::uint32_t> Modules::line_of(std::uint64_t address) {
  const Module* module = at(address);
  if (module == nullptr) return {};
  const auto line = module->program->lines().at(address - module->bias);
  if (!line) return {};
  return {module->program->source_path(*line), line->line};
}

bool Modules::begins_statement(std::uint64_t address) {
  const Module* module = at(address);
  return module != nullptr && module->program->lines().starts_statement(address - module->bias);
}

std::optional<Level> Modules::line_entered(std::uint64_t address, unsigned depth) {
  const Module* module = at(address);
  if (module == nullptr) return std::nullopt;
  const program::LineEntry* entry = debug(*module).entries.at(address - module->bias, depth);
  if (entry == nullptr) return std::nullopt;
  return Level{entry->depth, module->program->lines().files()[entry->line.file], entry->line.line};
}

std::size_t Modules::inlined_depth(std::uint64_t address) {
  const Module* module = at(address);
  return module != nullptr ? debug(*module).scopes.inlined_at(address - module->bias).size() : 0;
}

program::Reference Modules::reference(std::uint64_t address) {
  const Module* module = at(address);
  return module != nullptr ? module->program->reference(address - module->bias) : program::Reference{};
}

/// A function without unwind tables, as its instructions treat the stack.
std::optional<inspect::PlacedRule> Modules::rule_from_code(const Module& module, std::uint64_t inside) {
  const program::Program& program = *module.program;
  const program::Function* function = program.function_at(inside);
  if (function == nullptr) return std::nullopt;
  inspect::PlacedRule placed;
  placed.bias = module.bias;
  placed.from_table = false;
  placed.outermost = function->range().holds(program.elf().entry()) && &module == modules_.front().get();
  const auto point = program::frame_at(program, scan(module), *function, inside);
  if (!point) return placed.outermost ? std::optional(placed) : std::nullopt;
  const arch::Machine& machine = arch::machine_of(program.mode());
  placed.rule.cfa_register = machine.dwarf_number(point->by_stack ? machine.stack_pointer : machine.frame_pointer);
  placed.rule.cfa_offset = point->to_cfa;
  placed.rule.return_register = machine.dwarf_return_address;
  for (const program::FramePoint::Saved& saved : point->saved) {
    placed.rule.registers[machine.dwarf_number(saved.number)] = {
        debuginfo::RegisterRule::Kind::at_offset, -saved.below_cfa, 0, {}};
  }
  return placed;
}

std::optional<inspect::PlacedRule> Modules::frame_rule_by_code(std::uint64_t address) {
  const Module* module = at(address);
  return module != nullptr ? rule_from_code(*module, address - module->bias) : std::nullopt;
}

std::optional<inspect::PlacedRule> Modules::frame_rule(std::uint64_t address) {
  const auto [place, added] = rules_.try_emplace(address);
  if (!added) return place->second;
  const Module* module = at(address);
  if (module == nullptr) return std::nullopt;
  const std::uint64_t inside = address - module->bias;
  std::optional<inspect::PlacedRule> result;
  if (!module->frames)
    module->frames = std::make_unique<debuginfo::FrameTable>(module->program->elf(), module->program->debug_elf());
  if (const auto rule = module->frames->at(inside)) {
    result = inspect::PlacedRule{*rule, module->bias, true, false};
  } else {
    result = rule_from_code(*module, inside);
  }
  return rules_[address] = result;
}

std::string Modules::place_name(std::uint64_t address) {
  isa::Text text;
  const Module* module = at(address);
  if (module == nullptr) {
    text.add_hex(address);
    return std::string(text.view());
  }
  const std::uint64_t inside = address - module->bias;
  const program::Function* function = module->program->function_at(inside);
  using Origin = program::Function::Origin;
  if (function != nullptr && (function->origin == Origin::symbol || function->origin == Origin::plt))
    return module->program->place_name(inside);
  text.add(base_name(module->path));
  text.add('+');
  text.add_hex(inside);
  return std::string(text.view());
}

std::string Modules::called_name(std::uint64_t address) {
  const program::Function* function = function_at(address);
  const bool stub = function != nullptr && function->origin == program::Function::Origin::plt &&
                    function->address == address - at(address)->bias;
  return stub ? function->name.str() : place_name(address);
}

std::string Modules::return_name(std::uint64_t address) {
  const program::Function* function = function_at(address - 1);
  if (function == nullptr || function->origin != program::Function::Origin::symbol) return place_name(address);
  const Module& module = *at(address - 1);
  const auto nearest = module.program->nearest_name(address - 1 - module.bias);
  return nearest->name + "+" + hex_text(address - module.bias - nearest->address);
}

std::string Modules::located_name(std::uint64_t address, bool after_call) {
  std::string text = after_call ? return_name(address) : place_name(address);
  const auto [file, line] = line_of(address - (after_call ? 1 : 0));
  if (line != 0) text += "  " + base_name(file) + ":" + std::to_string(line);
  return text;
}

std::size_t module_mark(std::string_view location) {
  const std::size_t mark = location.find_first_of(":+");
  // tide::report is a C++ name, also in a program that is called tide.
  const bool scope = mark != std::string_view::npos && location.substr(mark).starts_with("::");
  return scope ? std::string_view::npos : mark;
}

Result<std::vector<std::uint64_t>> Modules::resolve(std::string_view location) const {
  const auto in = [&](const Module& module, std::string_view where) -> Result<std::vector<std::uint64_t>> {
    Result<std::vector<std::uint64_t>> found = program::addresses_of(*module.program, where);
    if (found) {
      for (std::uint64_t& address : *found) address += module.bias;
    }
    return found;
  };
  const std::size_t colon = module_mark(location);
  for (const auto& module : modules_) {
    if (!module->program || colon == std::string_view::npos || base_name(module->path) != location.substr(0, colon))
      continue;
    return in(*module, location.substr(colon + 1));
  }
  // A plain number is an address of the running program when it lies in one of its modules.
  Result<std::vector<std::uint64_t>> found = in(main(), location);
  for (std::size_t i = 1; !found && i < modules_.size(); ++i) {
    if (!modules_[i]->program || modules_[i]->system) continue;
    if (Result<std::vector<std::uint64_t>> other = in(*modules_[i], location)) return other;
  }
  if (!found && location.starts_with("0x")) {
    for (const auto& module : modules_) {
      if (!module->program) continue;
      const std::uint64_t address = std::strtoull(std::string(location).c_str(), nullptr, 16);
      if (address >= module->from && address < module->to) return std::vector<std::uint64_t>{address};
    }
  }
  return found;
}

std::vector<std::uint64_t> Modules::reentries() const {
  std::vector<std::uint64_t> result;
  for (const auto& module : modules_) {
    if (!module->program) continue;
    const program::Program& program = *module->program;
    std::vector<std::uint64_t> inside = debuginfo::code_entries(program.elf()).landing_pads;
    for (const program::Function& function : program.functions()) {
      if (program.is_own(function)) add_second_returns(program, function, inside);
    }
    for (const std::uint64_t address : inside) {
      if (is_own(address + module->bias)) result.push_back(address + module->bias);
    }
  }
  std::ranges::sort(result);
  result.erase(std::unique(result.begin(), result.end()), result.end());
  return result;
}

std::vector<std::uint64_t> Modules::own_starts() {
  if (!own_starts_.empty()) return own_starts_;
  for (const auto& module : modules_) {
    if (!module->program || module->program->lines().empty()) continue;
    for (const program::Function& function : module->program->functions()) {
      if (module->program->is_own(function) && function.size != 0 && module->program->lines().covers(function.address))
        own_starts_.push_back(program::prologue_end_of(*module->program, function) + module->bias);
    }
  }
  return own_starts_;
}

Modules::OwnEntries Modules::own_entries() const {
  OwnEntries result;
  for (const auto& module : modules_) {
    if (!module->program) continue;
    const program::Program& program = *module->program;
    debuginfo::CodeEntries entries = debuginfo::code_entries(program.elf());
    for (const program::Function& function : program.functions()) {
      if (!program.is_own(function)) continue;
      entries.functions.push_back(function.address);
      add_second_returns(program, function, entries.functions);
    }
    const auto add = [&](const std::vector<std::uint64_t>& inside, std::vector<std::uint64_t>& out) {
      for (const std::uint64_t address : inside) {
        if (is_own(address + module->bias)) out.push_back(address + module->bias);
      }
    };
    add(entries.functions, result.all);
    add(entries.landing_pads, result.all);
    add(entries.landing_pads, result.handlers);
  }
  for (auto* list : {&result.all, &result.handlers}) {
    std::sort(list->begin(), list->end());
    list->erase(std::unique(list->begin(), list->end()), list->end());
  }
  return result;
}

}  // namespace deeptrace::look
