#include "inspect/number.h"

#include <algorithm>
#include <cmath>
#include <cstring>

namespace deeptrace::inspect {

using debuginfo::Encoding;
using debuginfo::Type;
using debuginfo::TypeId;
using Op = ExpressionNode::Op;

Error problem(std::string message) { return {Fault::usage, std::move(message)}; }

unsigned word_of(const Environment& environment) { return arch::machine_of(environment.view().mode()).word; }

Result<Wide> integer_of(const Number& number, std::size_t size) {
  if (!number.floating) return number.bits;
  const int bits = size >= 16 ? static_cast<int>(kWideBits) : static_cast<int>(8 * size);
  const long double half = std::ldexp(1.0L, bits - 1);
  const bool fits = number.real > -half - 1 && number.real < 2 * half;
  if (!fits) return Error{Fault::usage, "the value does not fit " + std::to_string(bits / 8) + " bytes"};
  return number.real < 0 ? static_cast<Wide>(static_cast<SignedWide>(number.real)) : static_cast<Wide>(number.real);
}

Wide extended(Wide value, unsigned width, bool by_sign) {
  if (width == 0 || width >= kWideBits) return value;
  const unsigned unused = kWideBits - width;
  const Wide raised = value << unused;
  return by_sign ? static_cast<Wide>(static_cast<SignedWide>(raised) >> unused) : raised >> unused;
}

Datum integer(Wide value, unsigned width, bool is_signed) {
  Datum datum;
  datum.loaded = true;
  datum.bits = width;
  datum.is_signed = is_signed;
  datum.bytes.resize((width + 7) / 8);
  std::memcpy(datum.bytes.data(), &value, std::min(sizeof value, datum.bytes.size()));
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

std::uint64_t bytes_of(const Datum& datum) {
  if (datum.bit_size != 0) return (datum.bit_offset + datum.bit_size + 7) / 8;
  if (datum.shape) {
    const bool ended = datum.shape->kind == Shape::Kind::string && !datum.many;  // by its end mark
    return ended ? 0 : datum.shape->size * datum.count;
  }
  if (datum.type) return std::max(datum.room, datum.type.types->size(datum.type.id));
  return datum.bytes.size();
}

namespace {

Result<Number> typed_number(Datum& datum, Number number, unsigned word) {
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
      number.width = word * 8;
      number.pointer = datum.type;
      return number;
    }
    case Type::Kind::function:
      number.bits = datum.address;
      number.width = word * 8;
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
  number.is_signed = type->encoding == Encoding::signed_integer || type->encoding == Encoding::signed_char;
  number.bits = extended(number.bits, number.width, number.is_signed);
  return number;
}

Result<Number> shaped_number(Datum& datum, Number number) {
  if (datum.many || datum.shape->kind == Shape::Kind::string || datum.shape->kind == Shape::Kind::bytes)
    return problem("it is several values, not a number; name one of them");
  if (datum.shape->kind == Shape::Kind::floating) {
    number.floating = true;
    number.real = real_of(datum.bytes);
    return number;
  }
  number.is_signed = datum.shape->kind == Shape::Kind::signed_integer;
  number.signless = datum.shape->kind == Shape::Kind::integer;
  number.bits = extended(number.bits, number.width, number.is_signed);
  return number;
}

}  // namespace

Result<Number> number_in(Datum& datum, Environment& environment) {
  if (auto error = load(datum, environment)) return *error;
  Number number;
  std::memcpy(&number.bits, datum.bytes.data(), std::min(sizeof number.bits, datum.bytes.size()));
  number.width = static_cast<unsigned>(datum.bytes.size()) * 8;
  number.literal = datum.literal;
  if (datum.bit_size != 0) {
    const Type& type = (*datum.type.types)[datum.type.types->plain(datum.type.id)];
    number.width = datum.bit_size;
    number.is_signed = type.encoding == Encoding::signed_integer || type.encoding == Encoding::signed_char;
    number.bits = extended(number.bits >> datum.bit_offset, number.width, number.is_signed);
    return number;
  }
  if (datum.type) return typed_number(datum, number, word_of(environment));
  if (datum.shape) return shaped_number(datum, number);
  if (datum.text_literal) return problem("a string is no number");
  if (datum.floating) {
    number.floating = true;
    number.real = real_of(datum.bytes);
    return number;
  }
  if (datum.bits > 64 && datum.place == Datum::Place::reg)
    return problem("it is wider than 64 bits; name a part of it, as in xmm0.u64[1]");
  number.width = datum.bits;
  number.is_signed = datum.is_signed;
  number.signless = datum.signless;
  number.bits = extended(number.bits, number.width, number.is_signed);
  return number;
}

long double real_value(const Number& n) {
  if (n.floating) return n.real;
  return n.is_signed ? static_cast<long double>(static_cast<SignedWide>(n.bits)) : static_cast<long double>(n.bits);
}

void common_type(const Number& a, const Number& b, unsigned& width, bool& is_signed) {
  width = std::max({32U, a.width, b.width});
  const bool a_signed = a.is_signed || a.width < width, b_signed = b.is_signed || b.width < width;
  is_signed = a_signed && b_signed;
}

namespace {

/// Whether a literal is a number of `width` bits, signed or unsigned.
bool represented(const Number& literal, unsigned width) {
  return extended(literal.bits, width, false) == literal.bits ||
         (literal.is_signed && extended(literal.bits, width, true) == literal.bits);
}

std::string literal_text(const Number& literal) {
  return literal.is_signed ? std::to_string(static_cast<std::int64_t>(literal.bits))
                           : std::to_string(low_word(literal.bits));
}

}  // namespace

std::optional<Error> literal_that_does_not_fit(const ExpressionNode& node, const Number& a, const Number& b) {
  const bool shift = node.op == Op::shift_left || node.op == Op::shift_right;
  if (shift || a.literal == b.literal || a.floating || b.floating) return std::nullopt;
  const Number& literal = a.literal ? a : b;
  const Number& other = a.literal ? b : a;
  if (!other.signless || represented(literal, other.width)) return std::nullopt;
  const std::string& name = node.parts[a.literal ? 1 : 0]->text;
  return problem(literal_text(literal) + " does not fit " + std::to_string(other.width) + " bits, the width of " +
                 (name.empty() ? "the other side" : name));
}

namespace {

Result<Datum> real_binary(Op op, const Number& left, const Number& right) {
  if (left.signless || right.signless)
    return problem("a register and a floating-point number: say how the register is read, as in f64(rax) or i64(rax)");
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

std::optional<Datum> pointer_binary(Op op, const Number& left, const Number& right, unsigned word) {
  if (op != Op::add && op != Op::subtract) return std::nullopt;
  const TypeRef type = left.pointer ? left.pointer : right.pointer;
  debuginfo::Types& types = *type.types;
  const Type& pointer = types[types.plain(type.id)];
  const std::uint64_t size = std::max<std::uint64_t>(1, types.size(pointer.target));
  if (left.pointer && right.pointer) {
    if (op != Op::subtract) return std::nullopt;
    return integer(static_cast<Wide>(static_cast<SignedWide>(left.bits - right.bits) / static_cast<SignedWide>(size)),
                   64, true);
  }
  const Wide address = left.pointer ? left.bits : right.bits;
  const Wide distance = (left.pointer ? right.bits : left.bits) * size;
  Datum result = integer(op == Op::add ? address + distance : address - distance, word * 8, false);
  result.type = {&types, pointer.kind == Type::Kind::array ? types.pointer_to(pointer.target, word) : type.id};
  return result;
}

bool takes_sign_into_account(Op op) {
  return op == Op::divide || op == Op::modulo || (op >= Op::less && op <= Op::greater_equal);
}

Result<Datum> computed(Op op, const Number& a, const Number& b, unsigned width, bool is_signed, bool signless,
                       bool literal) {
  const Wide x = extended(a.bits, width, is_signed), y = extended(b.bits, width, is_signed);
  const auto sx = static_cast<SignedWide>(x), sy = static_cast<SignedWide>(y);
  Wide value = 0;
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
        value = static_cast<Wide>(op == Op::divide ? sx / sy : sx % sy);
      } else {
        value = op == Op::divide ? x / y : x % y;
      }
      break;
    case Op::shift_left: value = b.bits < width ? x << low_word(b.bits) : 0; break;
    case Op::shift_right:
      if (is_signed) {
        value = static_cast<Wide>(sx >> low_word(std::min<Wide>(b.bits, kWideBits - 1)));
      } else {
        value = b.bits < width ? x >> low_word(b.bits) : 0;
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
  if (auto error = literal_that_does_not_fit(node, a, b)) return *error;
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

}  // namespace

Result<Datum> arithmetic(const ExpressionNode& node, const Number& a, const Number& b, unsigned word) {
  if (a.floating || b.floating) return real_binary(node.op, a, b);
  if (a.pointer || b.pointer) {
    if (auto result = pointer_binary(node.op, a, b, word)) return *result;
  }
  return integer_binary(node, a, b);
}

}  // namespace deeptrace::inspect
