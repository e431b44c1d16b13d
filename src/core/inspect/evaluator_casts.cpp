// Casts, and the sizes of things.
#include <algorithm>
#include <cmath>
#include <cstring>

#include "base/number.h"
#include "inspect/evaluator.h"

namespace deeptrace::inspect {

using debuginfo::Encoding;
using debuginfo::Type;
using debuginfo::TypeId;
using Op = ExpressionNode::Op;

Result<Datum> Evaluator::cast(const ExpressionNode& node) {
  const auto type = type_of(node.text);
  if (!type) return problem("(" + node.text + (node.stars != 0 ? " *" : "") + "): no type of that name is known here");
  Result<Datum> datum = evaluate(*node.parts[0]);
  if (!datum) return datum;
  if (node.stars != 0) {
    const Result<Number> number = number_in(*datum, environment_);
    if (!number) return number.error();
    return pointer_cast(*type, node.stars, low_word(number->bits));
  }
  debuginfo::Types& types = *type->types;
  const Type& plain = types[types.plain(type->id)];
  const std::uint64_t size = types.size(type->id);
  if (plain.is_aggregate())
    return problem("(" + node.text + "): a value cannot be cast to a structure; cast a pointer");
  const Result<Number> number = number_in(*datum, environment_);
  if (!number) return number.error();
  Datum result;
  result.type = *type;
  result.loaded = true;
  if (plain.encoding == Encoding::floating) {
    const long double real = real_value(*number);
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
  const Result<Wide> bits = integer_of(*number, size);
  if (!bits) return problem(bits.error().message);
  result.bytes.resize(size);
  std::memcpy(result.bytes.data(), &*bits, std::min<std::size_t>(size, sizeof *bits));
  return result;
}

Result<Datum> Evaluator::pointer_cast(TypeRef target, unsigned stars, std::uint64_t value) {
  if (stars > 1) {
    Datum result = integer(value, pointer_size() * 8, false);
    result.shape = Shape{Shape::Kind::pointer, pointer_size()};
    return result;
  }
  Datum result = integer(value, pointer_size() * 8, false);
  result.type = {target.types, target.types->pointer_to(target.id, pointer_size())};
  return result;
}

Result<Datum> Evaluator::shape_cast(const ExpressionNode& node) {
  Result<Datum> datum = evaluate(*node.parts[0]);
  if (!datum) return datum;
  Shape shape = *node.shape;
  if (shape.kind == Shape::Kind::pointer) shape.size = pointer_size();
  const Result<Number> number = number_in(*datum, environment_);
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
    const long double real = real_value(*number);
    const auto narrow = static_cast<float>(real);
    const auto middle = static_cast<double>(real);
    std::memcpy(result.bytes.data(),
                shape.size == 4   ? static_cast<const void*>(&narrow)
                : shape.size == 8 ? &middle
                                  : static_cast<const void*>(&real),
                shape.size);
    return result;
  }
  const Result<Wide> bits = integer_of(*number, shape.size);
  if (!bits) return problem(bits.error().message);
  std::memcpy(result.bytes.data(), &*bits, std::min<std::size_t>(shape.size, 8));
  return result;
}

Result<Datum> Evaluator::size_of_node(const ExpressionNode& node) {
  if (node.parts.empty()) {
    const auto type = type_of(node.text);
    if (!type) return problem("sizeof: no type of the name " + node.text);
    return integer(node.stars != 0 ? pointer_size() : type->types->size(type->id), 64, false);
  }
  Result<Datum> datum = evaluate(*node.parts[0]);
  if (!datum) return datum;
  return integer(inspect::size_of(*datum, environment_), 64, false);
}

}  // namespace deeptrace::inspect
