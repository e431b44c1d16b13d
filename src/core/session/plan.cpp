#include "session/plan.h"

#include <algorithm>
#include <cctype>

#include "abi/call_errors.h"
#include "base/outside.h"
#include "look/places.h"
#include "process/attention.h"

namespace deeptrace::session {
namespace {

/// The parts of a piece of a line, with their places in the line.
std::vector<Part> split(std::string_view text, std::size_t start, char separator) {
  std::vector<Part> parts = parts_between(text, [separator](char c) { return c == separator; });
  for (Part& part : parts) part.at += start;
  return parts;
}

class PlanReader {
 public:
  PlanReader(std::string path, std::string_view text) : text_(text) { plan_.path = std::move(path); }

  Result<Plan> read() {
    std::size_t at = 0;
    while (at <= text_.size()) {
      const std::size_t end = std::min(text_.find('\n', at), text_.size());
      ++line_;
      if (auto error = rule(text_.substr(at, end - at))) return *error;
      at = end + 1;
    }
    if (plan_.rules.empty()) return Error{Fault::usage, plan_.path + ": the plan has no rules"};
    return std::move(plan_);
  }

 private:
  Error wrong(std::size_t column, const std::string& expected) const {
    return {Fault::usage,
            plan_.path + ":" + std::to_string(line_) + ":" + std::to_string(column + 1) + ": expected " + expected};
  }

  std::optional<Error> rule(std::string_view line) {
    // A comment ends the line, unless it stands in quotes.
    std::size_t comment = line.size();
    outside(line, [&](std::size_t i, char c) {
      if (c != '#') return false;
      comment = i;
      return true;
    });
    line = line.substr(0, comment);
    const std::size_t first = line.find_first_not_of(" \t\r");
    if (first == std::string_view::npos) return std::nullopt;
    // The colon that ends the stop point has a blank after it, which those of locations and names do not; that of a
    // condition's `?` belongs to it.
    std::size_t choices = 0;
    std::size_t colon = std::string_view::npos;
    outside(line, [&](std::size_t i, char c) {
      const bool blank = i + 1 >= line.size() || std::isspace(static_cast<unsigned char>(line[i + 1])) != 0;
      if (c == '?') ++choices;
      if (c != ':' || !blank) return false;
      if (choices != 0) return --choices, false;
      colon = i;
      return true;
    });
    if (colon == std::string_view::npos) return wrong(line.size(), "': ' and actions after the stop point");
    PlanRule result;
    result.line = line_;
    std::size_t place = 0;
    Result<control::HaltRule> halt = control::parse_halt_rule(line.substr(first, colon - first), &place);
    if (!halt) {
      const std::string& message = halt.error().message;
      return wrong(first + place, message.substr(message.rfind("expected ") + 9));
    }
    result.halt = std::move(*halt);
    if (!result.halt.condition.empty()) {
      const std::size_t at = line.find(result.halt.condition);
      if (auto error = expression(result.halt.condition, at)) return error;
    }
    for (const Part& part : split(line.substr(colon + 1), colon + 1, ';')) {
      if (part.text.empty()) continue;
      if (auto error = action(part, result)) return error;
    }
    if (result.actions.empty()) return wrong(line.size(), "keep, show or expect");
    plan_.rules.push_back(std::move(result));
    return std::nullopt;
  }

  std::optional<Error> expression(std::string_view text, std::size_t column) const {
    std::size_t place = 0;
    const auto any_type = [](std::string_view) { return false; };
    const Result<inspect::Expression> parsed = inspect::Expression::parse(text, any_type, &place);
    if (parsed) return std::nullopt;
    const std::string& message = parsed.error().message;
    return wrong(column + place, message.substr(message.rfind("expected ") + 9));
  }

  std::optional<Error> action(const Part& part, PlanRule& rule) const {
    const std::size_t blank = std::min(part.text.find(' '), part.text.size());
    const std::string_view word = part.text.substr(0, blank);
    const std::size_t rest_at = part.at + std::min(blank + 1, part.text.size());
    const std::string_view rest = blank < part.text.size() ? part.text.substr(blank + 1) : std::string_view{};
    const bool of_call = rule.halt.how().by == control::HaltKind::By::system_call;
    if (word != "keep" && word != "show" && word != "expect" && (word != "answer" || !of_call))
      return wrong(part.at, of_call ? "keep, show, expect or answer" : "keep, show or expect");
    if (word == "answer" && !abi::result_in(rest)) return wrong(rest_at, "an error's name or a number after answer");
    if (rest.find_first_not_of(' ') == std::string_view::npos)
      return wrong(rest_at, "an expression after " + std::string(word));
    using Kind = PlanAction::Kind;
    if (word == "answer") {
      rule.actions.push_back({Kind::answer, std::string(rest)});
      return std::nullopt;
    }
    if (word == "show") {
      rule.actions.push_back({Kind::show, std::string(rest)});
      return std::nullopt;
    }
    if (word == "expect") {
      rule.actions.push_back({Kind::expect, std::string(rest)});
      return expression(rest, rest_at);
    }
    for (const Part& one : split(rest, rest_at, ',')) {
      if (one.text.empty()) return wrong(one.at, "an expression");
      if (auto error = expression(one.text, one.at)) return error;
      rule.actions.push_back({Kind::keep, std::string(one.text)});
    }
    return std::nullopt;
  }

  std::string_view text_;
  Plan plan_;
  std::size_t line_ = 0;
};

Error at_line(const Plan& plan, const PlanRule& rule, const Error& error) {
  return {error.fault, plan.path + ":" + std::to_string(rule.line) + ": " + error.message};
}

class Run {
 public:
  Run(const Plan& plan, PlanSink& sink) : plan_(plan), sink_(sink) {}

  Result<PlanSummary> run(control::ControlOptions options) {
    options.before_libraries = true;
    Result<std::unique_ptr<control::ProcessTree>> started = control::ProcessTree::start(options);
    if (!started) return started.error();
    tree_ = std::move(*started);
    for (const PlanRule& rule : plan_.rules) {
      const Result<unsigned> number = tree_->first().add(rule.halt);
      if (!number) return at_line(plan_, rule, number.error());
      numbers_.push_back(*number);
      reached_.push_back(false);
      if (auto error = check(rule)) return at_line(plan_, rule, *error);
    }
    sink_.begin(plan_, {tree_->first().path(),
                        options.attach != 0,
                        options.launch.randomise,
                        options.trace_children,
                        tree_->halts(),
                        {}});
    follow();
    for (std::size_t i = 0; i < plan_.rules.size(); ++i) {
      for (const PlanAction& action : plan_.rules[i].actions) {
        if (!reached_[i] && action.kind == PlanAction::Kind::expect)
          summary_.never.push_back({plan_.rules[i].line, action.text});
      }
    }
    sink_.end(summary_);
    return summary_;
  }

 private:
  /// What can never hold is an error of the plan.
  std::optional<Error> check(const PlanRule& rule) {
    look::Scope scope(tree_->first().modules(), tree_->first().view());
    const auto is_type = [&](std::string_view name) { return scope.type_named(name).has_value(); };
    for (const PlanAction& action : rule.actions) {
      if (action.kind == PlanAction::Kind::show || action.kind == PlanAction::Kind::answer) continue;
      const Result<inspect::Expression> expression = inspect::Expression::parse(action.text, is_type);
      if (!expression) return expression.error();
      if (auto error = expression->literals_fit(scope)) return error;
      if (rule.halt.kind != control::HaltRule::Kind::at) continue;
      const std::vector<control::HaltInfo> halts = tree_->first().halts();
      const bool is_condition = action.kind == PlanAction::Kind::expect;
      if (auto error = tree_->first().wrong_at(*expression, {&halts.back().number, 1}, is_condition)) return error;
    }
    return std::nullopt;
  }

  void follow() {
    for (;;) {
      const Result<look::Stopped> stopped = tree_->go({});
      if (!stopped) return;
      summary_.notes.insert(summary_.notes.end(), stopped->notes.begin(), stopped->notes.end());
      if (const auto end = end_of(tree_->first(), *stopped)) {
        summary_.end = *end;
        return;
      }
      for (const look::HaltHit& hit : stopped->hits) row(*stopped, hit);
    }
  }

  void row(const look::Stopped& stopped, const look::HaltHit& hit) {
    const auto found = std::ranges::find(numbers_, hit.halt);
    if (found == numbers_.end()) return;
    const auto index = static_cast<std::size_t>(found - numbers_.begin());
    const PlanRule& rule = plan_.rules[index];
    reached_[index] = true;
    PlanRow row;
    row.rule = &rule;
    const HitPlace place(*tree_, stopped, hit);
    row.hit = place.row;
    control::Control& control = tree_->current();
    look::Scope scope(control.modules(), control.view());
    if (hit.level) scope.at_depth(hit.level->depth);
    if (stopped.returned_from) scope.returned_from(*stopped.returned_from);
    if (rule.halt.how().by == control::HaltKind::By::system_call) scope.in_call_here();
    const auto is_type = [&](std::string_view name) { return scope.type_named(name).has_value(); };
    for (const PlanAction& action : rule.actions) {
      if (action.kind == PlanAction::Kind::answer) {
        const auto result = abi::result_in(action.text);
        if (result && control.process().answer_call(control.thread(), *result)) row.answer = action.text;
        continue;
      }
      if (action.kind == PlanAction::Kind::show) {
        row.shows.push_back(action.text);
        continue;
      }
      const Result<inspect::Expression> expression = inspect::Expression::parse(action.text, is_type);
      if (action.kind == PlanAction::Kind::keep) {
        inspect::Value value;
        Result<inspect::Datum> datum =
            expression ? expression->evaluate(scope, false) : Result<inspect::Datum>(expression.error());
        if (datum) {
          value = inspect::value_of(*datum, scope);
        } else {
          value.text = datum.error().message;
        }
        row.kept_names.push_back(action.text);
        row.hit.kept.push_back(std::move(value));
        continue;
      }
      Expected expected;
      expected.text = action.text;
      const Result<bool> holds = expression ? expression->holds(scope) : Result<bool>(expression.error());
      expected.holds = holds && *holds;
      if (!holds) expected.unknown = holds.error().message;
      if (expression) {
        if (auto sides = expression->sides(scope)) {
          expected.left = std::move(sides->first);
          expected.right = std::move(sides->second);
        }
      }
      ++(expected.holds ? summary_.held : summary_.failed);
      row.expected.push_back(std::move(expected));
    }
    ++summary_.rows;
    row.subject = &control;
    row.stopped = &stopped;
    sink_.row(row);
  }

  const Plan& plan_;
  PlanSink& sink_;
  std::unique_ptr<control::ProcessTree> tree_;
  std::vector<unsigned> numbers_;
  std::vector<bool> reached_;
  PlanSummary summary_;
};

}  // namespace

Result<Plan> parse_plan(std::string path, std::string_view text) { return PlanReader(std::move(path), text).read(); }

std::optional<Error> check_plan(const Plan& plan, const std::string& path, const program::OpenOptions& options) {
  Result<program::Program> program = program::Program::open(path, options);
  if (!program) return program.error();
  look::Module module;
  module.path = path;
  module.program = std::make_unique<program::Program>(std::move(*program));
  for (const PlanRule& rule : plan.rules) {
    using Kind = control::HaltRule::Kind;
    if (rule.halt.kind != Kind::at && rule.halt.kind != Kind::returns) continue;
    if (rule.halt.what.find(".so") != std::string::npos) continue;  // another module's
    const Result<look::StopPlaces> found = look::stop_places(module, rule.halt.what);
    if (!found) return at_line(plan, rule, found.error());
  }
  return std::nullopt;
}

Result<PlanSummary> run_plan(const Plan& plan, control::ControlOptions options, PlanSink& sink) {
  return Run(plan, sink).run(std::move(options));
}

}  // namespace deeptrace::session
