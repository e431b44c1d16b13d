#include "session/inlined_sites.h"

#include <algorithm>

namespace deeptrace::session {

std::vector<InlinedSite> inlined_sites_of(const look::Module& module) {
  const program::Program& program = *module.program;
  look::ModuleDebug& debug = look::Modules::debug(module);
  std::vector<InlinedSite> result;
  for (const program::Function& function : program.functions()) {
    if (!program.is_own(function) || function.origin == program::Function::Origin::plt || function.is_cold_part())
      continue;
    const debuginfo::DescribedFunction* described = debug.scopes.function_at(function.address);
    if (described == nullptr || described->inlined.empty()) continue;
    for (const program::InlinedEntry& entry : debug.entries.inlined_around(function.address)) {
      const auto call = std::ranges::find(described->inlined, entry.call, &debuginfo::InlinedCall::entry);
      if (call == described->inlined.end()) continue;
      const bool own = entry.declared.line != 0 && program.is_own_source(program.source_path(entry.declared));
      if (!own) continue;
      const auto around = debug.scopes.inlined_at(entry.address);
      const bool counted = around.size() >= entry.depth && around[entry.depth - 1]->entry == entry.call;
      result.push_back({entry.address + module.bias, entry.depth, call->name, counted});
    }
  }
  std::ranges::sort(result, {}, [](const InlinedSite& one) { return std::pair(one.address, one.depth); });
  return result;
}

}  // namespace deeptrace::session
