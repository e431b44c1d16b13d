#include "debuginfo/scopes.h"

#include <algorithm>

namespace deeptrace::debuginfo {

const Scopes::UnitFunctions& Scopes::functions_of(const Unit& unit) {
  const auto [place, added] = units_.try_emplace(&unit);
  UnitFunctions& result = place->second;
  if (!added) return result;
  struct Open {
    unsigned depth;  ///< of the entry in the unit
    std::size_t function;
    unsigned inlined;  ///< calls that lie around what comes
  };
  std::vector<Open> open;
  for (Cursor cursor(info_, unit); cursor.next();) {
    const Entry& entry = cursor.entry();
    while (!open.empty() && open.back().depth >= cursor.depth()) open.pop_back();
    if (entry.tag == Tag::subprogram) {
      std::vector<AddressRange> ranges = info_.ranges(entry);
      if (ranges.empty()) {
        if (entry.flag(At::declaration)) cursor.skip_children();
        continue;
      }
      open.push_back({cursor.depth(), result.functions.size(), 0});
      result.functions.push_back({types_.qualified_name(entry), &unit, entry.offset, std::move(ranges), {}});
    } else if (entry.tag == Tag::inlined_subroutine && !open.empty()) {
      std::vector<AddressRange> ranges = info_.ranges(entry);
      if (ranges.empty()) continue;
      const Open outer = open.back();
      InlinedCall call;
      call.name = types_.qualified_name(entry);
      call.ranges = std::move(ranges);
      call.depth = outer.inlined + 1;
      call.call_file = entry.number(At::call_file);
      call.call_line = static_cast<std::uint32_t>(entry.number(At::call_line).value_or(0));
      result.functions[outer.function].inlined.push_back(std::move(call));
      open.push_back({cursor.depth(), outer.function, outer.inlined + 1});
    }
  }
  for (std::size_t i = 0; i < result.functions.size(); ++i) {
    for (const AddressRange& range : result.functions[i].ranges) result.by_address.push_back({range, i});
  }
  std::ranges::sort(result.by_address, {}, [](const Held& held) { return held.range.from; });
  return result;
}

const DescribedFunction* Scopes::function_at(std::uint64_t address) {
  for (const Unit* unit : info_.units_at(address)) {
    const UnitFunctions& functions = functions_of(*unit);
    const auto after = std::ranges::upper_bound(functions.by_address, address, {},
                                                [](const Held& held) { return held.range.from; });
    if (after == functions.by_address.begin()) continue;
    if ((after - 1)->range.holds(address)) return &functions.functions[(after - 1)->function];
  }
  return nullptr;
}

std::vector<const InlinedCall*> Scopes::inlined_at(std::uint64_t address) {
  std::vector<const InlinedCall*> result;
  const DescribedFunction* function = function_at(address);
  if (function == nullptr) return result;
  for (const InlinedCall& call : function->inlined) {
    if (call.depth == result.size() + 1 &&
        std::ranges::any_of(call.ranges, [&](const AddressRange& r) { return r.holds(address); }))
      result.push_back(&call);
  }
  return result;
}

}  // namespace deeptrace::debuginfo
