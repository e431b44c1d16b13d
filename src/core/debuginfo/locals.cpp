#include "debuginfo/locals.h"

#include <algorithm>
#include <set>

namespace deeptrace::debuginfo {
namespace {

LocalVariable variable_of(const DebugInfo& info, const Entry& entry) {
  LocalVariable variable;
  variable.name = info.name_of(entry);
  variable.entry = {entry.unit, entry.offset};
  variable.origin = info.reference(entry, At::abstract_origin);
  variable.type = variable.entry;
  if (const auto typed = info.with_attribute(entry, At::type)) variable.type = {typed->unit, typed->offset};
  variable.parameter = entry.tag == Tag::formal_parameter;
  if (const auto declared = info.with_attribute(entry, At::declaration_line))
    variable.declared = {declared->unit, declared->number(At::declaration_file).value_or(0),
                         static_cast<std::uint32_t>(declared->number(At::declaration_line).value_or(0))};
  return variable;
}

using Origins = std::set<std::pair<const Unit*, std::uint64_t>>;

/// Copies of functions leave out the variables that the compiler removed; what they are copies of has them, in order.
/// `known`: those that the copy has, here or in a block of its own.
void add_removed(const DebugInfo& info, EntryPlace origin, const Origins& known,
                 std::vector<LocalVariable>& variables) {
  std::vector<LocalVariable> all;
  const auto same = [](const LocalVariable& one, const Entry& entry) {
    return one.origin.unit == entry.unit && one.origin.offset == entry.offset;
  };
  Cursor cursor(info, *origin.unit, origin.offset);
  if (!cursor.next()) return;
  while (cursor.next()) {
    const Entry& entry = cursor.entry();
    cursor.skip_children();
    if (entry.tag != Tag::formal_parameter && entry.tag != Tag::variable) continue;
    const auto found = std::ranges::find_if(variables, [&](const auto& one) { return same(one, entry); });
    if (found != variables.end()) {
      all.push_back(std::move(*found));
      variables.erase(found);
    } else if (known.contains({entry.unit, entry.offset})) {
      continue;
    } else if (LocalVariable removed = variable_of(info, entry); !removed.name.empty()) {
      all.push_back(std::move(removed));
    }
  }
  std::ranges::move(variables, std::back_inserter(all));
  variables = std::move(all);
}

/// Blocks in which no variable has a place are left out, too (clang). Their names still hide those around.
void add_left_out(const DebugInfo& info, EntryPlace origin, const Origins& known, const Origins& scopes,
                  std::vector<LocalVariable>& left_out) {
  Cursor cursor(info, *origin.unit, origin.offset);
  if (!cursor.next()) return;
  while (cursor.next()) {
    const Entry& entry = cursor.entry();
    const bool block = entry.tag == Tag::lexical_block;
    if (!block || scopes.contains({entry.unit, entry.offset})) {
      if (cursor.depth() > 1 && entry.tag == Tag::variable && !known.contains({entry.unit, entry.offset})) {
        left_out.push_back(variable_of(info, entry));
        left_out.back().in_left_out_block = true;
      }
      cursor.skip_children();
    }
  }
}

}  // namespace

FunctionLocals Locals::read(const DescribedFunction& function) {
  FunctionLocals result;
  struct Open {
    unsigned depth;  ///< of the entry
    std::size_t scope;
  };
  std::vector<Open> open;
  std::vector<EntryPlace> origins;  ///< of the scopes
  unsigned call_depth = 0;          ///< of the call site that parameters belong to
  for (Cursor cursor(info_, *function.unit, function.entry); cursor.next();) {
    const Entry& entry = cursor.entry();
    while (!open.empty() && open.back().depth >= cursor.depth()) open.pop_back();
    const bool block = entry.tag == Tag::lexical_block || entry.tag == Tag::inlined_subroutine;
    if (cursor.depth() == 0 || block) {
      LocalScope scope;
      scope.ranges = info_.ranges(entry);
      scope.depth = open.empty() ? 0 : result.scopes[open.back().scope].depth + 1;
      if (entry.tag == Tag::inlined_subroutine) scope.inlined = info_.name_of(entry);
      origins.push_back(info_.reference(entry, At::abstract_origin));
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
        LocalVariable variable = variable_of(info_, entry);
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
        // The extension that came before DWARF 5 has the parameter's entry as its origin.
        EntryPlace parameter = info_.reference(entry, At::call_parameter);
        if (!parameter) parameter = info_.reference(entry, At::abstract_origin);
        if ((!where.empty() || parameter) && !value.empty())
          result.calls.back().parameters.push_back(
              {where.empty() ? Bytes{} : where[0].expression, parameter.offset, value[0].expression});
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
  Origins known;
  for (const LocalScope& scope : result.scopes) {
    for (const LocalVariable& one : scope.variables) known.emplace(one.origin.unit, one.origin.offset);
  }
  Origins scopes;
  for (const EntryPlace& one : origins) scopes.emplace(one.unit, one.offset);
  for (std::size_t i = 0; i < origins.size(); ++i) {
    if (!origins[i]) continue;
    add_removed(info_, origins[i], known, result.scopes[i].variables);
    add_left_out(info_, origins[i], known, scopes, result.scopes[i].left_out);
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

const LocalScope* scope_of(const LocalVariable& variable, std::span<const LocalScope* const> scopes) {
  const auto has_it = [&](const LocalScope* scope) {
    return !scope->variables.empty() && &variable >= &scope->variables.front() && &variable <= &scope->variables.back();
  };
  const auto found = std::ranges::find_if(scopes, has_it);
  return found != scopes.end() ? *found : nullptr;
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
