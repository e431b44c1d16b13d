// Plans: stop points, what to keep at each, what to expect, as a file that can be run again.
//
//   # comment
//   at level_sum: keep log->count; show stack
//   at levels.c:34 from hit 3 when i < 5: keep i, sum; expect sum == 2925
//   on write log.count: expect log.count <= 64
//
// One rule a line: a stop point as after `halt` in the console, a colon and a blank, then actions with semicolons
// between: keep EXPR, …; show WORDS (stack, frames, regs, vars, flags, code, why, or an expression); expect EXPR. Of
// `on syscall` also answer ERROR or a number: the call is not made, and gives that.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "session/hits.h"

namespace deeptrace::session {

struct PlanAction {
  enum class Kind : std::uint8_t { keep, show, expect, answer };
  Kind kind = Kind::keep;
  std::string text;  ///< the expression or words
};

struct PlanRule {
  std::size_t line = 0;  ///< in the file, from 1
  control::HaltRule halt;
  std::vector<PlanAction> actions;
};

struct Plan {
  std::string path;
  std::vector<PlanRule> rules;
};

/// Errors (Fault::usage) say line, column and what was expected.
Result<Plan> parse_plan(std::string path, std::string_view text);

/// Every location of a plan in the program's file, without running it.
std::optional<Error> check_plan(const Plan& plan, const std::string& program, const program::OpenOptions& options);

/// How an expectation came out at one hit.
struct Expected {
  std::string text;
  bool holds = false;
  std::string unknown;  ///< it could not be evaluated: why
  /// Both sides where it compares two.
  std::optional<inspect::Value> left, right;
};

struct PlanRow {
  const PlanRule* rule = nullptr;
  HitRow hit;  ///< with the values of `keep`
  std::vector<std::string> kept_names;
  std::vector<Expected> expected;
  std::string answer;              ///< what the system call gives in place of being made; empty: it is made
  std::vector<std::string> shows;  ///< words to be shown here, of what is looked at:
  look::Subject* subject = nullptr;
  const look::Stopped* stopped = nullptr;
};

struct PlanSummary {
  RunEnd end;
  std::uint64_t rows = 0, held = 0, failed = 0;
  struct Missed {
    std::size_t line;
    std::string text;
  };
  std::vector<Missed> never;  ///< expectations that were never reached
  std::vector<std::string> notes;
  [[nodiscard]] bool fine() const { return failed == 0 && never.empty(); }
};

class PlanSink {
 public:
  virtual ~PlanSink() = default;
  virtual void begin(const Plan& plan, const HitsStart& start) = 0;
  /// It stands still meanwhile.
  virtual void row(const PlanRow& row) = 0;
  virtual void end(const PlanSummary& summary) = 0;
};

/// Runs the program with the plan, to its end.
Result<PlanSummary> run_plan(const Plan& plan, control::ControlOptions options, PlanSink& sink);

}  // namespace deeptrace::session
