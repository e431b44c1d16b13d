#include "look/call_arguments.h"

#include <algorithm>

#include "abi/passing.h"
#include "abi/prototypes.h"
#include "base/number.h"
#include "isa/text.h"
#include "look/call_before.h"
#include "look/passed_value.h"
#include "look/scope.h"
#include "state/delta.h"
#include "state/parts.h"
#include "state/touched.h"

namespace deeptrace::look {
namespace {

using abi::Prototype;
using debuginfo::TypeId;
using inspect::Datum;
using inspect::TypeRef;
using state::Reg;

/// A parameter, whatever says what it is.
struct Parameter {
  std::string name, type;
  TypeId id = debuginfo::kVoid;
  Prototype::Use use = Prototype::Use::none;
  std::array<std::uint8_t, 2> extent{};
};

struct Signature {
  debuginfo::Types* types = nullptr;
  std::vector<Parameter> parameters;
  TypeId result = debuginfo::kVoid;
  abi::Compiler compiler;
  bool known = false;
  const Prototype* prototype = nullptr;
};

class CallReader {
 public:
  CallReader(Modules& modules, const state::StateView& thread, const inspect::Frame& caller, const CallState& state)
      : modules_(modules), state_(state), scope_(modules, thread, caller), word_(arch::machine_of(state.mode()).word) {
    home_ = &Modules::debug(*modules.at(caller.inside())).types;
  }

  CallMade run() {
    CallMade made;
    made.address = state_.address();
    made.target = call_target(state_).value_or(0);
    if (made.target != 0) made.function = modules_.called_name(made.target);
    Signature signature = signature_of(made.target, made.function);
    made.typed = signature.known;
    made.function = abi::source_name(made.function);
    read(signature, made);
    if (add_by_format(signature, made)) {
      made.arguments.clear();
      read(signature, made);
    }
    if (!signature.known) leave_those_set(made);
    return made;
  }

 private:
  Signature signature_of(std::uint64_t target, const std::string& name) {
    Signature result;
    result.types = home_;
    const Module* module = target != 0 ? modules_.at(target) : nullptr;
    if (module == nullptr) return result;
    ModuleDebug& debug = Modules::debug(*module);
    const std::uint64_t in_file = target - module->bias;
    if (const auto* locals = debug.locals.at(in_file)) {
      const auto* described = debug.scopes.function_at(in_file);
      result.types = &debug.types;
      result.known = true;
      if (described != nullptr) {
        result.compiler = abi::compiler_of(described->unit->producer);
        if (const auto entry = module->program->debug().read({described->unit, described->entry}))
          result.result = debug.types.of(*entry);
      }
      for (const debuginfo::LocalVariable& variable : locals->scopes.front().variables) {
        if (!variable.parameter) continue;
        const auto entry = module->program->debug().read(variable.type);
        const TypeId id = entry ? debug.types.of(*entry) : debuginfo::kVoid;
        result.parameters.push_back({variable.name, debug.types.name(id), id, Prototype::Use::none, {}});
      }
      return result;
    }
    result.prototype = abi::prototype(name.substr(0, name.find('@')));
    if (result.prototype == nullptr) return result;
    result.known = true;
    result.result = type_of(result.prototype->result_number, result.prototype->result_size,
                            result.prototype->result_is_signed, Prototype::Use::none, "");
    for (const Prototype::Parameter& one : result.prototype->parameters())
      result.parameters.push_back({std::string(one.name), std::string(one.type),
                                   type_of(one.number, one.size, one.is_signed, one.use, one.type), one.use,
                                   one.extent});
    return result;
  }

  TypeId type_of(Prototype::Number number, std::uint64_t size, bool is_signed, Prototype::Use use,
                 std::string_view name) {
    using debuginfo::Encoding;
    const bool is_text =
        use == Prototype::Use::text || use == Prototype::Use::format || use == Prototype::Use::scan || name == "char *";
    switch (number) {
      case Prototype::Number::none: return debuginfo::kVoid;
      case Prototype::Number::pointer:
        return home_->pointer_to(is_text ? home_->base_type("char", 1, Encoding::signed_char) : debuginfo::kVoid,
                                 word_);
      case Prototype::Number::real:
        if (size > 8 && word_ == 4) size = 12;
        return home_->base_type(size == 4 ? "float" : size == 8 ? "double" : "long double", size, Encoding::floating);
      default: break;
    }
    if (size == 0) size = word_;
    return home_->base_type(std::string(name), size, is_signed ? Encoding::signed_integer : Encoding::unsigned_integer);
  }

  void read(const Signature& signature, CallMade& made) {
    std::vector<TypeId> types;
    for (const Parameter& one : signature.parameters) types.push_back(one.id);
    const std::size_t registers = arch::machine_of(state_.mode()).arguments.size();
    if (!signature.known) types.resize(registers, debuginfo::kVoid);
    const abi::CallLayout layout =
        abi::layout_of_call(state_.mode(), signature.compiler, *signature.types, types, signature.result);
    for (std::size_t i = 0; i < types.size(); ++i) {
      Argument argument;
      if (i < signature.parameters.size()) {
        const Parameter& parameter = signature.parameters[i];
        argument.name = parameter.name;
        argument.type = parameter.type;
        argument.use = parameter.use;
      }
      value(argument, layout.arguments[i], {signature.types, types[i]});
      made.arguments.push_back(std::move(argument));
    }
    for (std::size_t i = 0; i < signature.parameters.size(); ++i) made.arguments[i].extent = extent(signature, made, i);
  }

  /// How many bytes are touched through an argument, by the values of others.
  static std::optional<std::uint64_t> extent(const Signature& signature, const CallMade& made, std::size_t place) {
    std::optional<std::uint64_t> result;
    for (const std::uint8_t number : signature.parameters[place].extent) {
      if (number == 0 || number > made.arguments.size()) continue;
      const auto& value = made.arguments[number - 1].value;
      if (!value) return std::nullopt;
      result = result.value_or(1) * value->number;
    }
    return result;
  }

  void value(Argument& argument, const abi::Passed& passed, TypeRef type) {
    bool stacked = false;
    for (const abi::Piece& piece : passed.pieces) {
      argument.where += (argument.where.empty() ? "" : ", ") + place_words(piece);
      if (piece.part) argument.part = piece.part;
      if (!piece.part && !argument.stack) argument.stack = piece.stack;
      if (!piece.part) argument.place = stack() + piece.stack;
      argument.bytes = piece.size;
      stacked |= !piece.part;
    }
    const bool stack_known = (state_.known_registers() >> static_cast<unsigned>(Reg::rsp) & 1) != 0;
    Result<Datum> datum =
        stacked && !stack_known
            ? Error{Fault::usage, "its place on the stack is not known"}
            : passed_value(state_, passed, type.id != debuginfo::kVoid ? std::optional(type) : std::nullopt, stack());
    if (datum && !datum->loaded && !passed.by_address) {
      // As it was before the call: the called function may have written over it.
      datum->bytes.resize(argument.bytes);
      datum->loaded = state_.read_memory(datum->address, datum->bytes) == datum->bytes.size();
    }
    if (datum) datum = inspect::referred(std::move(*datum), scope_);
    if (datum) {
      argument.value = inspect::value_of(*datum, scope_, {.elements = 4, .depth = 2});
    } else {
      argument.unknown = datum.error().message;
    }
  }

  /// Where arguments on the stack begin: before a jump the return address lies below them.
  [[nodiscard]] std::uint64_t stack() const {
    const bool jumps = isa::flow_of(state_.instruction()) == isa::ControlFlow::jump;
    return state_.registers()[Reg::rsp] + (jumps ? word_ : 0);
  }

  [[nodiscard]] std::string place_words(const abi::Piece& piece) const {
    if (piece.part) return std::string(isa::name_of(piece.part));
    const std::string pointer = word_ == 8 ? "rsp" : "esp";
    return piece.stack == 0 ? "[" + pointer + "]" : "[" + pointer + "+" + hex_text(piece.stack) + "]";
  }

  /// The arguments that a format asks for; false where there are none.
  bool add_by_format(Signature& signature, const CallMade& made) {
    if (signature.prototype == nullptr || !signature.prototype->variadic) return false;
    for (std::size_t i = 0; i < signature.parameters.size(); ++i) {
      const Prototype::Use use = signature.parameters[i].use;
      const bool scan = use == Prototype::Use::scan;
      if ((!scan && use != Prototype::Use::format) || !made.arguments[i].value) continue;
      const std::string text = text_at(made.arguments[i].value->number);
      const auto arguments = abi::arguments_of_format(text, scan);
      for (const abi::FormatArgument& one : arguments)
        signature.parameters.push_back(
            {"", std::string(one.type), type_of(one.number, one.size, one.is_signed, one.use, one.type), one.use, {}});
      return !arguments.empty();
    }
    return false;
  }

  std::string text_at(std::uint64_t address) {
    constexpr std::size_t kMost = 4096;
    std::string text(kMost, '\0');
    text.resize(state_.read_memory(address, {reinterpret_cast<std::uint8_t*>(text.data()), text.size()}));
    return text.c_str();
  }

  /// Of a function that nothing is known of: the registers that its caller set on the way to the call.
  void leave_those_set(CallMade& made) {
    const auto& registers = arch::machine_of(state_.mode()).arguments;
    std::size_t count = 0;
    for (std::size_t i = 0; i < made.arguments.size() && i < registers.size(); ++i) {
      const CallState::Origin origin = state_.origin(registers[i]);
      if (origin.address == 0 || origin.by_call) break;
      count = i + 1;
    }
    made.arguments.resize(count);
  }

  Modules& modules_;
  const CallState& state_;
  Scope scope_;
  unsigned word_;
  debuginfo::Types* home_;
};

}  // namespace

std::optional<std::uint64_t> call_target(const CallState& state) {
  const isa::Operand operand = isa::operands_of(state.instruction())[0];
  const bool memory = operand.kind == isa::Operand::Kind::memory;
  isa::MemoryRecipe recipe;
  if (memory) recipe = operand.memory();
  if (operand.kind == isa::Operand::Kind::reg) recipe.base = operand.reg;
  for (const isa::RegisterPart& part : {recipe.base, recipe.index}) {
    if (part.file == isa::RegisterFile::general && !state.value(part)) return std::nullopt;
  }
  return flow_target(state.instruction(), state);
}

CallMade call_made(Modules& modules, const state::StateView& thread, const inspect::Frame& caller,
                   const CallState& state) {
  return CallReader(modules, thread, caller, state).run();
}

std::optional<CallMade> call_made(Modules& modules, const state::StateView& thread, const inspect::Frame& caller) {
  const auto state = CallState::before_call(modules, thread, caller);
  if (!state || isa::flow_of(state->instruction()) != isa::ControlFlow::call) return std::nullopt;
  return call_made(modules, thread, caller, *state);
}

}  // namespace deeptrace::look
