#include "look/signature.h"

#include "abi/described_function.h"
#include "base/number.h"
#include "isa/text.h"
#include "look/passed_value.h"
#include "state/delta.h"
#include "state/parts.h"

namespace deeptrace::look {
namespace {

using abi::Prototype;
using debuginfo::TypeId;
using inspect::Datum;
using inspect::TypeRef;

unsigned word_of(arch::Mode mode) { return arch::machine_of(mode).word; }

TypeId type_of(debuginfo::Types& home, unsigned word, Prototype::Number number, std::uint64_t size, bool is_signed,
               Prototype::Use use, std::string_view name) {
  using debuginfo::Encoding;
  const bool is_text =
      use == Prototype::Use::text || use == Prototype::Use::format || use == Prototype::Use::scan || name == "char *";
  switch (number) {
    case Prototype::Number::none: return debuginfo::kVoid;
    case Prototype::Number::pointer:
      return home.pointer_to(is_text ? home.base_type("char", 1, Encoding::signed_char) : debuginfo::kVoid, word);
    case Prototype::Number::real:
      if (size > 8 && word == 4) size = 12;
      return home.base_type(size == 4 ? "float" : size == 8 ? "double" : "long double", size, Encoding::floating);
    default: break;
  }
  if (size == 0) size = word;
  return home.base_type(std::string(name), size, is_signed ? Encoding::signed_integer : Encoding::unsigned_integer);
}

/// True where the debug information has the function.
bool describe(const Module& module, std::uint64_t in_file, Signature& result) {
  ModuleDebug& debug = Modules::debug(module);
  const auto described = abi::described_function(*module.program, debug.types, debug.scopes, debug.locals, in_file);
  if (!described) return false;
  result.types = &debug.types;
  result.known = true;
  result.compiler = described->compiler;
  result.result = described->result;
  result.complete = described->complete;
  for (const auto& one : described->parameters)
    result.parameters.push_back({one.name, debug.types.name(one.type), one.type, Prototype::Use::none, {}});
  return true;
}

void describe(const Prototype& prototype, unsigned word, Signature& result) {
  result.prototype = &prototype;
  result.known = true;
  result.result = type_of(*result.types, word, prototype.result_number, prototype.result_size,
                          prototype.result_is_signed, Prototype::Use::none, prototype.result);
  for (const Prototype::Parameter& one : prototype.parameters())
    result.parameters.push_back({std::string(one.name), std::string(one.type),
                                 type_of(*result.types, word, one.number, one.size, one.is_signed, one.use, one.type),
                                 one.use, one.extent});
}

/// Reads the arguments of one call.
class Reader {
 public:
  Reader(const Signature& signature, const CallSeen& seen) : signature_(signature), seen_(seen) {}

  std::vector<Argument> run() {
    read();
    Signature longer;
    if (!extended_by_format(longer)) return std::move(arguments_);
    Reader whole(longer, seen_);
    whole.read();
    return std::move(whole.arguments_);
  }

 private:
  void read() {
    for (std::size_t i = 0; i < signature_.layout.arguments.size(); ++i) {
      Argument argument;
      TypeId type = debuginfo::kVoid;
      if (i < signature_.parameters.size()) {
        const Parameter& parameter = signature_.parameters[i];
        argument.name = parameter.name;
        argument.type = parameter.type;
        argument.use = parameter.use;
        type = parameter.id;
      }
      if (!signature_.layout.known) {
        argument.unknown = abi::kConventionUnknown;
      } else if (signature_.complete) {
        value(argument, signature_.layout.arguments[i], {signature_.types, type});
      } else {
        argument.unknown = kPartlyDescribed;
      }
      arguments_.push_back(std::move(argument));
    }
    for (std::size_t i = 0; i < signature_.parameters.size() && i < arguments_.size(); ++i)
      arguments_[i].extent = extent(i);
  }

  /// How many bytes are touched through an argument, by the values of others.
  [[nodiscard]] std::optional<std::uint64_t> extent(std::size_t place) const {
    std::optional<std::uint64_t> result;
    for (const std::uint8_t number : signature_.parameters[place].extent) {
      if (number == 0 || number > arguments_.size()) continue;
      const auto& value = arguments_[number - 1].value;
      if (!value) return std::nullopt;
      result = result.value_or(1) * value->number;
    }
    return result;
  }

  void value(Argument& argument, const abi::Passed& passed, TypeRef type) const {
    bool stacked = false;
    for (const abi::Piece& piece : passed.pieces) {
      argument.where += (argument.where.empty() ? "" : ", ") + place_words(piece);
      if (piece.part) argument.part = piece.part;
      if (!piece.part && !argument.stack) argument.stack = piece.stack;
      if (!piece.part) argument.place = seen_.stack.value_or(0) + piece.stack;
      argument.bytes = piece.size;
      stacked |= !piece.part;
    }
    Result<Datum> datum =
        stacked && !seen_.stack
            ? Error{Fault::usage, "its place on the stack is not known"}
            : passed_value(seen_.view, passed, type.id != debuginfo::kVoid ? std::optional(type) : std::nullopt,
                           seen_.stack.value_or(0));
    if (datum && !datum->loaded && !passed.by_address) {
      // As it was before the call: the called function may have written over it.
      datum->bytes.resize(argument.bytes);
      datum->loaded = seen_.view.read_memory(datum->address, datum->bytes) == datum->bytes.size();
    }
    if (datum) datum = inspect::referred(std::move(*datum), seen_.names);
    if (datum) {
      argument.value = inspect::value_of(*datum, seen_.names, seen_.limits);
    } else {
      argument.unknown = datum.error().message;
    }
  }

  [[nodiscard]] std::string place_words(const abi::Piece& piece) const {
    if (piece.part) return std::string(isa::name_of(piece.part));
    const std::string pointer = word_of(signature_.mode) == 8 ? "rsp" : "esp";
    return piece.stack == 0 ? "[" + pointer + "]" : "[" + pointer + "+" + hex_text(piece.stack) + "]";
  }

  /// With the arguments that a format asks for; false where there are none.
  bool extended_by_format(Signature& longer) const {
    if (signature_.prototype == nullptr || !signature_.prototype->variadic) return false;
    for (std::size_t i = 0; i < signature_.parameters.size(); ++i) {
      const Prototype::Use use = signature_.parameters[i].use;
      const bool scan = use == Prototype::Use::scan;
      if ((!scan && use != Prototype::Use::format) || !arguments_[i].value) continue;
      const std::string text = text_at(arguments_[i].value->number);
      const auto asked = abi::arguments_of_format(text, scan);
      if (asked.empty()) return false;
      longer = signature_;
      for (const abi::FormatArgument& one : asked)
        longer.parameters.push_back({"",
                                     std::string(one.type),
                                     type_of(*signature_.types, word_of(signature_.mode), one.number, one.size,
                                             one.is_signed, one.use, one.type),
                                     one.use,
                                     {}});
      longer.lay_out();
      return true;
    }
    return false;
  }

  [[nodiscard]] std::string text_at(std::uint64_t address) const {
    constexpr std::size_t kMost = 4096;
    std::string text(kMost, '\0');
    text.resize(seen_.view.read_memory(address, {reinterpret_cast<std::uint8_t*>(text.data()), text.size()}));
    return text.c_str();
  }

  const Signature& signature_;
  const CallSeen& seen_;
  std::vector<Argument> arguments_;
};

}  // namespace

void Signature::lay_out() {
  std::vector<TypeId> ids;
  for (const Parameter& one : parameters) ids.push_back(one.id);
  if (!known) ids.resize(arch::machine_of(mode).arguments.size(), debuginfo::kVoid);
  layout = abi::layout_of_call(mode, compiler, *types, ids, result);
}

Signature signature_of(Modules& modules, std::uint64_t function, std::string_view name, debuginfo::Types& home,
                       arch::Mode mode) {
  Signature result;
  result.types = &home;
  result.mode = mode;
  const Module* module = function != 0 ? modules.at(function) : nullptr;
  if (module != nullptr && !describe(*module, function - module->bias, result)) {
    if (const Prototype* prototype = abi::prototype(name.substr(0, name.find('@'))))
      describe(*prototype, word_of(mode), result);
  }
  result.lay_out();
  return result;
}

std::vector<Argument> arguments_of(const Signature& signature, const CallSeen& seen) {
  return Reader(signature, seen).run();
}

Result<inspect::Value> result_of(const Signature& signature, const CallSeen& seen) {
  if (!signature.known) {
    const unsigned word = word_of(signature.mode);
    const arch::RegisterPart whole{arch::RegisterFile::general, arch::kRax, 0, static_cast<std::uint16_t>(word * 8)};
    Result<Datum> datum = passed_value(seen.view, {{{whole, 0, 0, word}}}, std::nullopt, 0);
    if (!datum) return datum.error();
    datum->shape.reset();
    datum->bits = word * 8;
    datum->signless = true;
    return inspect::value_of(*datum, seen.names);
  }
  if ((*signature.types)[signature.types->plain(signature.result)].kind == debuginfo::Type::Kind::none)
    return Error{Fault::usage, "it returns nothing"};
  if (!signature.layout.known) return Error{Fault::usage, std::string(abi::kConventionUnknown)};
  const abi::Passed& passed = signature.layout.result;
  if (passed.pieces.empty()) return Error{Fault::usage, "the result has no bytes"};
  Result<Datum> datum = passed_value(seen.view, passed, TypeRef{signature.types, signature.result}, 0);
  if (!datum) return datum.error();
  constexpr unsigned kReal = 10;  // bytes of a register of the floating-point unit
  const abi::Piece& first = passed.pieces.front();
  if (first.part.file == isa::RegisterFile::x87 && first.size < kReal) {
    datum->bytes = state::bytes_of(seen.view, first.part).value_or(std::vector<std::uint8_t>(kReal));
    datum->type = {};
    datum->shape = inspect::Shape{inspect::Shape::Kind::floating, kReal};
  }
  datum = inspect::referred(std::move(*datum), seen.names);
  if (!datum) return datum.error();
  return inspect::value_of(*datum, seen.names, seen.limits);
}

std::string where_result_is(const Signature& signature) {
  if (!signature.known)
    return std::string(isa::name_of(arch::RegisterPart{arch::RegisterFile::general, arch::kRax, 0,
                                                       static_cast<std::uint16_t>(word_of(signature.mode) * 8)}));
  std::string text = signature.layout.result.by_address ? "memory at " : "";
  bool first = true;
  for (const abi::Piece& piece : signature.layout.result.pieces) {
    text += (first ? "" : ", ") + std::string(isa::name_of(piece.part));
    first = false;
  }
  return text;
}

}  // namespace deeptrace::look
