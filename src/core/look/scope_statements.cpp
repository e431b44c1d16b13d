// Values of optimised code against what the source's statements give.
//
// Compilers describe a value before the statement that gives it, leave out bits that nothing reads, and forget a
// statement. Where the text says which statements gave a variable its value, and what they use is still there, they are
// computed once more: a value that is another one is not shown. Integers only: of floating-point numbers compilers and
// this arithmetic keep different digits.
#include <algorithm>
#include <functional>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "inspect/number.h"
#include "look/scope.h"

namespace deeptrace::look {

using debuginfo::LocalVariable;
using debuginfo::Type;
using inspect::Datum;
using inspect::Number;
using program::Assignments;

namespace {

/// What an integer variable, one value of which is known, has after an assignment of another integer.
Number assigned(const Number& number, const Number& variable, bool boolean) {
  Number result = variable;
  result.bits =
      boolean ? inspect::Wide(number.bits != 0) : inspect::extended(number.bits, variable.width, variable.is_signed);
  return result;
}

/// What a variable may be after a statement, from what it may have been before; `value_of` computes what the statement
/// gives, from one of those where it uses the variable itself. Nothing where one of them is not known.
std::optional<std::vector<Number>> values_after(
    const Assignments::Step& step, const std::vector<Number>& before,
    const std::function<std::optional<Number>(const Number* before)>& value_of) {
  constexpr std::size_t kMost = 16;
  std::vector<Number> values;
  for (std::size_t i = 0; i < (step.uses_itself ? before.size() : 1); ++i) {
    const auto value = value_of(step.uses_itself ? &before[i] : nullptr);
    if (!value) return std::nullopt;
    values.push_back(*value);
  }
  if (!step.certain) values.insert(values.end(), before.begin(), before.end());
  return values.size() <= kMost ? std::optional(std::move(values)) : std::nullopt;
}

}  // namespace

/// The value of an expression on a line of the function of a scope, if all that it uses is as it was there.
std::optional<Number> Scope::value_by_text(const std::string& text, std::uint32_t line,
                                           const debuginfo::LocalScope& scope) {
  const auto is_type = [&](std::string_view name) { return type_named(name).has_value(); };
  const auto expression = inspect::Expression::parse(text, is_type);
  const ValueDoubts doubts = this->doubts();
  const auto is_kept = [&](const std::string& name) {
    return (assumed_ && assumed_->first == name) || doubts.is_kept_since(line, name, scope);
  };
  if (!expression || !std::ranges::all_of(expression->names(), is_kept)) return std::nullopt;
  auto value = expression->evaluate(*this);
  const auto number = value ? inspect::number_in(*value, *this) : Result<Number>(value.error());
  return number && !number->floating ? std::optional(*number) : std::nullopt;
}

std::optional<Error> Scope::contradiction(const LocalVariable& variable, const Datum& datum) {
  const Type& plain = (*datum.type.types)[datum.type.types->plain(datum.type.id)];
  const std::vector<const debuginfo::LocalScope*> around = scopes_around();
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, around);
  if (plain.kind != Type::Kind::base || !datum.gaps.empty() || scope == nullptr) return std::nullopt;
  const ValueDoubts doubts = this->doubts();
  const auto way = doubts.statements_for(variable);
  Datum said = datum;
  const auto shown = inspect::number_in(said, *this);
  if (!way || !shown || shown->floating) return std::nullopt;
  const auto enter = [&](Scope& place, const debuginfo::LocalScope& one) {
    place.at_depth(static_cast<unsigned>(doubts.depth_of(one)));
    place.comparing_ = true;
  };
  const bool boolean = plain.encoding == debuginfo::Encoding::boolean;
  std::vector<Number> possible;
  std::uint32_t line = 0;
  if (way->from_start) {
    const ValueDoubts::Passed passed = doubts.passed_for(variable);
    if (passed.value.empty()) return std::nullopt;
    Scope caller(modules_, thread_, frame_);
    enter(caller, *passed.caller);
    const auto value = caller.value_by_text(std::string(passed.value), passed.line, *passed.caller);
    if (!value) return std::nullopt;
    possible.push_back(assigned(*value, *shown, boolean));
    line = passed.line;
  }
  Scope place(modules_, thread_, frame_);
  enter(place, *scope);
  for (const Assignments::Step& step : way->steps) {
    std::string text(step.value);
    if (!step.sign.empty()) text = variable.name + " " + std::string(step.sign) + " (" + text + ")";
    const auto value_of = [&](const Number* before) {
      if (before != nullptr)
        place.assumed_ = {variable.name, inspect::integer(before->bits, before->width, before->is_signed)};
      const auto value = place.value_by_text(text, step.line, *scope);
      return value ? std::optional(assigned(*value, *shown, boolean)) : std::nullopt;
    };
    auto values = values_after(step, possible, value_of);
    if (!values) return std::nullopt;
    possible = std::move(*values);
    line = step.line;
  }
  if (possible.empty() || std::ranges::any_of(possible, [&](const Number& one) { return one.bits == shown->bits; }))
    return std::nullopt;
  return Error{Fault::usage, "the compiler gives it another value than line " + std::to_string(line) + " does"};
}

}  // namespace deeptrace::look
