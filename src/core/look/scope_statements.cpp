// Values of optimised code against what the source's statements give.
//
// Compilers describe a value before the statement that gives it, leave out bits that nothing reads, and forget a
// statement. Where the text says which statements gave a variable its value, and what they use is still there, or
// follows from statements itself, they are computed once more: a value that is another one is not shown, nor one that
// the compiler computes where that cannot be confirmed.
#include <algorithm>
#include <cmath>
#include <cstring>
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

/// Statements of which one uses what another one gave are followed so far.
constexpr unsigned kMostStatements = 6;

/// A number or address of a variable's type, whose value counts for nothing; nothing for what is neither.
std::optional<Number> number_like(const Type& plain, std::uint64_t size) {
  using debuginfo::Encoding;
  if ((plain.kind != Type::Kind::base && plain.kind != Type::Kind::pointer) || size == 0 || size > 16)
    return std::nullopt;
  Number number;
  number.width = static_cast<unsigned>(size * 8);
  number.floating = plain.encoding == Encoding::floating;
  number.is_signed = plain.encoding == Encoding::signed_integer || plain.encoding == Encoding::signed_char;
  if (plain.encoding == Encoding::boolean) number.width = 1;
  return number;
}

/// What a variable has after an assignment of another number (ISO C 6.3.1); nothing where C leaves that open.
std::optional<Number> assigned(const Number& number, const Number& variable) {
  Number result = variable;
  if (variable.floating) {
    result.real = inspect::real_value(number);
    if (variable.width == 32) result.real = static_cast<float>(result.real);
    if (variable.width == 64) result.real = static_cast<double>(result.real);
  } else if (variable.width == 1) {
    result.bits = inspect::Wide(number.floating ? number.real != 0 : number.bits != 0);
  } else if (number.floating) {
    const auto whole = inspect::integer_of(number, variable.width / 8);
    if (!whole) return std::nullopt;
    result.bits = inspect::extended(*whole, variable.width, variable.is_signed);
  } else {
    result.bits = inspect::extended(number.bits, variable.width, variable.is_signed);
  }
  return result;
}

/// Floating-point numbers may differ in their last digits: processor, compiler and we do not round at the same places.
bool agree(const Number& a, const Number& b) {
  constexpr long double kDigits = 1e-4L;
  if (!a.floating) return a.bits == b.bits;
  if (std::isnan(a.real) || std::isnan(b.real)) return std::isnan(a.real) == std::isnan(b.real);
  return a.real == b.real || std::fabs(a.real - b.real) <= kDigits * std::max(std::fabs(a.real), std::fabs(b.real));
}

Datum datum_of(const Number& number) {
  if (number.pointer) {
    Datum address;
    address.type = number.pointer;
    address.loaded = true;
    address.bytes.resize(number.width / 8);
    std::memcpy(address.bytes.data(), &number.bits, std::min(sizeof number.bits, address.bytes.size()));
    return address;
  }
  return number.floating ? inspect::floating(static_cast<double>(number.real))
                         : inspect::integer(number.bits, std::max(8U, number.width), number.is_signed);
}

/// What a variable may be after a statement, from what it may have been before; `value_of` computes what the statement
/// gives, from one of those where it uses the variable itself. Empty where one of them is not known.
std::vector<Number> values_after(const Assignments::Step& step, const std::vector<Number>& before,
                                 const std::function<std::optional<Number>(const Number* before)>& value_of) {
  constexpr std::size_t kMost = 16;
  std::vector<Number> values;
  for (std::size_t i = 0; i < (step.uses_itself ? before.size() : 1); ++i) {
    const auto value = value_of(step.uses_itself ? &before[i] : nullptr);
    if (!value) return {};
    values.push_back(*value);
  }
  if (!step.certain) values.insert(values.end(), before.begin(), before.end());
  return values.size() <= kMost ? values : std::vector<Number>();
}

}  // namespace

/// The value of an expression on a line of the function of a scope, if all that it uses is as it was there.
std::optional<Number> Scope::value_by_text(const std::string& text, std::uint32_t line,
                                           const debuginfo::LocalScope& scope) {
  const auto is_type = [&](std::string_view name) { return type_named(name).has_value(); };
  const auto expression = inspect::Expression::parse(text, is_type);
  const ValueDoubts doubts = this->doubts();
  const auto is_other = [&](const std::string& name) { return !doubts.is_local(name, scope); };
  elsewhere_ = elsewhere_ || !expression || std::ranges::any_of(expression->names(), is_other);
  if (!expression) return std::nullopt;
  const bool address = text.starts_with('&') && expression->names().size() == 1;
  const auto is_kept = [&](const std::string& name) {
    return address || (assumed_ && assumed_->first == name) || doubts.is_kept_since(line, name, scope);
  };
  if (!std::ranges::all_of(expression->names(), is_kept)) return std::nullopt;
  auto value = expression->evaluate(*this);
  const auto number = value ? inspect::number_in(*value, *this) : Result<Number>(value.error());
  return number ? std::optional(*number) : std::nullopt;
}

/// What a parameter was at the call; nothing where the text of the call is not known.
std::optional<Scope::ByText> Scope::passed_by_text(const LocalVariable& parameter, const Number& like) {
  const ValueDoubts doubts = this->doubts();
  const auto argument = doubts.argument_of(parameter);
  constexpr unsigned kMostCalls = 1;  // each asks for frames
  std::optional<inspect::Frame> frame;
  if (argument && argument->inlined) {
    frame = frame_;
  } else if (argument && calls_away_ < kMostCalls) {
    frame = calling_frame();
  }
  if (!frame) return std::nullopt;
  Scope caller(modules_, thread_, *frame);
  if (caller.module_ == nullptr) return std::nullopt;
  const auto passed = argument->inlined ? doubts.passed_for(parameter) : caller.doubts().passed_here(*argument);
  if (passed.line == 0) return std::nullopt;
  if (passed.value.empty()) return ByText{.line = passed.line};
  if (argument->inlined) caller.at_depth(static_cast<unsigned>(doubts.depth_of(*passed.caller)));
  caller.comparing_ = comparing_ + 1;
  caller.calls_away_ = calls_away_ + (argument->inlined ? 0 : 1);
  const auto value = caller.value_by_text(std::string(passed.value), passed.line, *passed.caller);
  if (caller.elsewhere_) return std::nullopt;
  ByText result{.line = passed.line, .unsure = caller.unsure_};
  if (const auto number = value ? assigned(*value, like) : std::nullopt) result.possible.push_back(*number);
  return result;
}

std::optional<Scope::ByText> Scope::by_statements(const LocalVariable& variable) {
  debuginfo::Types& types = Modules::debug(*module_).types;
  const auto typed = module_->program->debug().read(variable.type);
  if (!typed || comparing_ >= kMostStatements) return std::nullopt;
  const debuginfo::TypeId type = types.plain(types.of(*typed));
  auto like = number_like(types[type], types.size(type));
  if (like && types[type].kind == Type::Kind::pointer) like->pointer = {&types, type};
  const std::vector<const debuginfo::LocalScope*> around = scopes_around();
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, around);
  const ValueDoubts doubts = this->doubts();
  const auto way = like && scope != nullptr ? doubts.statements_for(variable) : std::nullopt;
  if (!way) return std::nullopt;
  // gcc describes counters and variables whose address was taken well enough.
  if (way->mixed != 0 && (way->counted || way->addressed) && variable.entry.unit->is_of_gcc()) return std::nullopt;
  if (way->mixed != 0) return ByText{.line = way->mixed, .mixed = true, .repeated = way->repeated};
  ByText result;
  if (way->from_start) {
    const auto passed = passed_by_text(variable, *like);
    if (!passed || passed->possible.empty()) return passed;
    result = *passed;
  }
  Scope place(modules_, thread_, frame_);
  place.at_depth(static_cast<unsigned>(doubts.depth_of(*scope)));
  place.without_callers_ = without_callers_;
  place.comparing_ = comparing_ + 1;
  place.calls_away_ = calls_away_;
  for (const Assignments::Step& step : way->steps) {
    std::string text(step.value);
    if (!step.sign.empty()) text = variable.name + " " + std::string(step.sign) + " (" + text + ")";
    const auto value_of = [&](const Number* before) {
      if (before != nullptr) place.assumed_ = {variable.name, datum_of(*before)};
      const auto value = place.value_by_text(text, step.line, *scope);
      return value ? assigned(*value, *like) : std::nullopt;
    };
    result.possible = values_after(step, result.possible, value_of);
    result.line = step.line;
    if (result.possible.empty()) break;
  }
  if (place.elsewhere_) return std::nullopt;
  result.unsure = result.unsure || place.unsure_;
  return result;
}

std::optional<Datum> Scope::only_value(const LocalVariable& variable) {
  const auto found = by_statements(variable);
  if (!found || found->possible.size() != 1) return std::nullopt;
  unsure_ = unsure_ || found->unsure;
  return datum_of(found->possible[0]);
}

bool Scope::needs_text(const Described& described, const ByText& found, const LocalVariable& variable) const {
  using How = Described::How;
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, scopes_around());
  const bool called = variable.parameter && scope != nullptr;
  const bool inlined = called && doubts().depth_of(*scope) != 0;
  switch (described.how) {
    // clang keeps of what an inlined call is given the bits that are used.
    case How::place: return inlined && !found.mixed && !variable.entry.unit->is_of_gcc();
    case How::computed: return true;
    // A compiler that unrolls a loop may take the number of another pass.
    case How::number: return !found.mixed || found.repeated;
    // What the caller's debug information says is good for a parameter, not for what was computed from it.
    case How::passed: break;
  }
  return !called || inlined;
}

std::optional<Scope::Doubt> Scope::by_text(const LocalVariable& variable, const Described& described) {
  const auto found = described.datum.gaps.empty() ? by_statements(variable) : std::nullopt;
  if (!found) return std::nullopt;
  const std::string line = "line " + std::to_string(found->line);
  if (!found->possible.empty()) {
    Datum said = described.datum;
    const auto shown = inspect::number_in(said, *this);
    const auto is_it = [&](const Number& one) { return agree(one, *shown); };
    if (shown && std::ranges::none_of(found->possible, is_it))
      return Doubt{{Fault::usage, "the compiler gives it another value than " + line + " does"}, true};
  }
  const Type& plain = (*described.datum.type.types)[described.datum.type.types->plain(described.datum.type.id)];
  if (plain.kind != Type::Kind::base) return std::nullopt;
  if (!needs_text(described, *found, variable)) return std::nullopt;
  if (!found->possible.empty() && !found->unsure) return std::nullopt;
  const std::string why = described.how == Described::How::place
                              ? "the compiler may keep a part of it only: " + line + " does not confirm it"
                              : "the compiler gives it a computed value, which " + line + " does not confirm";
  return Doubt{{Fault::usage, why}, false};
}

}  // namespace deeptrace::look
