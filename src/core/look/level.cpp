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
    const debuginfo::LineTable& lines = module->program->lines();
    const auto written = lines.line_of(unit, call.call_file, call.call_line);
    result.file = written ? lines.file(written->file) : std::string();
    result.line = written ? written->line : 0;
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
