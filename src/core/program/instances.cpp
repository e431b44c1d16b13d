#include "program/instances.h"

#include <algorithm>
#include <array>

namespace deeptrace::program {
namespace {

/// What lies after the last `::` that is outside of template arguments, without a signature: compilers give functions
/// that name.
std::string_view plain_name(std::string_view name) {
  std::size_t depth = 0, start = 0, end = name.size();
  for (std::size_t i = 0; i < name.size(); ++i) {
    if (name[i] == '<') ++depth;
    if (name[i] == '>' && depth > 0) --depth;
    if (depth == 0 && name[i] == '(') {
      end = i;
      break;
    }
    if (depth == 0 && name.substr(i).starts_with("::")) start = i + 2;
  }
  return name.substr(start, end - start);
}

std::string counted(std::size_t count, std::string_view one, std::string_view many) {
  return std::to_string(count) + " " + std::string(count == 1 ? one : many);
}

}  // namespace

std::string_view origin_of_clone(std::string_view symbol) {
  constexpr std::array<std::string_view, 5> kKinds = {".constprop", ".isra", ".part", ".lto_priv", ".llvm"};
  bool clone = false;
  for (;;) {
    const std::size_t dot = symbol.rfind('.');
    if (dot == std::string_view::npos || dot == 0) break;
    const std::string_view last = symbol.substr(dot);
    const bool number =
        last.size() > 1 && std::ranges::all_of(last.substr(1), [](char c) { return c >= '0' && c <= '9'; });
    const std::size_t kind_at = number ? symbol.rfind('.', dot - 1) : dot;
    if (kind_at == std::string_view::npos || kind_at == 0) break;
    const std::string_view kind = symbol.substr(kind_at, number ? dot - kind_at : std::string_view::npos);
    if (kind == ".cold") return {};
    if (std::ranges::find(kKinds, kind) == kKinds.end()) break;
    clone = true;
    symbol = symbol.substr(0, kind_at);
  }
  return clone ? symbol : std::string_view{};
}

std::string Instances::words() const {
  if (clones.empty() && inlined.empty() && searched) return {};
  std::string result;
  const auto add = [&](std::size_t count, std::string_view one, std::string_view many) {
    if (count == 0) return;
    result += (result.empty() ? "" : ", ") + counted(count, one, many);
  };
  add(functions.size(), "function", "functions");
  add(clones.size(), "clone", "clones");
  add(inlined.size(), "inlined copy", "inlined copies");
  if (!searched) result += "; inlined copies were not looked for, there is too much debug information";
  return result;
}

Instances instances_of(const Program& program, std::string_view name, std::size_t most) {
  Instances result;
  result.name = name;
  if (name.empty()) return result;
  for (const Function* function : program.functions_named(name))
    (origin_of_clone(function->symbol()).empty() ? result.functions : result.clones).push_back(function);
  const std::string_view plain = plain_name(name);
  program.each_candidate(name, [&](const Function& function) {
    const std::string_view origin = origin_of_clone(function.symbol());
    if (origin.empty() || origin.find(plain) == std::string_view::npos) return;
    std::string shown;
    const auto show = [&]() -> std::string_view { return shown = demangled(std::string(origin)); };
    const bool known = std::ranges::find(result.clones, &function) != result.clones.end();
    if (!known && goes_by(origin, show, name)) result.clones.push_back(&function);
  });
  const debuginfo::DebugInfo& info = program.debug();
  result.searched = program.debug_elf().debug_bytes(".debug_info").view.size() <= most;
  if (info.empty() || !result.searched) return result;
  debuginfo::Types types(info);
  result.inlined = debuginfo::inlined_copies(info, [&](const debuginfo::Entry& entry) {
    if (info.name_of(entry) != plain) return false;
    const std::string_view symbol = info.linkage_name_of(entry);
    std::string shown;
    const auto show = [&]() -> std::string_view {
      return shown = symbol.empty() ? types.qualified_name(entry) : demangled(std::string(symbol));
    };
    return goes_by(symbol, show, name);
  });
  std::ranges::sort(result.inlined, {}, &debuginfo::InlinedCopy::address);
  return result;
}

}  // namespace deeptrace::program
