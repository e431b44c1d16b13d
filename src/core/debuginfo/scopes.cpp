#include "debuginfo/scopes.h"

#include <algorithm>

namespace deeptrace::debuginfo {
namespace {

bool holds(const std::vector<AddressRange>& ranges, std::uint64_t address) {
  return std::ranges::any_of(ranges, [address](const AddressRange& range) { return range.holds(address); });
}

}  // namespace

/// The functions of a unit that have code. Functions in functions are an extension of C; `whole` finds them too.
void Scopes::look_over(const Unit& unit, UnitFunctions& into, bool whole) {
  into.by_address.clear();
  into.whole = whole;
  for (Cursor cursor(info_, unit); cursor.next();) {
    const Entry& entry = cursor.entry();
    switch (entry.tag) {
      case Tag::subprogram:
        for (const AddressRange& range : info_.ranges(entry)) into.by_address.push_back({range, entry.offset});
        if (!whole) cursor.skip_children();
        break;
      case Tag::structure_type:
      case Tag::class_type:
      case Tag::union_type:
      case Tag::enumeration_type:
      case Tag::variable:
        if (!whole) cursor.skip_children();
        break;
      default: break;
    }
  }
  std::ranges::sort(into.by_address, {}, [](const Held& held) { return held.range.from; });
}

const Scopes::Held* Scopes::held_at(const Unit& unit, std::uint64_t address) {
  // Functions that were handed out stay; the lists of many large units would take too much.
  constexpr std::size_t kMostUnits = 8;
  if (units_.size() > kMostUnits && !units_.contains(&unit)) units_.clear();
  const auto [place, added] = units_.try_emplace(&unit);
  UnitFunctions& functions = place->second;
  if (added) look_over(unit, functions, false);
  for (;;) {
    const auto after =
        std::ranges::upper_bound(functions.by_address, address, {}, [](const Held& held) { return held.range.from; });
    if (after != functions.by_address.begin() && (after - 1)->range.holds(address)) return &*(after - 1);
    if (functions.whole) return nullptr;
    look_over(unit, functions, true);
  }
}

const DescribedFunction& Scopes::described(const Unit& unit, std::uint64_t offset) {
  const auto [place, added] = functions_.try_emplace({&unit, offset});
  DescribedFunction& function = place->second;
  if (!added) return function;
  function.unit = &unit;
  function.entry = offset;
  struct Open {
    unsigned depth;    ///< of the entry below the function's
    unsigned inlined;  ///< calls that lie around what comes
  };
  std::vector<Open> open = {{0, 0}};
  for (Cursor cursor(info_, unit, offset); cursor.next();) {
    const Entry& entry = cursor.entry();
    if (cursor.depth() == 0) {
      function.ranges = info_.ranges(entry);
      continue;
    }
    while (open.size() > 1 && open.back().depth >= cursor.depth()) open.pop_back();
    if (entry.tag == Tag::subprogram) cursor.skip_children();
    if (entry.tag != Tag::inlined_subroutine) continue;
    std::vector<AddressRange> ranges = info_.ranges(entry);
    if (ranges.empty()) continue;
    InlinedCall call;
    call.name = types_.qualified_name(entry);
    call.ranges = std::move(ranges);
    call.depth = open.back().inlined + 1;
    call.call_file = entry.number(At::call_file);
    call.call_line = static_cast<std::uint32_t>(entry.number(At::call_line).value_or(0));
    function.inlined.push_back(std::move(call));
    open.push_back({cursor.depth(), open.back().inlined + 1});
  }
  return function;
}

const DescribedFunction* Scopes::function_at(std::uint64_t address) {
  if (last_ != nullptr && holds(last_->ranges, address)) return last_;
  for (const Unit* unit : info_.units_at(address)) {
    if (const Held* held = held_at(*unit, address)) return last_ = &described(*unit, held->entry);
  }
  return nullptr;
}

std::vector<const InlinedCall*> Scopes::inlined_at(std::uint64_t address) {
  std::vector<const InlinedCall*> result;
  const DescribedFunction* function = function_at(address);
  if (function == nullptr) return result;
  for (const InlinedCall& call : function->inlined) {
    if (call.depth == result.size() + 1 && holds(call.ranges, address)) result.push_back(&call);
  }
  return result;
}

}  // namespace deeptrace::debuginfo
