#include "look/places.h"

#include <algorithm>
#include <set>

#include "base/number.h"
#include "base/path.h"
#include "isa/operand.h"
#include "isa/text.h"
#include "isa/walk.h"
#include "program/code_starts.h"
#include "program/instances.h"
#include "program/location.h"
#include "state/imagine.h"

namespace deeptrace::look {
namespace {

using program::Function;
using program::Program;

/// Where control comes to a source line.
std::vector<StopPlace> line_places(const Module& module, const std::vector<std::uint32_t>& files, std::uint32_t line) {
  std::vector<StopPlace> result;
  for (const program::LineEntry& entry : Modules::debug(module).entries.of(files, line)) {
    const std::string& file = module.program->lines().files()[entry.line.file];
    result.push_back({entry.address, Level{entry.depth, file, entry.line.line}});
  }
  return result;
}

/// A function may begin on the line after the one that names it, where its brace is. The line that names it stands for
/// the function then, and for inlined copies that have no row of it: they are found by the lines that follow.
void add_declared(const Module& module, const std::vector<std::uint32_t>& files, std::uint32_t line,
                  std::vector<StopPlace>& places) {
  constexpr std::uint32_t kLinesAfter = 20;
  const Program& program = *module.program;
  ModuleDebug& debug = Modules::debug(module);
  const auto is_meant = [&](const debuginfo::Declaration& declared) {
    if (declared.line != line || declared.unit == nullptr) return false;
    const auto place = program.lines().line_of(*declared.unit, declared.file, line);
    return place && std::ranges::find(files, place->file) != files.end();
  };
  std::set<const debuginfo::DescribedFunction*> near;
  program.lines().each_run([&](std::span<const debuginfo::LineRow> rows) {
    for (const debuginfo::LineRow& row : rows) {
      const bool follows = !row.ends && row.line > line && row.line - line <= kLinesAfter;
      if (!follows || std::ranges::find(files, row.file) == files.end()) continue;
      if (const auto* function = debug.scopes.function_at(row.address)) near.insert(function);
    }
  });
  // Rows of the line come first: a scope that has one is entered there.
  std::set<std::pair<std::uint64_t, unsigned>> known;
  for (const StopPlace& place : places) known.insert({place.address, place.level ? place.level->depth : 0});
  for (const debuginfo::DescribedFunction* described : near) {
    const AddressRange& whole = described->ranges.front();
    const Function* function = program.function_at(whole.from);
    if (is_meant(described->declared) && function != nullptr && function->address == whole.from) {
      const auto first = known.lower_bound({whole.from, 0});
      const bool has_row =
          std::any_of(first, known.lower_bound({whole.to, 0}), [](const auto& one) { return one.second == 0; });
      if (!has_row) places.push_back({program::prologue_end_of(program, *function), Level{}});
    }
    std::set<std::uint64_t> calls;
    for (const debuginfo::InlinedCall& call : described->inlined) {
      if (is_meant(call.declared)) calls.insert(call.entry);
    }
    if (calls.empty()) continue;
    for (const program::InlinedEntry& entry : debug.entries.inlined_around(whole.from)) {
      if (!calls.contains(entry.call) || !known.insert({entry.address, entry.depth}).second) continue;
      const std::string& file = program.lines().files()[entry.declared.file];
      places.push_back({entry.address, Level{entry.depth, file, entry.declared.line}});
    }
  }
  std::ranges::sort(places, {}, [](const StopPlace& place) { return place.address; });
}

/// Where control comes to instances of a function.
StopPlaces instance_places(const Module& module, const program::Instances& instances) {
  StopPlaces result;
  for (const auto* list : {&instances.functions, &instances.clones}) {
    for (const Function* function : *list) {
      result.starts.push_back(function->address);
      const std::uint64_t end = program::prologue_end_of(*module.program, *function);
      result.places.push_back({end, instances.inlined.empty() ? std::nullopt : std::optional(Level{})});
    }
  }
  program::LineEntries& entries = Modules::debug(module).entries;
  debuginfo::Scopes& scopes = Modules::debug(module).scopes;
  std::set<std::pair<const debuginfo::Unit*, std::uint64_t>> wanted;
  for (const debuginfo::InlinedCopy& copy : instances.inlined) wanted.insert({copy.entry.unit, copy.entry.offset});
  std::set<const program::InlinedEntry*> seen;  // the first of each function
  for (const debuginfo::InlinedCopy& copy : instances.inlined) {
    const auto all = entries.inlined_around(copy.address());
    if (all.empty() || !seen.insert(all.data()).second) continue;
    for (const program::InlinedEntry& entry : all) {
      if (!wanted.contains({copy.entry.unit, entry.call})) continue;
      Level level{entry.depth, {}, 0};
      const auto around = scopes.inlined_at(entry.address);
      if (around.size() < entry.depth || around[entry.depth - 1]->entry != entry.call) {
        level.inlined = instances.name;
        level.line = entry.declared.line;
        if (level.line != 0) level.file = module.program->lines().files()[entry.declared.file];
      }
      result.places.push_back({entry.address, level});
    }
  }
  std::ranges::sort(result.places, {}, [](const StopPlace& place) {
    return std::pair(place.address, place.level ? ~place.level->depth : 0);
  });
  const auto same = [](const StopPlace& a, const StopPlace& b) { return a.address == b.address; };
  result.places.erase(std::unique(result.places.begin(), result.places.end(), same), result.places.end());
  result.inlined = instances.inlined.size();
  result.found = instances.words();
  result.is_short = instances.is_short;
  return result;
}

Error inside_instruction(std::string_view location, const program::Boundaries& around, std::uint64_t bias) {
  return {Fault::usage, std::string(location) + ": lies inside an instruction; instructions start at " +
                            hex_text(around.before + bias) + " and " + hex_text(around.after + bias)};
}

}  // namespace

std::string called_as(const Modules& modules, std::string_view name) {
  const program::Program& program = *modules.main().program;
  const auto calls = [&](std::string_view other) {
    return !program.functions_named(other).empty() ||
           std::ranges::any_of(program.relocations(), [&](const auto& r) { return !r.defined && r.symbol == other; });
  };
  if (name.empty() || calls(name)) return {};
  const std::string plain(name);
  for (const std::string& other :
       {"__isoc99_" + plain, "__isoc23_" + plain, "__" + plain + "_chk", plain + "64", "__" + plain + "64_chk"}) {
    if (calls(other)) return other;
  }
  return {};
}

std::string after_prologue(Modules& modules, std::uint64_t address, std::string_view location) {
  if (location.find('+') != std::string_view::npos || number_in(location)) return {};
  const Module* module = modules.at(address);
  if (module == nullptr) return {};
  const auto name = module->program->nearest_name(address - module->bias);
  if (!name || name->address == address - module->bias) return {};
  const program::Prologue prologue = program::prologue_after(*module->program, name->address);
  using By = program::Prologue::By;
  if (prologue.end != address - module->bias || prologue.by == By::none) return {};
  if (prologue.by == By::debug_information) return "after the prologue";
  return modules.place_name(address) + ", after the prologue; " + name->name + "+0 is the first instruction";
}

std::optional<Error> no_instruction(const Modules& modules, std::uint64_t address, std::string_view location) {
  for (const auto& module : modules.all()) {
    if (!module->program || address < module->from || address >= module->to) continue;
    const program::Boundaries around = program::boundaries_around(*module->program, address - module->bias);
    if (around.before != address - module->bias) return inside_instruction(location, around, module->bias);
  }
  return std::nullopt;
}

/// The line that opens a function of a compiled language stops where its name does: parameters are in place there. In
/// hand-written code each line is its own instruction.
std::uint64_t after_opening(const Program& program, std::uint64_t address, std::uint32_t line) {
  const Function* function = program.function_at(address);
  const auto opens = function != nullptr ? program.source_of(*function) : std::nullopt;
  if (!opens || line > opens->line) return address;
  const program::Prologue prologue = program::prologue_of(program, *function);
  const bool inside = address == function->address || address < prologue.end;
  return inside && prologue.by == program::Prologue::By::debug_information
             ? program::prologue_end_of(program, *function)
             : address;
}

Result<StopPlaces> stop_places(const Module& module, std::string_view location) {
  const Program& program = *module.program;
  const std::size_t colon = location.rfind(':');
  const bool in_file = colon != std::string_view::npos && colon != 0 && location[colon - 1] != ':';
  // `operator+` is a name, `main+0x12` is none.
  const bool name = !in_file && !number_in(location) &&
                    (location.find('+') == std::string_view::npos || !program.functions_named(location).empty());
  if (name) {
    const program::Instances instances = program::instances_of(program, location);
    if (!instances.ambiguous.empty()) return Error{Fault::usage, std::string(location) + ": " + instances.ambiguous};
    const bool section =
        !instances.functions.empty() && instances.functions.front()->origin == Function::Origin::section;
    if (!section && !instances.empty()) return instance_places(module, instances);
  }
  StopPlaces result;
  if (in_file) {
    const auto line = number_in(location.substr(colon + 1));
    if (line) {
      const auto files = program::source_files_named(program, location.substr(0, colon));
      result.places = line_places(module, files, static_cast<std::uint32_t>(*line));
      for (StopPlace& place : result.places) {
        if (place.level->depth == 0)
          place.address = after_opening(program, place.address, static_cast<std::uint32_t>(*line));
      }
      add_declared(module, files, static_cast<std::uint32_t>(*line), result.places);
      if (!result.places.empty()) return result;
    }
  }
  if (const auto label = program.label_named(location)) {
    result.places = {{program::prologue_after(program, *label).end, std::nullopt}};
    return result;
  }
  const Result<std::vector<std::uint64_t>> found = program::addresses_of(program, location);
  if (!found) return found.error();
  for (const std::uint64_t address : *found) {
    const Function* function = program.function_at(address);
    const bool whole = in_file && function != nullptr && function->address == address;
    result.places.push_back({whole ? program::prologue_end_of(program, *function) : address, std::nullopt});
    if (whole) continue;
    const program::Boundaries around = program::boundaries_around(program, address);
    if (around.before != address) return inside_instruction(location, around, module.bias);
  }
  return result;
}

namespace {

/// Addresses in the file of functions of that name that choose one among several when the program starts
/// (STT_GNU_IFUNC).
std::vector<std::uint64_t> choosers(const Program& program, std::string_view name) {
  std::vector<std::uint64_t> result;
  for (const Function* function : program.functions_named(name)) {
    const bool chooses = std::ranges::any_of(program.elf().symbols(), [&](const binary::Symbol& symbol) {
      return symbol.type == binary::kIndirectFunction && symbol.address == function->address;
    });
    if (chooses) result.push_back(function->address);
  }
  return result;
}

/// What they choose on this machine, by running them in imagination; nothing where one of them is not known.
std::optional<std::vector<const Function*>> chosen_by(const std::vector<std::uint64_t>& choosers, const Module& module,
                                                      const state::StateView& view) {
  // At the entry of a static program the C library has not looked yet what the processor can.
  if (view.registers()[state::Reg::rip] == module.program->elf().entry() + module.bias) return std::nullopt;
  std::vector<const Function*> result;
  for (const std::uint64_t chooser : choosers) {
    const auto address = state::imagined_result(view, chooser + module.bias);
    const Function* function = address ? module.program->function_at(*address - module.bias) : nullptr;
    if (function == nullptr || function->address + module.bias != *address) return std::nullopt;
    if (std::ranges::find(result, function) == result.end()) result.push_back(function);
  }
  return result;
}

/// Where only the loader knows which it is, the user has to say.
Error chosen_at_start(const Program& program, std::string_view name) {
  constexpr std::size_t kMost = 12;
  std::string message =
      std::string(name) + ": is chosen among several when the program starts; name the one that is meant";
  std::size_t count = 0;
  const std::string start = "__" + std::string(name) + "_";
  for (const Function& function : program.functions()) {
    if (!function.symbol().starts_with(start) || count == kMost) continue;
    message += (count++ == 0 ? ": " : ", ") + std::string(function.symbol());
  }
  return {Fault::usage, message};
}

}  // namespace

Result<StopPlaces> stop_places(Modules& modules, const state::StateView& view, std::string_view location,
                               bool may_wait) {
  // A function that is chosen at the start, with or without an offset.
  const auto chosen = [&](const Module& module, std::string_view where) -> std::optional<Result<StopPlaces>> {
    const std::size_t plus = where.find('+');
    const std::string_view name = where.substr(0, plus);
    const auto found = choosers(*module.program, name);
    if (found.empty()) return std::nullopt;
    const auto functions = chosen_by(found, module, view);
    if (!functions) return chosen_at_start(*module.program, name);
    StopPlaces result;
    for (const Function* function : *functions) {
      std::uint64_t place = program::prologue_end_of(*module.program, *function);
      if (plus != std::string_view::npos) {
        const auto offset = number_in(where.substr(plus + 1));
        if (!offset) return Error{Fault::usage, std::string(where) + ": is written as FUNCTION+BYTES"};
        place = function->address + *offset;
        const program::Boundaries around = program::boundaries_around(*module.program, place);
        if (around.before != place) return inside_instruction(where, around, module.bias);
      }
      result.places.push_back({place + module.bias, std::nullopt});
    }
    return result;
  };
  const auto in = [&](const Module& module, std::string_view where) {
    if (auto places = chosen(module, where)) return *places;
    Result<StopPlaces> found = stop_places(module, where);
    if (found) {
      for (StopPlace& place : found->places) place.address += module.bias;
      for (std::uint64_t& start : found->starts) start += module.bias;
    }
    return found;
  };
  // LIBRARY:WHERE or LIBRARY+OFFSET.
  const std::size_t mark = module_mark(location);
  if (mark != std::string_view::npos) {
    const std::string_view name = location.substr(0, mark);
    // A program is often called like its main function.
    const bool function = location[mark] == '+' && !modules.main().program->functions_named(name).empty();
    for (const auto& module : modules.all()) {
      if (function || base_name(module->path) != name) continue;
      const Module* opened = modules.at(module->from);
      if (opened == nullptr) return Error{Fault::usage, module->path + ": cannot be read"};
      return in(*opened, location.substr(mark + 1));
    }
    if (name.find(".so") != std::string_view::npos && may_wait) {
      StopPlaces waiting;
      waiting.waiting = true;
      return waiting;
    }
  }
  // An address of the running program.
  if (const auto address = number_in(location)) {
    const Module* module = modules.at(*address);
    if (module != nullptr) {
      const program::Boundaries around = program::boundaries_around(*module->program, *address - module->bias);
      if (around.before != *address - module->bias) return inside_instruction(location, around, module->bias);
      return StopPlaces{.places = {{*address, std::nullopt}}, .found = {}, .starts = {}};
    }
  }
  if (const std::string other = called_as(modules, location); !other.empty())
    return stop_places(modules, view, other, may_wait);
  const auto only_stubs = [](const Module& module, std::string_view name) {
    const auto found = module.program->functions_named(name);
    return !found.empty() &&
           std::ranges::all_of(found, [](const Function* f) { return f->origin == Function::Origin::plt; });
  };
  // A name that some module has is meant before those that it may be short for.
  const std::string_view name = location.substr(0, location.find('+'));
  const auto has = [name](const Module& module) {
    return !module.program->functions_named(name).empty() || module.program->label_named(name);
  };
  const auto has_opened = [&](const auto& module) {
    const Module* opened = module.get() == &modules.main() ? nullptr : modules.at(module->from);
    return opened != nullptr && has(*opened);
  };
  Result<StopPlaces> first = in(modules.main(), location);
  const bool is_short = first ? first->is_short : modules.main().program->functions_meant(name).ambiguous();
  const bool exact = is_short && std::ranges::any_of(modules.all(), has_opened);
  if (first && !exact && !only_stubs(modules.main(), location)) return first;
  // The loader has functions of its own by the C library's names: it comes last.
  const auto order = [](const Module& module) {
    return !module.system ? 0 : base_name(module.path).starts_with("ld-") ? 2 : 1;
  };
  for (const int turn : {0, 1, 2}) {
    for (const auto& module : modules.all()) {
      if (module.get() == &modules.main() || order(*module) != turn) continue;
      const Module* opened = modules.at(module->from);
      if (opened == nullptr || only_stubs(*opened, location) || (exact && !has(*opened))) continue;
      Result<StopPlaces> found = in(*opened, location);
      if (found || !choosers(*opened->program, location.substr(0, location.find('+'))).empty()) return found;
    }
  }
  return first;
}

}  // namespace deeptrace::look
