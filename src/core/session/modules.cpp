#include "session/modules.h"

#include <algorithm>
#include <array>
#include <map>

#include "debuginfo/unwind_table.h"
#include "isa/operand.h"
#include "isa/text.h"
#include "process/maps.h"
#include "program/location.h"

namespace deeptrace::session {
namespace {

constexpr std::uint32_t kLoadable = 1;  // segment type
constexpr std::uint64_t kPage = 4096;

/// The lowest address that the file asks to be loaded at.
std::uint64_t lowest_address(const binary::Elf& elf) {
  std::uint64_t lowest = ~std::uint64_t(0);
  for (const binary::Segment& segment : elf.segments()) {
    if (segment.type == kLoadable) lowest = std::min(lowest, segment.address);
  }
  return lowest == ~std::uint64_t(0) ? 0 : lowest / kPage * kPage;
}

std::string base_name(const std::string& path) { return path.substr(path.rfind('/') + 1); }

bool returns_twice(std::string_view name) {
  constexpr std::array<std::string_view, 5> kNames = {"setjmp", "_setjmp", "sigsetjmp", "__sigsetjmp", "getcontext"};
  return std::find(kNames.begin(), kNames.end(), name) != kNames.end();
}

/// Places behind direct or GOT calls of functions that return twice, in one function.
void add_second_returns(const program::Program& program, const program::Function& function,
                        std::vector<std::uint64_t>& out) {
  Bytes code = program.elf().bytes_at(function.address);
  code = code.first(std::min<std::size_t>(code.size(), function.size));
  for (std::size_t at = 0; at < code.size();) {
    const isa::Instruction instruction = isa::decode(code.subspan(at), program.mode());
    const std::uint64_t here = function.address + at;
    at += instruction ? instruction.length : 1;
    if (!instruction || isa::flow_of(instruction) != isa::ControlFlow::call) continue;
    std::uint64_t target = 0;
    const bool known =
        isa::direct_target(instruction, here, target) || isa::fixed_memory_address(instruction, here, target);
    if (known && returns_twice(program.reference(target).name)) out.push_back(function.address + at);
  }
}

}  // namespace

Modules::Modules(const process::Tracee& tracee, program::Program main, program::OwnCode rule) : rule_(std::move(rule)) {
  load(tracee, std::move(main));
  collect_own();
}

void Modules::load(const process::Tracee& tracee, program::Program main) {
  std::map<std::string, Module*> by_path;
  auto program = std::make_unique<program::Program>(std::move(main));
  const std::uint64_t entry = process::auxiliary_value(tracee.pid(), 9);  // AT_ENTRY
  const std::uint64_t main_bias = entry - program->elf().entry();
  const std::uint64_t main_start = lowest_address(program->elf()) + main_bias;
  modules_.push_back(std::make_unique<Module>());
  for (const process::Mapping& mapping : process::mappings_of(tracee.pid())) {
    if (mapping.path.empty() || mapping.path.front() != '/') continue;
    Module*& module = by_path[mapping.path];
    if (module == nullptr) {
      const bool is_main = main_start >= mapping.from && main_start < mapping.to;
      if (!is_main) modules_.push_back(std::make_unique<Module>());
      module = is_main ? modules_.front().get() : modules_.back().get();
      module->path = mapping.path;
      module->from = mapping.from;
      module->system = program::in_system_libraries(mapping.path) && !is_main;
    }
    module->to = std::max(module->to, mapping.to);
  }
  modules_.front()->program = std::move(program);
  modules_.front()->bias = main_bias;
  for (const auto& module : modules_) {
    const bool wanted = !module->system || rule_.all || !rule_.paths.empty();
    if (module->program || !wanted) continue;
    if (Result<program::Program> opened = program::Program::open(module->path, {rule_, {}, false, false})) {
      module->program = std::make_unique<program::Program>(std::move(*opened));
      module->bias = module->from - lowest_address(module->program->elf());
    }
  }
}

void Modules::collect_own() {
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
    if (!module->program) {
      if (Result<program::Program> opened = program::Program::open(module->path, {rule_, {}, false, false})) {
        module->program = std::make_unique<program::Program>(std::move(*opened));
        module->bias = module->from - lowest_address(module->program->elf());
      }
    }
    if (module->program) return module.get();
  }
  return nullptr;
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
  if (function != nullptr && function->origin == program::Function::Origin::plt) return function->name;
  if (function != nullptr && function->origin == program::Function::Origin::symbol)
    return module->program->place_name(inside);
  text.add(base_name(module->path));
  text.add('+');
  text.add_hex(inside);
  return std::string(text.view());
}

Result<std::vector<std::uint64_t>> Modules::resolve(std::string_view location) const {
  const auto in = [&](const Module& module, std::string_view where) -> Result<std::vector<std::uint64_t>> {
    Result<std::vector<std::uint64_t>> found = program::addresses_of(*module.program, where);
    if (found) {
      for (std::uint64_t& address : *found) address += module.bias;
    }
    return found;
  };
  const std::size_t colon = location.find_first_of(":+");
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

}  // namespace deeptrace::session
