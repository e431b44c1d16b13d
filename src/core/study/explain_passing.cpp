#include "study/explain_passing.h"

#include <algorithm>

#include "abi/convention_layout.h"
#include "abi/described_function.h"
#include "base/number.h"
#include "isa/text.h"
#include "study/declaration.h"
#include "study/one_function.h"

namespace deeptrace::study {
namespace {

using debuginfo::kVoid;
using debuginfo::TypeId;
using debuginfo::Types;

class Explainer {
 public:
  Explainer(const abi::Convention& convention, Types& types) : convention_(convention), types_(types) {
    pointer_ = convention.mode == arch::Mode::bits64 ? "rsp" : "esp";
    word_ = arch::machine_of(convention.mode).word;
  }

  ExplainedPassing run(const DeclaredFunction& function, const abi::CallLayout& layout) {
    ExplainedPassing result;
    result.function = declaration_of(function);
    result.convention = &convention_;
    result.variadic = function.variadic;
    result.stack = layout.stack;
    for (std::size_t i = 0; i < function.parameters.size(); ++i) {
      const auto& parameter = function.parameters[i];
      result.arguments.push_back(place(parameter.name, parameter.type, layout.arguments[i]));
      for (const abi::Piece& piece : layout.arguments[i].pieces)
        result.vectors += piece.part.file == arch::RegisterFile::vector ? 1 : 0;
    }
    if (function.result != kVoid) result.result = place("", function.result, layout.result);
    if (layout.hidden_result) result.hidden = hidden_place();
    const bool takes_hidden =
        layout.hidden_result && convention_.mode == arch::Mode::bits32 && !convention_.callee_cleans;
    result.released = convention_.callee_cleans && !function.variadic ? layout.stack : takes_hidden ? word_ : 0;
    if (convention_.stack) draw(result, layout);
    return result;
  }

 private:
  std::string declaration_of(const DeclaredFunction& function) const {
    std::string inner;
    for (const auto& one : function.parameters)
      inner += (inner.empty() ? "" : ", ") + types_.declaration(one.type, one.name);
    if (function.variadic) inner += inner.empty() ? "..." : ", ...";
    return types_.declaration(function.result, function.name + "(" + (inner.empty() ? "void" : inner) + ")");
  }

  ExplainedPlace place(const std::string& name, TypeId type, const abi::Passed& passed) const {
    ExplainedPlace result{name, types_.name(type), types_.size(type), {}, passed.by_address};
    for (const abi::Piece& piece : passed.pieces) result.parts.push_back({where(piece), piece.offset, piece.size});
    return result;
  }

  std::string where(const abi::Piece& piece) const {
    if (piece.part) return std::string(isa::name_of(piece.part));
    return piece.stack == 0 ? "[" + pointer_ + "]" : "[" + pointer_ + "+" + hex_text(piece.stack) + "]";
  }

  [[nodiscard]] std::string hidden_place() const {
    const auto integers = abi::names_in(convention_.integers);
    return integers.empty() ? "[" + pointer_ + "]" : std::string(integers.front());
  }

  /// Above the return address lie the arguments.
  void draw(ExplainedPassing& result, const abi::CallLayout& layout) const {
    for (std::size_t i = 0; i < layout.arguments.size(); ++i) {
      const ExplainedPlace& argument = result.arguments[i];
      for (const abi::Piece& piece : layout.arguments[i].pieces) {
        if (piece.part) continue;
        const std::string name = argument.name.empty() ? "argument " + std::to_string(i + 1) : argument.name;
        result.slots.push_back({word_ + piece.stack, (argument.by_address ? "address of " : "") + name + ", " +
                                                         std::to_string(piece.size) + " bytes"});
      }
    }
    if (layout.hidden_result && abi::names_in(convention_.integers).empty())
      result.slots.push_back({word_, "address of memory for the result"});
    if (convention_.home != 0)
      result.slots.push_back({word_, std::to_string(convention_.home) + " bytes that the function may use"});
    result.slots.push_back({0, "return address"});
    std::ranges::stable_sort(result.slots, std::greater<>(), &ExplainedPassing::Slot::offset);
  }

  const abi::Convention& convention_;
  Types& types_;
  std::string pointer_;
  std::uint64_t word_ = 8;
};

std::vector<TypeId> types_of(const DeclaredFunction& function) {
  std::vector<TypeId> result;
  for (const auto& one : function.parameters) result.push_back(one.type);
  return result;
}

}  // namespace

Result<ExplainedPassing> explain_passing(std::string_view declaration, const abi::Convention& convention) {
  const debuginfo::DebugInfo none;
  Types types(none);
  const Result<DeclaredFunction> function = parse_declaration(declaration, convention.mode, types);
  if (!function) return function.error();
  const Result<abi::CallLayout> layout =
      abi::layout_by(convention, {}, types, types_of(*function), function->result, function->variadic);
  if (!layout) return layout.error();
  return Explainer(convention, types).run(*function, *layout);
}

Result<ExplainedPassing> explain_passing(const std::string& file, std::string_view name) {
  const Result<program::Program> program = program::Program::open(file, {});
  if (!program) return program.error();
  const auto found = one_function(*program, name);
  if (!found) return found.error();
  Types types(program->debug());
  debuginfo::Scopes scopes(program->debug());
  debuginfo::Locals locals(program->debug(), scopes);
  const auto described = abi::described_function(*program, types, scopes, locals, (*found)->address);
  if (!described || !described->complete)
    return Error{Fault::usage, file + ": " + std::string(name) + ": its debug information does not say what it takes"};
  DeclaredFunction declared;
  declared.name = name;
  declared.result = described->result;
  for (const auto& one : described->parameters) declared.parameters.push_back({one.name, one.type});
  const abi::CallLayout layout = abi::layout_of(*described, program->mode(), types);
  if (!layout.known)
    return Error{Fault::usage, file + ": " + std::string(name) + ": " + std::string(abi::kConventionUnknown)};
  const bool is_wide = program->mode() == arch::Mode::bits64;
  const abi::Convention* convention = described->compiler.declared != 0
                                          ? abi::convention_of_code(described->compiler.declared, program->mode())
                                          : abi::convention_named(is_wide ? "system-v-64" : "system-v-32");
  return Explainer(*convention, types).run(declared, layout);
}

}  // namespace deeptrace::study
