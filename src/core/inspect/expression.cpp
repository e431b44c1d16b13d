#include "inspect/expression.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>
#include <cmath>
#include <cstring>

#include "base/number.h"
#include "inspect/expression_node.h"
#include "state/parts.h"

namespace deeptrace::inspect {
namespace {

using debuginfo::Encoding;
using debuginfo::Type;
using debuginfo::TypeId;
using Op = ExpressionNode::Op;

Error problem(std::string message) { return {Fault::usage, std::move(message)}; }

/// A number with all that decides how it takes part in arithmetic.
struct Number {
  std::uint64_t bits = 0;  ///< extended to 64 bits by its sign
  long double real = 0;
  bool floating = false;
  unsigned width = 64;
  bool is_signed = false;
  bool signless = false;
  bool literal = false;
  TypeRef pointer;  ///< the pointer's type, of pointers
};

/// The whole part of a number as an integer of `size` bytes, signed or not. C leaves open what becomes of one that does
/// not fit (ISO C 6.3.1.4): that is an error.
Result<std::uint64_t> integer_of(const Number& number, std::size_t size) {
  if (!number.floating) return number.bits;
  const int bits = size >= 8 ? 64 : static_cast<int>(8 * size);
  const long double half = std::ldexp(1.0L, bits - 1);
  const bool fits = number.real > -half - 1 && number.real < 2 * half;
  if (!fits) return Error{Fault::usage, "the value does not fit " + std::to_string(bits / 8) + " bytes"};
  return number.real < 0 ? static_cast<std::uint64_t>(static_cast<std::int64_t>(number.real))
                         : static_cast<std::uint64_t>(number.real);
}

std::uint64_t extended(std::uint64_t value, unsigned width, bool by_sign) {
  if (width == 0 || width >= 64) return value;
  const unsigned unused = 64 - width;
  const std::uint64_t raised = value << unused;
  return by_sign ? static_cast<std::uint64_t>(static_cast<std::int64_t>(raised) >> unused) : raised >> unused;
}

Datum integer(std::uint64_t value, unsigned width, bool is_signed) {
  Datum datum;
  datum.loaded = true;
  datum.bits = width;
  datum.is_signed = is_signed;
  datum.bytes.resize((width + 7) / 8);
  std::memcpy(datum.bytes.data(), &value, std::min<std::size_t>(8, datum.bytes.size()));
  return datum;
}

Datum truth(bool holds) { return integer(holds ? 1 : 0, 32, true); }

Datum floating(double value) {
  Datum datum;
  datum.loaded = true;
  datum.floating = true;
  datum.bytes.resize(sizeof value);
  std::memcpy(datum.bytes.data(), &value, sizeof value);
  return datum;
}

long double real_of(Bytes bytes) {
  switch (bytes.size()) {
    case 4: {
      float value = 0;
      std::memcpy(&value, bytes.data(), 4);
      return value;
    }
    case 8: {
      double value = 0;
      std::memcpy(&value, bytes.data(), 8);
      return value;
    }
    case 10:
    case 12:
    case 16: {
      long double value = 0;
      std::memcpy(&value, bytes.data(), 10);
      return value;
    }
    default: return 0;
  }
}

/// What a register's part stands for; a vector or x87 register has its own reading.
Result<Datum> register_datum(isa::RegisterPart part, std::string_view name, const state::StateView& view) {
  auto bytes = state::bytes_of(view, part);
  if (!bytes && part.file == isa::RegisterFile::x87 && view.extended())
    return problem(std::string(name) + ": is empty; no value was pushed there");
  if (!bytes)
    return problem(std::string(name) + ": its value is not known here" +
                   (part.file == isa::RegisterFile::general ? " (nobody kept it for this frame)" : ""));
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

class Evaluator {
 public:
  Evaluator(Environment& environment, bool strict) : environment_(environment), strict_(strict) {}

  Result<Datum> evaluate(const ExpressionNode& node) {
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

  /// A reference stands for the object that it refers to (C++17, 8.2).
  Result<Datum> object(Result<Datum> datum) { return datum ? referred(std::move(*datum), environment_) : datum; }

  /// Of two numbers the chosen one, converted to the type that both have together (C11, 6.5.15).
  Result<Datum> chosen(const ExpressionNode& node, const ExpressionNode& other) {
    Result<Datum> datum = evaluate(node), beside = evaluate(other);
    if (!datum || !beside || datum->text_literal || datum->signless) return datum;
    const Result<Number> a = number_in(*datum), b = number_in(*beside);
    if (!a || !b || a->pointer || b->pointer || b->signless) return datum;
    if (a->floating || b->floating) return floating(static_cast<double>(real_value(*a)));
    unsigned width = 0;
    bool is_signed = false;
    common_type(*a, *b, width, is_signed);
    return integer(extended(a->bits, width, is_signed), width, is_signed);
  }

  Result<bool> truth_of(const ExpressionNode& node) {
    Result<Datum> datum = evaluate(node);
    if (!datum) return datum.error();
    const Result<Number> number = number_in(*datum);
    if (!number) return number.error();
    return number->floating ? number->real != 0 : number->bits != 0;
  }

  /// The number that a datum is.
  Result<Number> number_in(Datum& datum) {
    if (auto error = load(datum, environment_)) return *error;
    Number number;
    std::memcpy(&number.bits, datum.bytes.data(), std::min<std::size_t>(8, datum.bytes.size()));
    number.width = static_cast<unsigned>(datum.bytes.size()) * 8;
    number.literal = datum.literal;
    if (datum.bit_size != 0) {
      const Type& type = (*datum.type.types)[datum.type.types->plain(datum.type.id)];
      number.width = datum.bit_size;
      number.is_signed = type.encoding == Encoding::signed_integer || type.encoding == Encoding::signed_char;
      number.bits = extended(number.bits >> datum.bit_offset, number.width, number.is_signed);
      return number;
    }
    if (datum.type) return typed_number(datum, number);
    if (datum.shape) return shaped_number(datum, number);
    if (datum.text_literal) return problem("a string is no number");
    if (datum.floating) {
      number.floating = true;
      number.real = real_of(datum.bytes);
      return number;
    }
    if (datum.bytes.size() > 8) return problem("it is wider than 64 bits; name a part of it, as in xmm0.u64[1]");
    number.width = datum.bits;
    number.is_signed = datum.is_signed;
    number.signless = datum.signless;
    number.bits = extended(number.bits, number.width, number.is_signed);
    return number;
  }

 private:
  Result<Number> typed_number(Datum& datum, Number number) {
    debuginfo::Types& types = *datum.type.types;
    TypeId id = types.plain(datum.type.id);
    const Type* type = &types[id];
    if (type->kind == Type::Kind::enumeration) {
      number.is_signed = std::ranges::any_of(type->enumerators, [](const auto& one) { return one.value < 0; });
      number.bits = extended(number.bits, number.width, number.is_signed);
      return number;
    }
    switch (type->kind) {
      case Type::Kind::pointer:
      case Type::Kind::reference:
      case Type::Kind::rvalue_reference: number.pointer = {&types, id}; return number;
      case Type::Kind::array: {
        if (datum.place != Datum::Place::memory) return problem("an array that lies in no memory has no address");
        number.bits = datum.address;
        number.width = pointer_size() * 8;
        number.pointer = datum.type;
        return number;
      }
      case Type::Kind::function:
        number.bits = datum.address;
        number.width = pointer_size() * 8;
        return number;
      case Type::Kind::base: break;
      case Type::Kind::unspecified: return number;
      default: return problem("it is a " + types.name(datum.type.id) + ", not a number; name one of its members");
    }
    if (type->encoding == Encoding::floating) {
      number.floating = true;
      number.real = real_of(datum.bytes);
      return number;
    }
    if (datum.bytes.size() > 8) return problem("numbers of more than 64 bits are not computed with");
    number.is_signed = type->encoding == Encoding::signed_integer || type->encoding == Encoding::signed_char;
    number.bits = extended(number.bits, number.width, number.is_signed);
    return number;
  }

  static Result<Number> shaped_number(Datum& datum, Number number) {
    if (datum.many || datum.shape->kind == Shape::Kind::string || datum.shape->kind == Shape::Kind::bytes)
      return problem("it is several values, not a number; name one of them");
    if (datum.shape->kind == Shape::Kind::floating) {
      number.floating = true;
      number.real = real_of(datum.bytes);
      return number;
    }
    number.is_signed = datum.shape->kind == Shape::Kind::signed_integer;
    number.bits = extended(number.bits, number.width, number.is_signed);
    return number;
  }

  [[nodiscard]] unsigned pointer_size() const { return arch::machine_of(environment_.view().mode()).word; }

  Result<Datum> reg(const std::string& name) {
    if (auto flag = flag_datum(name, environment_.view())) return *flag;
    if (const auto part = state::part_named(name, environment_.view().mode()))
      return register_datum(*part, name, environment_.view());
    return problem(name + ": no register of that name");
  }

  Result<Datum> name(const std::string& name) {
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

  Result<std::uint64_t> number_at(const ExpressionNode& node) {
    Result<Datum> datum = evaluate(node);
    if (!datum) return datum.error();
    return inspect::number_of(*datum, environment_);
  }

  Result<Datum> memory(const ExpressionNode& node) {
    const Result<std::uint64_t> address = number_at(*node.parts[0]);
    if (!address) return address.error();
    Datum datum;
    datum.place = Datum::Place::memory;
    datum.address = *address;
    if (!node.text.empty()) {  // a segment
      using state::Reg;
      const auto& registers = environment_.view().registers();
      datum.address += node.text == "fs" ? registers[Reg::fs_base] : node.text == "gs" ? registers[Reg::gs_base] : 0;
    }
    if (pointer_size() == 4) datum.address &= 0xffffffff;
    datum.shape = node.shape;
    if (node.shape->kind == Shape::Kind::pointer) datum.shape->size = pointer_size();
    if (node.parts.size() > 1) {
      const Result<std::uint64_t> count = number_at(*node.parts[1]);
      if (!count) return count.error();
      constexpr std::uint64_t kMost = std::uint64_t(1) << 24;
      if (*count == 0 || *count > kMost) return problem("[" + std::string("…, N]: N is a number from 1 to 16777216"));
      datum.count = *count;
      datum.many = true;
    }
    return datum;
  }

  /// A pointer's or array's element at an index.
  Result<Datum> element(TypeRef type, std::uint64_t address, std::int64_t position) {
    debuginfo::Types& types = *type.types;
    const Type& whole = types[types.plain(type.id)];
    Datum datum;
    datum.place = Datum::Place::memory;
    const TypeId inner = whole.kind == Type::Kind::array ? types.element_of(type.id) : whole.target;
    datum.type = {type.types, inner};
    const std::uint64_t size = types.size(inner);
    const Type& target = types[types.plain(inner)];
    if (target.kind == Type::Kind::none) return problem("it is a void *; cast it to a pointer to something");
    if (size == 0 && target.kind != Type::Kind::function)
      return problem("the size of " + types.name(inner) + " is not known");
    datum.address = address + static_cast<std::uint64_t>(position) * size;
    return datum;
  }

  Result<Datum> dereference(const ExpressionNode& node) {
    Result<Datum> datum = evaluate(*node.parts[0]);
    if (!datum) return datum;
    return pointed(*datum, 0);
  }

  /// The pointer in a std::unique_ptr, the value in a std::optional.
  std::optional<Datum> wrapped(Datum& datum) {
    const auto meant = library_value(datum, environment_, 0);
    if (!meant || meant->kind != LibraryValue::Kind::wrapped || datum.place != Datum::Place::memory)
      return std::nullopt;
    Datum inner;
    inner.place = Datum::Place::memory;
    inner.address = meant->address;
    inner.type = {datum.type.types, meant->type};
    return inner;
  }

  Result<Datum> pointed(Datum& datum, std::int64_t position) {
    if (const auto meant = library_value(datum, environment_, 0); meant && meant->kind == LibraryValue::Kind::nothing)
      return problem("it holds nothing");
    while (auto inner = wrapped(datum)) {
      datum = std::move(*inner);
      if (!is_pointer(datum) && position == 0 && !is_aggregate(datum)) return datum;
    }
    const Result<Number> number = number_in(datum);
    if (!number) return number.error();
    if (!number->pointer)
      return problem("it is not a pointer; say what lies there, as in [u32 " + std::string("…]") +
                     " or with a cast like (int *)");
    return element(number->pointer, number->bits, position);
  }

  Result<Datum> index(const ExpressionNode& node) {
    Result<Datum> base = evaluate(*node.parts[0]);
    if (!base) return base;
    Result<Datum> at = evaluate(*node.parts[1]);
    if (!at) return at;
    const Result<Number> number = number_in(*at);
    if (!number) return number.error();
    const auto position = static_cast<std::int64_t>(number->bits);
    Datum& datum = *base;
    if (datum.shape && datum.many) {
      if (position < 0 || static_cast<std::uint64_t>(position) >= datum.count)
        return problem("there are " + std::to_string(datum.count) + " elements, from 0");
      return lane(datum, *datum.shape, static_cast<std::uint64_t>(position));
    }
    if (!datum.type) return pointed(datum, position);
    debuginfo::Types& types = *datum.type.types;
    const Type& type = types[types.plain(datum.type.id)];
    if (type.is_aggregate()) return library_element(datum, position);
    if (type.kind != Type::Kind::array) return pointed(datum, position);
    return array_element(datum, position);
  }

  /// Of a std::vector and its kind.
  Result<Datum> library_element(Datum& datum, std::int64_t position) {
    const auto at = static_cast<std::uint64_t>(position);
    constexpr std::uint64_t kMost = 1 << 20;  // places are listed for those that lie apart
    const auto meant = library_value(datum, environment_, std::min(at, kMost) + 1);
    if (meant && meant->kind == LibraryValue::Kind::wrapped) {
      auto inner = wrapped(datum);
      if (!inner) return pointed(datum, position);
      const bool array = (*inner->type.types)[inner->type.types->plain(inner->type.id)].kind == Type::Kind::array;
      if (array) return array_element(*inner, position);
      return is_aggregate(*inner) ? library_element(*inner, position) : pointed(*inner, position);
    }
    if (!meant || !meant->has_index()) return pointed(datum, position);
    if (position < 0 || at >= meant->count)
      return problem("there are " + std::to_string(meant->count) + " elements, from 0");
    const bool apart = meant->kind == LibraryValue::Kind::queue;
    if (apart && at >= meant->places.size()) return problem("that element is too far away to be looked for");
    Datum result;
    result.place = Datum::Place::memory;
    result.type = {datum.type.types, meant->type};
    result.address = apart ? meant->places[at] : meant->address + at * datum.type.types->size(meant->type);
    return result;
  }

  Result<Datum> array_element(Datum& datum, std::int64_t position) {
    debuginfo::Types& types = *datum.type.types;
    const TypeId inner = types.element_of(datum.type.id);
    const std::uint64_t size = types.size(inner);
    Datum result;
    result.type = {&types, inner};
    if (datum.place == Datum::Place::memory) {
      result.place = Datum::Place::memory;
      result.address = datum.address + static_cast<std::uint64_t>(position) * size;
      return result;
    }
    const std::uint64_t at = static_cast<std::uint64_t>(position) * size;
    if (position < 0 || at + size > datum.bytes.size()) return problem("the array has no such element");
    result.loaded = true;
    result.bytes.assign(datum.bytes.begin() + static_cast<std::ptrdiff_t>(at),
                        datum.bytes.begin() + static_cast<std::ptrdiff_t>(at + size));
    return result;
  }

  /// Element `position` of a register or of memory seen as an array of a shape.
  Result<Datum> lane(Datum& datum, Shape shape, std::uint64_t position) {
    Datum result;
    result.shape = shape;
    const std::uint64_t at = position * shape.size;
    if (datum.place == Datum::Place::memory) {
      result.place = Datum::Place::memory;
      result.address = datum.address + at;
      return result;
    }
    if (at + shape.size > datum.bytes.size())
      return problem("there are " + std::to_string(datum.bytes.size() / shape.size) + " elements, from 0");
    result.loaded = true;
    if (datum.place == Datum::Place::reg) {
      result.place = Datum::Place::reg;
      result.part = datum.part;
      result.part.offset = static_cast<std::uint16_t>(result.part.offset + at * 8);
      result.part.width = static_cast<std::uint16_t>(shape.size * 8);
    }
    result.bytes.assign(datum.bytes.begin() + static_cast<std::ptrdiff_t>(at),
                        datum.bytes.begin() + static_cast<std::ptrdiff_t>(at + shape.size));
    return result;
  }

  Result<Datum> member(const ExpressionNode& node) {
    Result<Datum> base = evaluate(*node.parts[0]);
    if (!base) return base;
    if (node.op == Op::arrow || is_pointer(*base)) {
      base = pointed(*base, 0);
      if (!base) return base;
    }
    Datum& datum = *base;
    if (!datum.type || datum.shape) {
      const auto shape = shape_named(node.text, pointer_size());
      if (!shape || shape->kind == Shape::Kind::string || datum.place != Datum::Place::reg)
        return problem("." + node.text + ": it has no members");
      datum.shape = shape;
      datum.many = true;
      datum.count = datum.bytes.size() / shape->size;
      return datum;
    }
    debuginfo::Types& types = *datum.type.types;
    const Type& type = types[types.plain(datum.type.id)];
    if (!type.is_aggregate()) return problem("." + node.text + ": " + types.name(datum.type.id) + " has no members");
    std::string near;
    if (auto found = find_member(datum, type, node.text, 0)) return *found;
    for (const debuginfo::Member& member : type.members) {
      if (!member.name.empty() && !member.base) near += (near.empty() ? "; it has " : ", ") + member.name;
    }
    return problem("." + node.text + ": " + types.name(datum.type.id) + " has no such member" + near);
  }

  [[nodiscard]] static bool is_aggregate(const Datum& datum) {
    return datum.type && (*datum.type.types)[datum.type.types->plain(datum.type.id)].is_aggregate();
  }
  [[nodiscard]] static bool is_pointer(const Datum& datum) {
    if (!datum.type) return false;
    const Type::Kind kind = (*datum.type.types)[datum.type.types->plain(datum.type.id)].kind;
    return kind == Type::Kind::pointer || kind == Type::Kind::reference || kind == Type::Kind::rvalue_reference;
  }

  /// Members of unnamed parts and of base classes count as the whole's own.
  static std::optional<Datum> find_member(Datum& whole, const Type& type, const std::string& name, int depth) {
    constexpr int kDeepest = 32;
    if (depth > kDeepest) return std::nullopt;
    debuginfo::Types& types = *whole.type.types;
    for (const debuginfo::Member& member : type.members) {
      if (member.moving) continue;
      Datum part;
      part.type = {&types, member.type};
      part.place = whole.place == Datum::Place::memory ? Datum::Place::memory : Datum::Place::none;
      part.address = whole.address + member.offset;
      part.bit_offset = member.bit_offset;
      part.bit_size = member.bit_size;
      if (whole.loaded) {
        const std::uint64_t size =
            member.bit_size != 0 ? (member.bit_offset + member.bit_size + 7U) / 8U : types.size(member.type);
        if (member.offset + size > whole.bytes.size()) continue;
        part.loaded = true;
        part.bytes.assign(whole.bytes.begin() + static_cast<std::ptrdiff_t>(member.offset),
                          whole.bytes.begin() + static_cast<std::ptrdiff_t>(member.offset + size));
      }
      if (member.name == name && !member.base) return part;
      if (!member.name.empty() && !member.base) continue;
      const Type& inner = types[types.plain(member.type)];
      if (!inner.is_aggregate()) continue;
      if (auto found = find_member(part, inner, name, depth + 1)) return found;
    }
    return std::nullopt;
  }

  Result<Datum> address_of(const ExpressionNode& node) {
    Result<Datum> datum = evaluate(*node.parts[0]);
    if (!datum) return datum;
    if (datum->place == Datum::Place::reg) return problem("a register has no address");
    if (datum->place != Datum::Place::memory) return problem("a value that lies nowhere has no address");
    if (datum->bit_size != 0) return problem("a bit field has no address");
    Datum result = integer(datum->address, pointer_size() * 8, false);
    result.label = "address";
    if (datum->type) {
      result.type = {datum->type.types, datum->type.types->pointer_to(datum->type.id, pointer_size())};
    } else {
      result.shape = Shape{Shape::Kind::pointer, pointer_size()};
    }
    return result;
  }

  std::optional<TypeRef> type_of(const std::string& name) { return environment_.type_named(name); }

  Result<Datum> cast(const ExpressionNode& node) {
    const auto type = type_of(node.text);
    if (!type)
      return problem("(" + node.text + (node.stars != 0 ? " *" : "") + "): no type of that name is known here");
    Result<Datum> datum = evaluate(*node.parts[0]);
    if (!datum) return datum;
    if (node.stars != 0) {
      const Result<Number> number = number_in(*datum);
      if (!number) return number.error();
      return pointer_cast(*type, node.stars, number->bits);
    }
    debuginfo::Types& types = *type->types;
    const Type& plain = types[types.plain(type->id)];
    const std::uint64_t size = types.size(type->id);
    if (plain.is_aggregate())
      return problem("(" + node.text + "): a value cannot be cast to a structure; cast a pointer");
    const Result<Number> number = number_in(*datum);
    if (!number) return number.error();
    Datum result;
    result.type = *type;
    result.loaded = true;
    if (plain.encoding == Encoding::floating) {
      const long double real = number->floating    ? number->real
                               : number->is_signed ? static_cast<long double>(static_cast<std::int64_t>(number->bits))
                                                   : static_cast<long double>(number->bits);
      result.bytes.resize(size);
      if (size == 4) {
        const auto narrow = static_cast<float>(real);
        std::memcpy(result.bytes.data(), &narrow, 4);
      } else if (size == 8) {
        const auto narrow = static_cast<double>(real);
        std::memcpy(result.bytes.data(), &narrow, 8);
      } else {
        std::memcpy(result.bytes.data(), &real, std::min<std::size_t>(size, 10));
      }
      return result;
    }
    const Result<std::uint64_t> bits = integer_of(*number, size);
    if (!bits) return problem(bits.error().message);
    result.bytes.resize(size);
    std::memcpy(result.bytes.data(), &*bits, std::min<std::size_t>(size, 8));
    return result;
  }

  /// Debug information may not have the pointer's own type; a pointer is then the address with what it points to.
  Result<Datum> pointer_cast(TypeRef target, unsigned stars, std::uint64_t value) {
    if (stars > 1) {
      Datum result = integer(value, pointer_size() * 8, false);
      result.shape = Shape{Shape::Kind::pointer, pointer_size()};
      return result;
    }
    Datum result = integer(value, pointer_size() * 8, false);
    result.type = {target.types, target.types->pointer_to(target.id, pointer_size())};
    return result;
  }

  Result<Datum> shape_cast(const ExpressionNode& node) {
    Result<Datum> datum = evaluate(*node.parts[0]);
    if (!datum) return datum;
    Shape shape = *node.shape;
    if (shape.kind == Shape::Kind::pointer) shape.size = pointer_size();
    const Result<Number> number = number_in(*datum);
    if (!number) return number.error();
    Datum result;
    result.shape = shape;
    result.loaded = true;
    result.bytes.resize(shape.size);
    // f32(eax) and the like read the register's bits; of numbers they are conversions.
    if (shape.kind == Shape::Kind::floating) {
      if (number->signless && number->width == shape.size * 8) {
        std::memcpy(result.bytes.data(), &number->bits, shape.size);
        return result;
      }
      const long double real = number->floating    ? number->real
                               : number->is_signed ? static_cast<long double>(static_cast<std::int64_t>(number->bits))
                                                   : static_cast<long double>(number->bits);
      const auto narrow = static_cast<float>(real);
      const auto middle = static_cast<double>(real);
      std::memcpy(result.bytes.data(),
                  shape.size == 4   ? static_cast<const void*>(&narrow)
                  : shape.size == 8 ? &middle
                                    : static_cast<const void*>(&real),
                  shape.size);
      return result;
    }
    const Result<std::uint64_t> bits = integer_of(*number, shape.size);
    if (!bits) return problem(bits.error().message);
    std::memcpy(result.bytes.data(), &*bits, std::min<std::size_t>(shape.size, 8));
    return result;
  }

  Result<Datum> size_of_node(const ExpressionNode& node) {
    if (node.parts.empty()) {
      const auto type = type_of(node.text);
      if (!type) return problem("sizeof: no type of the name " + node.text);
      return integer(node.stars != 0 ? pointer_size() : type->types->size(type->id), 64, false);
    }
    Result<Datum> datum = evaluate(*node.parts[0]);
    if (!datum) return datum;
    return integer(inspect::size_of(*datum, environment_), 64, false);
  }

  Result<Datum> unary(const ExpressionNode& node) {
    Result<Datum> datum = evaluate(*node.parts[0]);
    if (!datum) return datum;
    Result<Number> number = number_in(*datum);
    if (!number) return number.error();
    if (node.op == Op::logical_not) return truth(number->floating ? number->real == 0 : number->bits == 0);
    if (number->floating) {
      if (node.op == Op::bit_not) return problem("~ is for integers");
      return floating(static_cast<double>(node.op == Op::negate ? -number->real : number->real));
    }
    const std::uint64_t bits = node.op == Op::negate    ? 0 - number->bits
                               : node.op == Op::bit_not ? ~number->bits
                                                        : number->bits;
    const bool keeps = number->signless || number->literal;
    Datum result = integer(bits, keeps ? number->width : std::max(32U, number->width),
                           number->is_signed || (number->width < 32 && !keeps));
    result.signless = number->signless;
    result.literal = number->literal;
    return result;
  }

  // ---- two operands -----------------------------------------------------------------------------------------------

  /// Texts are compared by their characters.
  Result<std::optional<std::string>> text_in(Datum& datum) {
    if (datum.text_literal) return std::optional(std::string(datum.bytes.begin(), datum.bytes.end()));
    const bool text = datum.shape && datum.shape->kind == Shape::Kind::string;
    std::uint64_t address = datum.address;
    if (datum.type) {
      debuginfo::Types& types = *datum.type.types;
      const Type& type = types[types.plain(datum.type.id)];
      if (type.kind == Type::Kind::pointer) {
        const Result<Number> number = number_in(datum);
        if (!number) return number.error();
        address = number->bits;
      } else if (type.kind != Type::Kind::array || datum.place != Datum::Place::memory) {
        return std::optional<std::string>();
      }
      const Type& target = types[types.plain(type.target)];
      if (target.kind != Type::Kind::base || target.size != 1) return std::optional<std::string>();
    } else if (!text) {
      return std::optional<std::string>();
    }
    std::string result;
    constexpr std::size_t kMost = 4096;
    while (result.size() < kMost) {
      std::uint8_t byte = 0;
      if (environment_.view().read_memory(address + result.size(), {&byte, 1}) != 1)
        return problem("no string can be read at " + hex_text(address));
      if (byte == 0) break;
      result.push_back(static_cast<char>(byte));
    }
    return std::optional(std::move(result));
  }

  Result<Datum> binary(const ExpressionNode& node) {
    Result<Datum> left = evaluate(*node.parts[0]);
    if (!left) return left;
    Result<Datum> right = evaluate(*node.parts[1]);
    if (!right) return right;
    if (left->text_literal || right->text_literal) {
      if (node.op != Op::equal && node.op != Op::not_equal) return problem("strings are compared by == and != only");
      const auto a = text_in(*left), b = text_in(*right);
      if (!a) return a.error();
      if (!b) return b.error();
      if (!*a || !*b) return problem("a string is compared with strings only");
      return truth((**a == **b) == (node.op == Op::equal));
    }
    const Result<Number> a = number_in(*left);
    if (!a) return a.error();
    const Result<Number> b = number_in(*right);
    if (!b) return b.error();
    if (a->floating || b->floating) return real_binary(node.op, *a, *b);
    if (a->pointer || b->pointer) {
      if (auto result = pointer_binary(node.op, *a, *b)) return *result;
    }
    return integer_binary(node, *a, *b);
  }

  static long double real_value(const Number& n) {
    if (n.floating) return n.real;
    return n.is_signed ? static_cast<long double>(static_cast<std::int64_t>(n.bits)) : static_cast<long double>(n.bits);
  }

  static Result<Datum> real_binary(Op op, const Number& left, const Number& right) {
    if (left.signless || right.signless)
      return problem(
          "a register and a floating-point number: say how the register is read, as in f64(rax) or i64(rax)");
    const long double a = real_value(left), b = real_value(right);
    switch (op) {
      case Op::add: return floating(static_cast<double>(a + b));
      case Op::subtract: return floating(static_cast<double>(a - b));
      case Op::multiply: return floating(static_cast<double>(a * b));
      case Op::divide: return floating(static_cast<double>(a / b));
      case Op::equal: return truth(a == b);
      case Op::not_equal: return truth(a != b);
      case Op::less: return truth(a < b);
      case Op::less_equal: return truth(a <= b);
      case Op::greater: return truth(a > b);
      case Op::greater_equal: return truth(a >= b);
      default: return problem("this operator is for integers");
    }
  }

  std::optional<Datum> pointer_binary(Op op, const Number& left, const Number& right) {
    if (op != Op::add && op != Op::subtract) return std::nullopt;
    const TypeRef type = left.pointer ? left.pointer : right.pointer;
    debuginfo::Types& types = *type.types;
    const Type& pointer = types[types.plain(type.id)];
    const std::uint64_t size = std::max<std::uint64_t>(1, types.size(pointer.target));
    if (left.pointer && right.pointer) {
      if (op != Op::subtract) return std::nullopt;
      return integer(static_cast<std::uint64_t>(static_cast<std::int64_t>(left.bits - right.bits) /
                                                static_cast<std::int64_t>(size)),
                     64, true);
    }
    const std::uint64_t address = left.pointer ? left.bits : right.bits;
    const std::uint64_t distance = (left.pointer ? right.bits : left.bits) * size;
    Datum result = integer(op == Op::add ? address + distance : address - distance, pointer_size() * 8, false);
    result.type = {&types,
                   pointer.kind == Type::Kind::array ? types.pointer_to(pointer.target, pointer_size()) : type.id};
    return result;
  }

  static bool takes_sign_into_account(Op op) {
    return op == Op::divide || op == Op::modulo || (op >= Op::less && op <= Op::greater_equal);
  }

  /// The usual arithmetic conversions (C11, 6.3.1.8), by width.
  static void common_type(const Number& a, const Number& b, unsigned& width, bool& is_signed) {
    width = std::max({32U, a.width, b.width});
    const bool a_signed = a.is_signed || a.width < width, b_signed = b.is_signed || b.width < width;
    is_signed = a_signed && b_signed;
  }

  Result<Datum> integer_binary(const ExpressionNode& node, const Number& a, const Number& b) {
    const bool shift = node.op == Op::shift_left || node.op == Op::shift_right;
    const bool signless = shift ? a.signless : a.signless || b.signless;
    if (signless && takes_sign_into_account(node.op)) {
      const ExpressionNode& which = *node.parts[a.signless ? 0 : 1];
      const std::string name = which.text.empty() ? "the register" : which.text;
      const unsigned width = a.signless ? a.width : b.width;
      return problem("is " + name + " signed or unsigned? write i" + std::to_string(width) + "(" + name + ") or u" +
                     std::to_string(width) + "(" + name + ")");
    }
    unsigned width = 0;
    bool is_signed = false;
    if (shift) {
      width = a.signless ? a.width : std::max(32U, a.width);
      is_signed = a.is_signed || (!a.signless && a.width < 32);
    } else if (signless) {
      // A literal takes the register's width; anything else is compared at the greater of both.
      width = a.literal ? b.width : b.literal ? a.width : std::max(a.width, b.width);
    } else {
      common_type(a, b, width, is_signed);
    }
    return computed(node.op, a, b, width, is_signed, signless, a.literal && b.literal);
  }

  static Result<Datum> computed(Op op, const Number& a, const Number& b, unsigned width, bool is_signed, bool signless,
                                bool literal) {
    const std::uint64_t x = extended(a.bits, width, is_signed), y = extended(b.bits, width, is_signed);
    const auto sx = static_cast<std::int64_t>(x), sy = static_cast<std::int64_t>(y);
    std::uint64_t value = 0;
    switch (op) {
      case Op::equal: return truth(x == y);
      case Op::not_equal: return truth(x != y);
      case Op::less: return truth(is_signed ? sx < sy : x < y);
      case Op::less_equal: return truth(is_signed ? sx <= sy : x <= y);
      case Op::greater: return truth(is_signed ? sx > sy : x > y);
      case Op::greater_equal: return truth(is_signed ? sx >= sy : x >= y);
      case Op::add: value = x + y; break;
      case Op::subtract: value = x - y; break;
      case Op::multiply: value = x * y; break;
      case Op::divide:
      case Op::modulo:
        if (y == 0) return problem("division by zero");
        if (is_signed && sy == -1) {
          value = op == Op::divide ? 0 - x : 0;
        } else if (is_signed) {
          value = static_cast<std::uint64_t>(op == Op::divide ? sx / sy : sx % sy);
        } else {
          value = op == Op::divide ? x / y : x % y;
        }
        break;
      case Op::shift_left: value = b.bits < width ? x << b.bits : 0; break;
      case Op::shift_right:
        if (is_signed) {
          value = static_cast<std::uint64_t>(sx >> std::min<std::uint64_t>(b.bits, 63));
        } else {
          value = b.bits < width ? x >> b.bits : 0;
        }
        break;
      case Op::bit_and: value = x & y; break;
      case Op::bit_or: value = x | y; break;
      case Op::bit_xor: value = x ^ y; break;
      default: return problem("this operator is not for integers");
    }
    Datum result = integer(value, width, is_signed);
    result.signless = signless;
    result.literal = literal;
    return result;
  }

  Environment& environment_;
  bool strict_;
};

void collect_names(const ExpressionNode& node, std::vector<std::string>& out) {
  if (node.op == Op::name || node.op == Op::variable) out.push_back(node.text);
  for (const auto& part : node.parts) collect_names(*part, out);
}

/// Bytes that a scalar or whole takes in memory.
std::uint64_t bytes_of(const Datum& datum) {
  if (datum.bit_size != 0) return (datum.bit_offset + datum.bit_size + 7) / 8;
  if (datum.shape) return datum.shape->kind == Shape::Kind::string ? 0 : datum.shape->size * datum.count;
  if (datum.type) return datum.type.types->size(datum.type.id);
  return datum.bytes.size();
}

std::string unreadable(const state::StateView& view, std::uint64_t address) {
  return "memory at " + hex_text(address) + " " + std::string(view.why_unreadable(address));
}

/// A C string is as long as it is.
std::optional<Error> load_string(Datum& datum, Environment& environment) {
  constexpr std::size_t kMost = 4096, kPiece = 64;
  while (datum.bytes.size() < kMost) {
    std::uint8_t piece[kPiece];
    const std::uint64_t at = datum.address + datum.bytes.size();
    const std::size_t got = environment.view().read_memory(at, piece);
    const auto zero = static_cast<std::size_t>(std::find(piece, piece + got, std::uint8_t(0)) - piece);
    datum.bytes.insert(datum.bytes.end(), piece, piece + zero);
    if (zero != got) break;
    if (got < kPiece) {
      if (datum.bytes.empty()) return problem(unreadable(environment.view(), datum.address));
      break;
    }
  }
  datum.bytes.push_back(0);
  datum.loaded = true;
  return std::nullopt;
}

}  // namespace

std::optional<Error> load(Datum& datum, Environment& environment) {
  if (datum.loaded) return std::nullopt;
  if (datum.shape && datum.shape->kind == Shape::Kind::string && !datum.many) return load_string(datum, environment);
  if (datum.type) {
    const Type& type = (*datum.type.types)[datum.type.types->plain(datum.type.id)];
    if (type.kind == Type::Kind::function) {
      datum.loaded = true;
      return std::nullopt;
    }
  }
  const std::uint64_t size = bytes_of(datum);
  constexpr std::uint64_t kMost = std::uint64_t(1) << 26;
  if (size == 0) return problem("its size is not known");
  if (size > kMost) return problem("it takes " + std::to_string(size) + " bytes, too many to show");
  datum.bytes.resize(size);
  const std::size_t got = environment.view().read_memory(datum.address, datum.bytes);
  if (got != size) {
    datum.bytes.clear();
    const std::string range = hex_text(datum.address) + (got == 0 ? "" : ".." + hex_text(datum.address + size));
    const std::string_view why = environment.view().why_unreadable(datum.address + got);
    return problem("memory at " + range + " " + std::string(why) +
                   (got == 0 ? "" : " from " + hex_text(datum.address + got) + " on"));
  }
  datum.loaded = true;
  return std::nullopt;
}

Result<Datum> referred(Datum datum, Environment& environment) {
  if (!datum.type || datum.bit_size != 0) return datum;
  debuginfo::Types& types = *datum.type.types;
  const Type& type = types[types.plain(datum.type.id)];
  if (type.kind != Type::Kind::reference && type.kind != Type::Kind::rvalue_reference) return datum;
  if (auto error = load(datum, environment)) return *error;
  Datum object;
  object.place = Datum::Place::memory;
  object.type = {&types, type.target};
  std::memcpy(&object.address, datum.bytes.data(), std::min<std::size_t>(8, datum.bytes.size()));
  return object;
}

namespace {

MemoryReader memory_of(const Environment& environment) {
  const state::StateView& view = environment.view();
  return [&view](std::uint64_t address, std::span<std::uint8_t> into) {
    return view.read_memory(address, into) == into.size();
  };
}
unsigned word_of(const Environment& environment) { return arch::machine_of(environment.view().mode()).word; }

}  // namespace

/// What an object of the C++ library stands for, with the places of `most` elements.
std::optional<LibraryValue> library_value(Datum& datum, Environment& environment, std::uint64_t most) {
  if (!datum.type || datum.bit_size != 0 || load(datum, environment)) return std::nullopt;
  return library_value(*datum.type.types, datum.type.id, datum.bytes, datum.address, memory_of(environment),
                       word_of(environment), most);
}

Value value_of(Datum& datum, Environment& environment, const ValueLimits& limits) {
  Value value;
  if (auto error = load(datum, environment)) {
    value.text = error->message;
    return value;
  }
  if (datum.bit_size != 0) {
    std::uint64_t bits = 0;
    std::memcpy(&bits, datum.bytes.data(), std::min<std::size_t>(8, datum.bytes.size()));
    const std::uint64_t field = extended(bits >> datum.bit_offset, datum.bit_size, false);
    debuginfo::Types& types = *datum.type.types;
    std::vector<std::uint8_t> raw(std::max<std::uint64_t>(1, types.size(datum.type.id)));
    std::memcpy(raw.data(), &field, std::min<std::size_t>(8, raw.size()));
    value = value_of(types, datum.type.id, raw, datum.address, environment.pointers(), limits);
    value.bits = datum.bit_size;
    value.bit_field = true;
    value.bit_offset = datum.bit_offset;
    return value;
  }
  if (datum.type) {
    const Type& type = (*datum.type.types)[datum.type.types->plain(datum.type.id)];
    if (type.kind != Type::Kind::function) {
      const std::uint64_t address = datum.place == Datum::Place::memory ? datum.address : 0;
      ValueLimits within = limits;
      within.memory = memory_of(environment);
      within.word = word_of(environment);
      return value_of(*datum.type.types, datum.type.id, datum.bytes, address, environment.pointers(), within);
    }
    value.kind = Value::Kind::pointer;
    value.number = datum.address;
    value.bits = 64;
    value.size = 8;
    value.text = datum.label;
    value.type = datum.type.types->name(datum.type.id);
    return value;
  }
  if (datum.text_literal) {
    value.kind = Value::Kind::string;
    value.text.assign(datum.bytes.begin(), datum.bytes.end());
    return value;
  }
  if (datum.shape) {
    const std::uint64_t address = datum.place == Datum::Place::memory ? datum.address : 0;
    value = value_of(*datum.shape, datum.bytes, address, environment.pointers(), limits);
    return value;
  }
  value.size = datum.bytes.size();
  value.bits = datum.bits;
  value.is_signed = datum.is_signed || datum.signless;  // people read registers with their sign
  std::memcpy(&value.number, datum.bytes.data(), std::min<std::size_t>(8, datum.bytes.size()));
  value.number = extended(value.number, datum.bits, false);
  value.kind = Value::Kind::integer;
  if (datum.floating) return value_of(Shape{Shape::Kind::floating, 8}, datum.bytes, 0, environment.pointers(), limits);
  if (datum.bytes.size() > 8) {
    value.kind = Value::Kind::bytes;
    value.raw = datum.bytes;
  }
  return value;
}

Result<std::uint64_t> number_of(Datum& datum, Environment& environment) {
  const Result<Number> number = Evaluator(environment, true).number_in(datum);
  if (!number) return number.error();
  if (number->floating) return problem("an integer is needed, not a floating-point number");
  return number->bits;
}

std::uint64_t size_of(const Datum& datum, Environment& /*environment*/) { return bytes_of(datum); }

std::optional<Error> assign(Datum& to, Datum& value, Environment& environment, state::StateEdit& edit) {
  if (to.place == Datum::Place::none)
    return problem(to.label == "flag" || to.label == "flags" ? "flags are set through rflags as a whole"
                                                             : "it lies nowhere, so it cannot be set");
  if (auto error = load(value, environment)) return error;
  const Result<Number> number = Evaluator(environment, true).number_in(value);
  if (!number) {
    // Whole structures and vectors are copied.
    if (auto error = load(to, environment)) return error;
    if (to.bytes.size() != value.bytes.size()) return problem("the two are not of one size");
    to.bytes = value.bytes;
  } else if (to.bit_size != 0) {
    if (auto error = load(to, environment)) return error;
    std::uint64_t bits = 0;
    std::memcpy(&bits, to.bytes.data(), std::min<std::size_t>(8, to.bytes.size()));
    const std::uint64_t mask = extended(~0ULL, to.bit_size, false) << to.bit_offset;
    bits = (bits & ~mask) | (number->bits << to.bit_offset & mask);
    std::memcpy(to.bytes.data(), &bits, std::min<std::size_t>(8, to.bytes.size()));
  } else {
    if (auto error = load(to, environment)) return error;
    const std::size_t size = to.bytes.size();
    bool real = to.shape && to.shape->kind == Shape::Kind::floating;
    if (to.type) {
      const Type& type = (*to.type.types)[to.type.types->plain(to.type.id)];
      if (type.is_aggregate() || type.kind == Type::Kind::array) return problem("it is not a number; set its members");
      real = type.kind == Type::Kind::base && type.encoding == Encoding::floating;
    }
    if (to.many || size > 16) return problem("it holds several values; set one of them");
    const long double wide = number->floating    ? number->real
                             : number->is_signed ? static_cast<long double>(static_cast<std::int64_t>(number->bits))
                                                 : static_cast<long double>(number->bits);
    if (!real) {
      const Result<std::uint64_t> bits = integer_of(*number, size);
      if (!bits) return problem(bits.error().message);
      if (!number->floating && size < 8) {
        const std::uint64_t top = number->bits >> (8 * size - 1);
        const bool fits = (number->bits >> (8 * size)) == 0 || top == (~0ULL >> (8 * size - 1));
        if (!fits) return problem("the value does not fit " + std::to_string(size) + " bytes");
      }
      std::ranges::fill(to.bytes, std::uint8_t(0));
      std::memcpy(to.bytes.data(), &*bits, std::min<std::size_t>(8, size));
    } else if (size == 4) {
      const auto narrow = static_cast<float>(wide);
      std::memcpy(to.bytes.data(), &narrow, 4);
    } else if (size == 8) {
      const auto narrow = static_cast<double>(wide);
      std::memcpy(to.bytes.data(), &narrow, 8);
    } else {
      std::memcpy(to.bytes.data(), &wide, std::min<std::size_t>(10, size));
    }
  }
  const bool done =
      to.place == Datum::Place::reg ? edit.write_register(to.part, to.bytes) : edit.write_memory(to.address, to.bytes);
  if (!done) return problem("it could not be written");
  return std::nullopt;
}

// ---- the class ------------------------------------------------------------------------------------------------------

Expression::Expression(std::string text, std::unique_ptr<ExpressionNode> root)
    : text_(std::move(text)), root_(std::move(root)) {}
Expression::Expression(Expression&&) noexcept = default;
Expression& Expression::operator=(Expression&&) noexcept = default;
Expression::~Expression() = default;

Result<Expression> Expression::parse(std::string_view text, const std::function<bool(std::string_view)>& is_type,
                                     std::size_t* at) {
  Result<std::unique_ptr<ExpressionNode>> root = parse_expression(text, is_type, at);
  if (!root) return root.error();
  return Expression(std::string(text), std::move(*root));
}

/// Names the expression, unless it is the name that the message begins with.
Error Expression::named(const Error& error) const {
  const bool told = error.message.starts_with(text_ + ": ");
  return {error.fault, told ? error.message : text_ + ": " + error.message};
}

Result<Datum> Expression::evaluate(Environment& environment, bool strict) const {
  Result<Datum> datum = Evaluator(environment, strict).evaluate(*root_);
  if (!datum) return named(datum.error());
  return datum;
}

Result<bool> Expression::holds(Environment& environment) const {
  Result<bool> result = Evaluator(environment, true).truth_of(*root_);
  if (!result) return named(result.error());
  return result;
}

std::optional<std::pair<Value, Value>> Expression::sides(Environment& environment) const {
  if (root_->op < Op::equal || root_->op > Op::greater_equal) return std::nullopt;
  Evaluator evaluator(environment, true);
  Result<Datum> left = evaluator.evaluate(*root_->parts[0]), right = evaluator.evaluate(*root_->parts[1]);
  if (!left || !right) return std::nullopt;
  // A literal is read at the width and with the sign of what it is compared with.
  Datum* const literal = left->literal ? &*left : right->literal ? &*right : nullptr;
  const Datum& other = left->literal ? *right : *left;
  if (literal != nullptr && !literal->floating && !(left->literal && right->literal)) {
    const std::uint64_t size = bytes_of(other);
    if (size >= 1 && size <= 8) {
      literal->bytes.resize(size);
      literal->bits = static_cast<unsigned>(size) * 8;
    }
  }
  return std::pair(value_of(*left, environment), value_of(*right, environment));
}

std::vector<std::string> Expression::names() const {
  std::vector<std::string> result;
  collect_names(*root_, result);
  return result;
}

}  // namespace deeptrace::inspect
