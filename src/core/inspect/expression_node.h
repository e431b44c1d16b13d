// The tree that the text of an expression is parsed into; inside inspect only.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "inspect/shape.h"

namespace deeptrace::inspect {

struct ExpressionNode {
  enum class Op : std::uint8_t {
    number,
    text,
    name,      ///< a variable or a register
    reg,       ///< reg:NAME
    variable,  ///< var:NAME
    argument,
    result,
    caller,
    memory,  ///< [SHAPE ADDRESS, COUNT]; `text` names a segment
    cast,    ///< (TYPE *…) EXPR
    shape_cast,
    size_of,
    member,
    arrow,
    call,  ///< of a member function: the object, then arguments; `value` is 1 where -> was written
    index,
    dereference,
    address_of,
    negate,
    plus,
    bit_not,
    logical_not,
    logical_and,
    logical_or,
    choose,
    multiply,
    divide,
    modulo,
    add,
    subtract,
    shift_left,
    shift_right,
    bit_and,
    bit_xor,
    bit_or,
    equal,
    not_equal,
    less,
    less_equal,
    greater,
    greater_equal,
  };
  Op op = Op::number;
  std::uint64_t value = 0;
  bool literal_signed = true;
  unsigned literal_bits = 32;  ///< of a number: as wide as C takes it
  std::optional<double> real;
  std::string text;
  std::optional<Shape> shape;
  unsigned stars = 0;  ///< of a cast
  std::vector<std::unique_ptr<ExpressionNode>> parts;
};

/// See Expression::parse.
Result<std::unique_ptr<ExpressionNode>> parse_expression(std::string_view text,
                                                         const std::function<bool(std::string_view)>& is_type,
                                                         std::size_t* at);

}  // namespace deeptrace::inspect
