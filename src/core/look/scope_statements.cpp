// Values of optimised code against what the source's statements give.
//
// Compilers describe a value before the statement that gives it, leave out bits that nothing reads, and forget a
// statement. Where the text says which statements gave a variable its value, and what they use is still there, they are
// computed once more: a value that is another one is not shown.
#include <algorithm>
#include <cmath>
#include <optional>
#include <string>
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
  constexpr std::size_t kMost = 16;
  const Type& plain = (*datum.type.types)[datum.type.types->plain(datum.type.id)];
  const std::vector<const debuginfo::LocalScope*> around = scopes_around();
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, around);
  if (plain.kind != Type::Kind::base || !datum.gaps.empty() || scope == nullptr) return std::nullopt;
  const ValueDoubts doubts = this->doubts();
  const auto way = doubts.statements_for(variable);
  Datum said = datum;
  const auto shown = inspect::number_in(said, *this);
  if (!way || !shown) return std::nullopt;
  const auto in_function_of = [&](const debuginfo::LocalScope& one) {
    Scope place(modules_, thread_, frame_);
    place.at_depth(static_cast<unsigned>(doubts.depth_of(one)));
    place.comparing_ = true;
    return place;
  };
  const bool boolean = plain.encoding == debuginfo::Encoding::boolean;
  std::vector<Number> possible;
  std::uint32_t line = 0;
  if (way->from_start) {
    const ValueDoubts::Passed passed = doubts.passed_for(variable);
    if (passed.value.empty()) return std::nullopt;
    Scope caller = in_function_of(*passed.caller);
    const auto value = caller.value_by_text(std::string(passed.value), passed.line, *passed.caller);
    const auto first = value ? assigned(*value, *shown, boolean) : std::nullopt;
    if (!first) return std::nullopt;
    possible.push_back(*first);
    line = passed.line;
  }
  Scope place = in_function_of(*scope);
  for (const Assignments::Step& step : way->steps) {
    std::string text(step.value);
    if (!step.sign.empty()) text = variable.name + " " + std::string(step.sign) + " (" + text + ")";
    std::vector<Number> values;
    const std::size_t times = step.uses_itself ? possible.size() : 1;
    for (std::size_t i = 0; i < times; ++i) {
      if (step.uses_itself) place.assumed_ = {variable.name, datum_of(possible[i])};
      const auto value = place.value_by_text(text, step.line, *scope);
      const auto after = value ? assigned(*value, *shown, boolean) : std::nullopt;
      if (!after) return std::nullopt;
      values.push_back(*after);
    }
    if (!step.certain) values.insert(values.end(), possible.begin(), possible.end());
    if (values.size() > kMost) return std::nullopt;
    possible = std::move(values);
    line = step.line;
  }
  if (possible.empty() || std::ranges::any_of(possible, [&](const Number& one) { return is_same(*shown, one); }))
    return std::nullopt;
  return Error{Fault::usage, "the compiler gives it another value than line " + std::to_string(line) + " does"};
}

}  // namespace deeptrace::look
