#include "abi/described_function.h"

#include <algorithm>

#include "program/code_starts.h"

namespace deeptrace::abi {

namespace {

/// What callers in the same file know of a function.
std::optional<DescribedFunction> declared_function(const program::Program& program, debuginfo::Types& types,
                                                   debuginfo::Scopes& scopes, std::uint64_t address) {
  const program::Function* function = program.function_at(address);
  if (function == nullptr || function->symbol().empty()) return std::nullopt;
  const debuginfo::EntryPlace place = scopes.prototype_of(function->symbol());
  if (!place) return std::nullopt;
  DescribedFunction result;
  for (debuginfo::Cursor cursor(program.debug(), *place.unit, place.offset); cursor.next();) {
    const debuginfo::Entry& entry = cursor.entry();
    if (cursor.depth() == 0) {
      result.compiler = compiler_of(entry);
      result.result = types.of(entry);
      continue;
    }
    // `void f();` of C says nothing of them.
    if (entry.tag == debuginfo::Tag::unspecified_parameters && result.parameters.empty()) return std::nullopt;
    if (entry.tag == debuginfo::Tag::formal_parameter)
      result.parameters.push_back({std::string(program.debug().name_of(entry)), types.of(entry)});
    cursor.skip_children();
  }
  return result;
}

}  // namespace

std::optional<DescribedFunction> described_function(const program::Program& program, debuginfo::Types& types,
                                                    debuginfo::Scopes& scopes, debuginfo::Locals& locals,
                                                    std::uint64_t address) {
  const debuginfo::FunctionLocals* here = locals.at(address);
  if (here == nullptr || program::is_assembly(program, address))
    return program.debug().empty() ? std::nullopt : declared_function(program, types, scopes, address);
  DescribedFunction result;
  if (const auto* described = scopes.function_at(address)) {
    if (const auto entry = program.debug().read({described->unit, described->entry})) {
      result.compiler = compiler_of(*entry);
      result.result = types.of(*entry);
    }
  }
  for (const debuginfo::LocalVariable& variable : here->scopes.front().variables) {
    if (!variable.parameter) continue;
    const auto entry = program.debug().read(variable.type);
    result.parameters.push_back({variable.name, entry ? types.of(*entry) : debuginfo::kVoid});
  }
  const program::Function* function = program.function_at(address);
  const auto named = function != nullptr ? parameters_in(function->name.str()) : std::nullopt;
  const auto made = std::ranges::count(result.parameters, std::string("this"), &DescribedFunction::Parameter::name);
  result.complete =
      !named || result.parameters.empty() || result.parameters.size() == *named + static_cast<std::size_t>(made);
  return result;
}

CallLayout layout_of(const DescribedFunction& function, arch::Mode mode, debuginfo::Types& types) {
  std::vector<debuginfo::TypeId> ids;
  for (const DescribedFunction::Parameter& one : function.parameters) ids.push_back(one.type);
  return layout_of_call(mode, function.compiler, types, ids, function.result);
}

std::optional<std::size_t> parameters_in(std::string_view name) {
  const std::size_t end = name.rfind(')');
  if (end == std::string_view::npos) return std::nullopt;
  int depth = 0;
  std::size_t count = 0;
  for (std::size_t i = end + 1; i-- > 0;) {
    const char c = name[i];
    if (c == ')' || c == '>' || c == ']' || c == '}') ++depth;
    if (c == ',' && depth == 1) ++count;
    if (c != '(' && c != '<' && c != '[' && c != '{') continue;
    if (--depth != 0) continue;
    const std::string_view inner = name.substr(i + 1, end - i - 1);
    return inner.empty() || inner == "void" ? 0 : count + 1;
  }
  return std::nullopt;
}

}  // namespace deeptrace::abi
