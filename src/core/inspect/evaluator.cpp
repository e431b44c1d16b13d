// Names and operators.
#include "inspect/evaluator.h"

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cstring>

#include "base/number.h"
#include "inspect/wide_text.h"
#include "state/parts.h"

namespace deeptrace::inspect {

using debuginfo::Encoding;
using debuginfo::Type;
using debuginfo::TypeId;
using Op = ExpressionNode::Op;

namespace {

constexpr std::size_t kMostCharacters = 4096;  // of a string that only its end mark ends

/// What a register's part stands for; a vector or x87 register has its own reading.
Result<Datum> register_datum(isa::RegisterPart part, std::string_view name, const state::StateView& view) {
  auto bytes = state::bytes_of(view, part);
  if (!bytes && part.file == isa::RegisterFile::x87 && view.extended())
    return problem(std::string(name) + ": is empty; no value was pushed there");
  if (!bytes)
    return problem(std::string(name) + ": its value is not known here" +
                   (part.file == isa::RegisterFile::general ? ": " + std::string(view.why_unknown()) : ""));
  Datum datum;
  datum.place = Datum::Place::reg;
  datum.part = part;
  datum.loaded = true;
  datum.bytes = std::move(*bytes);
  datum.bits = part.width;
  datum.signless = true;
  if (part.file == isa::RegisterFile::x87) datum.shape = Shape{Shape::Kind::floating, 10};
  if (part.width > 64 && part.file == isa::RegisterFile::vector) {
    datum.shape = Shape{Shape::Kind::unsigned_integer, 4};
    datum.count = part.width / 32;
    datum.many = true;
  }
  return datum;
}

std::optional<Datum> flag_datum(std::string_view name, const state::StateView& view) {
  const std::uint64_t flags = view.registers()[state::Reg::rflags];
  unsigned bits = 0;
  if (state::is_flags_register(name, bits)) {
    Datum datum = integer(extended(flags, bits, false), bits, false);
    datum.signless = true;
    datum.label = "flags";
    return datum;
  }
  const auto bit = state::flag_bit(name);
  if (!bit) return std::nullopt;
  Datum datum = integer(flags >> *bit & 1, 1, false);
  datum.label = "flag";
  return datum;
}

}  // namespace

Result<Datum> Evaluator::evaluate(const ExpressionNode& node) {
  switch (node.op) {
    case Op::number: {
      Datum datum = node.real ? floating(*node.real) : integer(node.value, node.literal_bits, node.literal_signed);
      datum.literal = true;
      return datum;
    }
    case Op::text: {
      Datum datum;
      datum.loaded = true;
      datum.text_literal = true;
      datum.bytes.assign(node.text.begin(), node.text.end());
      return datum;
    }
    case Op::name: return object(name(node.text));
    case Op::reg: return reg(node.text);
    case Op::variable: return object(environment_.variable(node.text));
    case Op::argument: {
      Result<Datum> which = evaluate(*node.parts[0]);
      if (!which) return which;
      const Result<std::uint64_t> index = number_of(*which, environment_);
      if (!index) return index.error();
      return object(environment_.argument(*index));
    }
    case Op::result: return object(environment_.result());
    case Op::caller: return environment_.caller();
    case Op::memory: return memory(node);
    case Op::cast: return cast(node);
    case Op::shape_cast: return shape_cast(node);
    case Op::size_of: return size_of_node(node);
    case Op::member:
    case Op::arrow: return object(member(node));
    case Op::call: return object(call(node));
    case Op::index: return object(index(node));
    case Op::dereference: return object(dereference(node));
    case Op::address_of: return address_of(node);
    case Op::negate:
    case Op::plus:
    case Op::bit_not:
    case Op::logical_not: return unary(node);
    case Op::logical_and:
    case Op::logical_or: {
      const Result<bool> left = truth_of(*node.parts[0]);
      if (!left) return left.error();
      if (*left == (node.op == Op::logical_or)) return truth(*left);
      const Result<bool> right = truth_of(*node.parts[1]);
      if (!right) return right.error();
      return truth(*right);
    }
    case Op::choose: {
      const Result<bool> condition = truth_of(*node.parts[0]);
      if (!condition) return condition.error();
      return chosen(*node.parts[*condition ? 1 : 2], *node.parts[*condition ? 2 : 1]);
    }
    default: return binary(node);
  }
}

Result<Datum> Evaluator::chosen(const ExpressionNode& node, const ExpressionNode& other) {
  Result<Datum> datum = evaluate(node), beside = evaluate(other);
  if (!datum || !beside || datum->text_literal || datum->signless) return datum;
  const Result<Number> a = number_in(*datum, environment_), b = number_in(*beside, environment_);
  if (!a || !b || a->pointer || b->pointer || b->signless) return datum;
  if (a->floating || b->floating) return floating(static_cast<double>(real_value(*a)));
  unsigned width = 0;
  bool is_signed = false;
  common_type(*a, *b, width, is_signed);
  return integer(extended(a->bits, width, is_signed), width, is_signed);
}

Result<bool> Evaluator::truth_of(const ExpressionNode& node) {
  Result<Datum> datum = evaluate(node);
  if (!datum) return datum.error();
  if (is_aggregate(*datum)) {
    // A std::optional is true when it holds a value, whatever that is; so is all else that may hold nothing.
    const auto meant = library_value(*datum, environment_, 0);
    if (meant && meant->kind == LibraryValue::Kind::nothing) return false;
    if ((*datum->type.types)[datum->type.types->plain(datum->type.id)].name.starts_with("std::optional<") && meant)
      return true;
    datum = unwrapped(std::move(*datum));
    if (!datum) return datum.error();
  }
  const Result<Number> number = number_in(*datum, environment_);
  if (!number) return number.error();
  return number->floating ? number->real != 0 : number->bits != 0;
}

Result<Datum> Evaluator::reg(const std::string& name) {
  if (auto flag = flag_datum(name, environment_.view())) return *flag;
  if (const auto part = state::part_named(name, environment_.view().mode()))
    return register_datum(*part, name, environment_.view());
  return problem(name + ": no register of that name");
}

Result<Datum> Evaluator::name(const std::string& name) {
  unsigned bits = 0;
  const bool is_register = state::part_named(name, environment_.view().mode()) || state::flag_bit(name) ||
                           state::is_flags_register(name, bits);
  if (!is_register) return environment_.variable(name);
  if (environment_.has_variable(name)) {
    if (strict_)
      return problem(name + ": is both a register and a variable here; write reg:" + name + " or var:" + name);
    return environment_.variable(name);
  }
  return reg(name);
}

Result<std::uint64_t> Evaluator::number_at(const ExpressionNode& node) {
  Result<Datum> datum = evaluate(node);
  if (!datum) return datum.error();
  return inspect::number_of(*datum, environment_);
}

Result<std::uint64_t> Evaluator::address_at(const ExpressionNode& node) {
  const bool sum = node.op == Op::add || node.op == Op::subtract;
  if (sum) {
    const Result<std::uint64_t> a = address_at(*node.parts[0]);
    if (!a) return a;
    const Result<std::uint64_t> b = address_at(*node.parts[1]);
    if (!b) return b;
    return node.op == Op::add ? *a + *b : *a - *b;
  }
  if (node.op == Op::multiply || node.op == Op::negate || node.op == Op::plus) return number_at(node);
  Result<Datum> datum = evaluate(node);
  if (!datum) return datum.error();
  const bool name = node.op == Op::name || node.op == Op::variable;
  if (name && datum->is_symbol && datum->place == Datum::Place::memory && !is_pointer(*datum)) return datum->address;
  return inspect::number_of(*datum, environment_);
}

std::optional<Error> Evaluator::literals_fit(const ExpressionNode& node) {
  for (const auto& part : node.parts) {
    if (auto error = literals_fit(*part)) return error;
  }
  if (node.op < Op::multiply || node.parts.size() != 2) return std::nullopt;
  Result<Datum> left = evaluate(*node.parts[0]), right = evaluate(*node.parts[1]);
  if (!left || !right || left->text_literal || right->text_literal) return std::nullopt;
  const Result<Number> a = number_in(*left, environment_), b = number_in(*right, environment_);
  return a && b ? literal_that_does_not_fit(node, *a, *b) : std::nullopt;
}

Result<Datum> Evaluator::unary(const ExpressionNode& node) {
  if (node.op == Op::logical_not) {
    const Result<bool> holds = truth_of(*node.parts[0]);
    return holds ? Result<Datum>(truth(!*holds)) : holds.error();
  }
  Result<Datum> datum = operand(*node.parts[0]);
  if (!datum) return datum;
  Result<Number> number = number_in(*datum, environment_);
  if (!number) return number.error();
  if (number->floating) {
    if (node.op == Op::bit_not) return problem("~ is for integers");
    return floating(static_cast<double>(node.op == Op::negate ? -number->real : number->real));
  }
  const Wide bits = node.op == Op::negate ? 0 - number->bits : node.op == Op::bit_not ? ~number->bits : number->bits;
  const bool keeps = number->signless || number->literal;
  Datum result = integer(bits, keeps ? number->width : std::max(32U, number->width),
                         number->is_signed || (number->width < 32 && !keeps));
  result.signless = number->signless;
  result.literal = number->literal;
  return result;
}

Result<std::optional<std::string>> Evaluator::text_in(Datum& datum) {
  if (datum.text_literal) return std::optional(std::string(datum.bytes.begin(), datum.bytes.end()));
  const bool text = datum.shape && datum.shape->kind == Shape::Kind::string;
  if (text && datum.many) {  // as long as its variable
    if (auto error = load(datum, environment_)) return *error;
    return std::optional(std::string(datum.bytes.begin(), std::ranges::find(datum.bytes, std::uint8_t(0))));
  }
  std::uint64_t address = datum.address;
  if (datum.type) {
    debuginfo::Types& types = *datum.type.types;
    const Type& type = types[types.plain(datum.type.id)];
    if (type.is_aggregate()) {
      const auto meant = library_value(datum, environment_, 0);
      if (!meant || meant->kind != LibraryValue::Kind::string) return std::optional<std::string>();
      return characters_at(meant->address, meant->count, character_size(types, meant->type));
    }
    if (type.kind == Type::Kind::pointer) {
      const Result<Number> number = number_in(datum, environment_);
      if (!number) return number.error();
      address = low_word(number->bits);
    } else if (type.kind != Type::Kind::array || datum.place != Datum::Place::memory) {
      return std::optional<std::string>();
    }
    const Type& target = types[types.plain(type.target)];
    if (const std::uint64_t wide = character_size(types, type.target); wide > 1) {
      const std::uint64_t most = type.kind == Type::Kind::array ? types.size(datum.type.id) / wide : kMostCharacters;
      return wide_string_at(address, most, wide);
    }
    if (target.kind != Type::Kind::base || target.size != 1) return std::optional<std::string>();
  } else if (!text) {
    return std::optional<std::string>();
  }
  std::string result;
  while (result.size() < kMostCharacters) {
    std::uint8_t byte = 0;
    if (environment_.view().read_memory(address + result.size(), {&byte, 1}) != 1)
      return problem("no string can be read at " + hex_text(address));
    if (byte == 0) break;
    result.push_back(static_cast<char>(byte));
  }
  return std::optional(std::move(result));
}

Result<std::optional<std::string>> Evaluator::characters_at(std::uint64_t address, std::uint64_t count,
                                                            std::uint64_t size) {
  std::vector<std::uint8_t> units(std::min<std::uint64_t>(count, std::uint64_t(1) << 20) * size);
  if (environment_.view().read_memory(address, units) != units.size())
    return problem("no string can be read at " + hex_text(address));
  return std::optional(utf8_of(units, size));
}

Result<std::optional<std::string>> Evaluator::wide_string_at(std::uint64_t address, std::uint64_t most,
                                                             std::uint64_t size) {
  std::uint64_t count = 0;
  for (std::uint32_t unit = 1; count < most; ++count) {
    std::uint8_t raw[4] = {};
    if (environment_.view().read_memory(address + count * size, {raw, size}) != size)
      return problem("no string can be read at " + hex_text(address));
    std::memcpy(&unit, raw, sizeof unit);
    if (unit == 0) break;
  }
  return characters_at(address, count, size);
}

bool Evaluator::is_library_string(Datum& datum) {
  if (!is_aggregate(datum)) return false;
  const auto meant = library_value(datum, environment_, 0);
  return meant && meant->kind == LibraryValue::Kind::string;
}

Result<Datum> Evaluator::binary(const ExpressionNode& node) {
  Result<Datum> left = operand(*node.parts[0]);
  if (!left) return left;
  Result<Datum> right = operand(*node.parts[1]);
  if (!right) return right;
  if (left->text_literal || right->text_literal || is_library_string(*left) || is_library_string(*right)) {
    if (node.op != Op::equal && node.op != Op::not_equal) return problem("strings are compared by == and != only");
    const auto a = text_in(*left), b = text_in(*right);
    if (!a) return a.error();
    if (!b) return b.error();
    if (!*a || !*b) return problem("a string is compared with strings only");
    return truth((**a == **b) == (node.op == Op::equal));
  }
  const Result<Number> a = number_in(*left, environment_);
  if (!a) return a.error();
  const Result<Number> b = number_in(*right, environment_);
  if (!b) return b.error();
  return arithmetic(node, *a, *b, pointer_size());
}

}  // namespace deeptrace::inspect
