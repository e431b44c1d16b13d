// Values of optimised code against what the source's statements give.
//
// Compilers describe a value before the statement that gives it, leave out bits that nothing reads, and forget a
// statement. Where the text says which statements gave a variable its value, and what they use is still there, they are
// computed once more: a value that is another one is not shown.
#include <algorithm>
#include <cmath>
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

/// What a variable, one value of which is known, has after an assignment of a number; nothing where C leaves that open.
std::optional<Number> assigned(const Number& number, const Number& variable, bool boolean) {
  Number result = variable;
  if (variable.floating) {
    result.real = inspect::real_value(number);
  } else if (boolean) {
    result.bits = number.floating ? number.real != 0 : number.bits != 0;
  } else {
    const auto whole = number.floating ? inspect::integer_of(number, variable.width / 8) : Result(number.bits);
    if (!whole) return std::nullopt;
    result.bits = inspect::extended(*whole, variable.width, variable.is_signed);
  }
  return result;
}

Datum datum_of(const Number& number) {
  if (number.floating) return inspect::floating(static_cast<double>(number.real));
  return inspect::integer(number.bits, number.width, number.is_signed);
}

/// Of floating-point values compilers may keep more digits than the type has.
bool is_same(const Number& a, const Number& b) {
  constexpr long double kNear = 1e-5L;
  if (!a.floating) return a.bits == b.bits;
  return a.real == b.real || std::fabs(a.real - b.real) <= kNear * std::fabs(b.real) ||
         (std::isnan(a.real) && std::isnan(b.real));
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
  return number ? std::optional(*number) : std::nullopt;
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
  if (!way || !shown) return std::nullopt;
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
    const auto first = value ? assigned(*value, *shown, boolean) : std::nullopt;
    if (!first) return std::nullopt;
    possible.push_back(*first);
    line = passed.line;
  }
  Scope place(modules_, thread_, frame_);
  enter(place, *scope);
  for (const Assignments::Step& step : way->steps) {
    std::string text(step.value);
    if (!step.sign.empty()) text = variable.name + " " + std::string(step.sign) + " (" + text + ")";
    const auto value_of = [&](const Number* before) {
      if (before != nullptr) place.assumed_ = {variable.name, datum_of(*before)};
      const auto value = place.value_by_text(text, step.line, *scope);
      return value ? assigned(*value, *shown, boolean) : std::nullopt;
    };
    auto values = values_after(step, possible, value_of);
    if (!values) return std::nullopt;
    possible = std::move(*values);
    line = step.line;
  }
  if (possible.empty() || std::ranges::any_of(possible, [&](const Number& one) { return is_same(*shown, one); }))
    return std::nullopt;
  return Error{Fault::usage, "the compiler gives it another value than line " + std::to_string(line) + " does"};
}

}  // namespace deeptrace::look
