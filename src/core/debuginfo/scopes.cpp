#include "debuginfo/scopes.h"

#include <algorithm>
#include <unordered_set>

namespace deeptrace::debuginfo {
namespace {

bool holds(const std::vector<AddressRange>& ranges, std::uint64_t address) {
  return std::ranges::any_of(ranges, [address](const AddressRange& range) { return range.holds(address); });
}

/// Where a function is declared that an entry is, or is an instance of.
Declaration declaration_of(const DebugInfo& info, const Entry& entry) {
  const auto with_file = info.with_attribute(entry, At::declaration_file);
  const auto with_line = info.with_attribute(entry, At::declaration_line);
  if (!with_file || !with_line) return {};
  return {with_file->unit, with_file->number(At::declaration_file).value_or(0),
          static_cast<std::uint32_t>(with_line->number(At::declaration_line).value_or(0))};
}

}  // namespace

EntryPlace Scopes::prototype_of(std::string_view name) {
  if (!prototypes_) find_prototypes();
  const auto found = prototypes_->find(name);
  return found == prototypes_->end() ? EntryPlace{} : found->second;
}

void Scopes::find_prototypes() {
  constexpr std::uint64_t kMost = std::uint64_t(64) << 20;  // bytes
  prototypes_.emplace();
  std::uint64_t size = 0;
  for (const auto& unit : info_.units()) size += unit->end - unit->offset;
  if (size > kMost) return;
  for (const auto& unit : info_.units()) {
    for (Cursor cursor(info_, *unit); cursor.next();) {
      const Entry& entry = cursor.entry();
      if (cursor.depth() == 0) continue;
      if (entry.tag == Tag::subprogram && entry.flag(At::declaration)) {
        // What compilers declare themselves has a linker's name and no parameters; C++ has no other mark.
        const std::string_view linked = info_.linkage_name_of(entry);
        const bool says = entry.has_children || entry.flag(At::prototyped) || linked.starts_with("_Z");
        const std::string_view name = linked.empty() ? info_.name_of(entry) : linked;
        if (says) prototypes_->try_emplace(std::string(name), EntryPlace{unit.get(), entry.offset});
      }
      cursor.skip_children();
    }
  }
}

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

namespace {

/// gcc writes its options down. Others say of all functions that they optimise that their calls are described
/// (DW_AT_call_all_calls); gcc says so of those without calls too.
bool is_optimised(const Entry& function) {
  if (!function.unit->is_of_gcc()) return function.has(At::call_all_calls) || function.has(At::gnu_all_call_sites);
  const std::string_view producer = function.unit->producer;
  const std::size_t option = producer.rfind(" -O");
  return option != std::string_view::npos && !producer.substr(option).starts_with(" -O0");
}

}  // namespace

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
      function.declared = declaration_of(info_, entry);
      function.optimised = is_optimised(entry);
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
    call.declared = declaration_of(info_, entry);
    call.entry = entry.offset;
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

std::vector<InlinedCopy> inlined_copies(const DebugInfo& info, const std::function<bool(const Entry&)>& is_wanted) {
  struct Hash {
    std::size_t operator()(const EntryPlace& place) const {
      return std::hash<const void*>()(place.unit) ^ place.offset * 0x9e3779b97f4a7c15;
    }
  };
  std::unordered_set<EntryPlace, Hash> wanted;
  std::vector<std::pair<EntryPlace, EntryPlace>> copies;  // and what they are copies of
  for (const auto& unit : info.units()) {
    for (Cursor cursor(info, *unit); cursor.next();) {
      const Entry& entry = cursor.entry();
      if (entry.tag == Tag::subprogram && (entry.has(At::name) || entry.has(At::specification)) && is_wanted(entry))
        wanted.insert({unit.get(), entry.offset});
      if (entry.tag != Tag::inlined_subroutine) continue;
      copies.emplace_back(EntryPlace{unit.get(), entry.offset}, info.reference(entry, At::abstract_origin));
    }
  }
  std::vector<InlinedCopy> result;
  for (const auto& [place, origin] : copies) {
    if (!wanted.contains(origin)) continue;
    const auto entry = info.read(place);
    std::vector<AddressRange> ranges = entry ? info.ranges(*entry) : std::vector<AddressRange>();
    std::erase_if(ranges, [](const AddressRange& range) { return range.size() == 0; });
    if (!ranges.empty()) result.push_back({place, origin, std::move(ranges)});
  }
  return result;
}

}  // namespace deeptrace::debuginfo
