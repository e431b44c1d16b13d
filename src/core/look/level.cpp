#include "look/level.h"

#include <algorithm>

#include "look/modules.h"

namespace deeptrace::look {

Where where_at(Modules& modules, std::uint64_t address, const std::optional<Level>& level) {
  Where result;
  result.place = modules.place_name(address);
  const auto [file, line] = modules.line_of(address);
  result.file = file;
  result.line = line;
  const Module* module = modules.at(address);
  if (module == nullptr) return result;
  ModuleDebug& debug = Modules::debug(*module);
  const auto calls = debug.scopes.inlined_at(address - module->bias);
  const std::size_t depth = level ? std::min<std::size_t>(level->depth, calls.size()) : calls.size();
  if (depth != 0) result.inlined = calls[depth - 1]->name;
  if (level && !level->inlined.empty()) result.inlined = level->inlined;
  if (level && level->line != 0) {
    result.file = level->file;
    result.line = level->line;
  } else if (depth < calls.size()) {
    // A caller stands where its call is written.
    const debuginfo::InlinedCall& call = *calls[depth];
    const debuginfo::Unit& unit = *debug.scopes.function_at(address - module->bias)->unit;
    const program::Program& program = *module->program;
    const auto number =
        unit.line_table && call.call_file ? program.lines().file_of(*unit.line_table, *call.call_file) : std::nullopt;
    result.file = number ? program.lines().files()[*number] : std::string();
    result.line = number ? call.call_line : 0;
  }
  return result;
}

Where own_where_at(Modules& modules, std::uint64_t address) {
  for (auto depth = static_cast<unsigned>(modules.inlined_depth(address));; --depth) {
    Where where = where_at(modules, address, Level{.depth = depth, .file = {}});
    if (where.file.empty() || !program::in_system_sources(where.file)) return where;
    if (depth == 0) return where_at(modules, address, std::nullopt);
  }
}

}  // namespace deeptrace::look
