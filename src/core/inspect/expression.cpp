#include "inspect/expression.h"

#include <algorithm>
#include <cstring>

#include "inspect/evaluator.h"
#include "inspect/type_check.h"

namespace deeptrace::inspect {
namespace {

using Op = ExpressionNode::Op;

void collect_names(const ExpressionNode& node, std::vector<std::string>& out) {
  if (node.op == Op::name || node.op == Op::variable) out.push_back(node.text);
  for (const auto& part : node.parts) collect_names(*part, out);
}

bool has_result(const ExpressionNode& node) {
  return node.op == Op::result || std::ranges::any_of(node.parts, [](const auto& part) { return has_result(*part); });
}

}  // namespace

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
  const bool named = error.message.starts_with(text_ + ": ");
  return {error.fault, named ? error.message : text_ + ": " + error.message};
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

std::optional<Error> Expression::literals_fit(Environment& environment) const {
  const auto error = Evaluator(environment, false).literals_fit(*root_);
  return error ? std::optional(named(*error)) : std::nullopt;
}

std::optional<Error> Expression::type_error(const std::function<std::optional<TypeRef>(std::string_view)>& type_of_name,
                                            bool is_condition) const {
  const auto error = inspect::type_error(*root_, type_of_name, is_condition);
  return error ? std::optional(named(*error)) : std::nullopt;
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
    if (size >= 1 && size <= sizeof(Wide)) {
      Wide value = 0;
      std::memcpy(&value, literal->bytes.data(), std::min(sizeof value, literal->bytes.size()));
      *literal = integer(extended(value, literal->bits, literal->is_signed), static_cast<unsigned>(size) * 8,
                         literal->is_signed);
    }
  }
  return std::pair(value_of(*left, environment), value_of(*right, environment));
}

std::vector<std::string> Expression::names() const {
  std::vector<std::string> result;
  collect_names(*root_, result);
  return result;
}

bool Expression::uses_result() const { return has_result(*root_); }

}  // namespace deeptrace::inspect
