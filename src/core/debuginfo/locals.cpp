#include "debuginfo/locals.h"

#include <algorithm>

namespace deeptrace::debuginfo {

FunctionLocals Locals::read(const DescribedFunction& function) {
  FunctionLocals result;
  struct Open {
    unsigned depth;  ///< of the entry
    std::size_t scope;
  };
  std::vector<Open> open;
  unsigned call_depth = 0;  ///< of the call site that parameters belong to
  for (Cursor cursor(info_, *function.unit, function.entry); cursor.next();) {
    const Entry& entry = cursor.entry();
    while (!open.empty() && open.back().depth >= cursor.depth()) open.pop_back();
    const bool block = entry.tag == Tag::lexical_block || entry.tag == Tag::inlined_subroutine;
    if (cursor.depth() == 0 || block) {
      LocalScope scope;
      scope.ranges = info_.ranges(entry);
      // A block without a range of its own lies wherever the one around it does.
      if (scope.ranges.empty() && !open.empty()) scope.ranges = result.scopes[open.back().scope].ranges;
      scope.depth = open.empty() ? 0 : result.scopes[open.back().scope].depth + 1;
      if (entry.tag == Tag::inlined_subroutine) scope.inlined = info_.name_of(entry);
      if (cursor.depth() == 0) {
        const auto bases = info_.locations(entry, At::frame_base);
        if (!bases.empty()) result.frame_base = bases[0].expression;
      }
      open.push_back({cursor.depth(), result.scopes.size()});
      result.scopes.push_back(std::move(scope));
      continue;
    }
    switch (entry.tag) {
      case Tag::formal_parameter:
      case Tag::variable: {
        if (open.empty()) break;
        LocalVariable variable;
        variable.name = info_.name_of(entry);
        variable.entry = {entry.unit, entry.offset};
        variable.type = variable.entry;
        if (const auto typed = info_.with_attribute(entry, At::type)) variable.type = {typed->unit, typed->offset};
        variable.parameter = entry.tag == Tag::formal_parameter;
        if (const auto declared = info_.with_attribute(entry, At::declaration_line))
          variable.declared = {declared->unit, declared->number(At::declaration_file).value_or(0),
                               static_cast<std::uint32_t>(declared->number(At::declaration_line).value_or(0))};
        if (!variable.name.empty()) result.scopes[open.back().scope].variables.push_back(std::move(variable));
        cursor.skip_children();
        break;
      }
      case Tag::call_site:
      case Tag::gnu_call_site: {
        // DWARF 5 has the return address in its own attribute, the extension before it in low_pc.
        const FormValue* at = entry.find(At::call_return_pc);
        if (at == nullptr) at = entry.find(At::low_pc);
        const auto address = at != nullptr ? info_.address(*entry.unit, *at) : std::nullopt;
        result.calls.push_back({address.value_or(0), {}});
        call_depth = cursor.depth();
        break;
      }
      case Tag::call_site_parameter:
      case Tag::gnu_call_site_parameter: {
        if (result.calls.empty() || cursor.depth() != call_depth + 1) break;
        const auto where = info_.locations(entry, At::location);
        auto value = info_.locations(entry, At::call_value);
        if (value.empty()) value = info_.locations(entry, At::gnu_call_site_value);
        if (!where.empty() && !value.empty())
          result.calls.back().parameters.push_back({where[0].expression, value[0].expression});
        break;
      }
      case Tag::subprogram:
      case Tag::structure_type:
      case Tag::class_type:
      case Tag::union_type:
      case Tag::enumeration_type: cursor.skip_children(); break;
      default: break;
    }
  }
  return result;
}

const FunctionLocals* Locals::at(std::uint64_t address) {
  const DescribedFunction* function = scopes_.function_at(address);
  if (function == nullptr) return nullptr;
  const auto [place, added] = functions_.try_emplace({function->unit, function->entry});
  if (added) place->second = read(*function);
  return &place->second;
}

const std::vector<const LocalScope*>& Locals::around(std::uint64_t address) {
  if (address == last_) return last_around_;
  last_ = address;
  std::vector<const LocalScope*>& result = last_around_;
  result.clear();
  const FunctionLocals* function = at(address);
  if (function == nullptr) return result;
  for (const LocalScope& scope : function->scopes) {
    const bool holds = std::ranges::any_of(scope.ranges, [&](const AddressRange& r) { return r.holds(address); });
    if (holds && scope.depth == result.size()) result.push_back(&scope);
  }
  std::ranges::reverse(result);
  return result;
}

}  // namespace deeptrace::debuginfo
