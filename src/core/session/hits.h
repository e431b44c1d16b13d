// The work of `hits`: a program runs with stop points, and at each hit what was asked for is kept: one row a hit.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "control/process_tree.h"
#include "inspect/value.h"
#include "look/card.h"
#include "session/run_end.h"

namespace deeptrace::session {

struct HitsRequest {
  control::ControlOptions control;
  std::vector<control::HaltRule> rules;
  std::vector<std::string> keep;       ///< expressions
  bool cards = false;                  ///< rows have them
  std::optional<std::uint64_t> count;  ///< rows at most; a launched program is ended then
  bool let_finish = false;             ///< it runs on without stop points instead
  std::string core_folder;             ///< each row writes a core file there; empty: none does
};

struct HitRow {
  unsigned halt = 0;
  std::uint64_t hit = 0;      ///< of this stop point, from 1
  std::uint64_t process = 1;  ///< from 1, in the order they were seen
  std::uint64_t thread = 0;   ///< of the process, likewise
  std::uint64_t address = 0;  ///< of the instruction that is about to run, or that wrote
  std::string_view function;  ///< with the offset in it; empty when unknown
  std::string_view inlined;   ///< the inlined function whose frame was reached; empty: that of `function`
  std::string_view file;      ///< empty when unknown
  std::uint32_t line = 0;
  std::string_view called_from;      ///< the own code that library code runs for, with its line; empty in own code
  std::vector<inspect::Value> kept;  ///< in the order asked for; Kind::unknown says why there is none
  std::optional<inspect::Value> before, after;      ///< of data stops
  std::string_view by;                              ///< who wrote, where it was no instruction; else empty
  std::optional<inspect::Value> thrown;             ///< the object of an exception, where its type is known
  const std::vector<std::string>* notes = nullptr;  ///< what else happened before this hit
  const look::Card* card = nullptr;                 ///< where cards were asked for
  std::string core;                                 ///< the path of the core file that was written; empty: none was
};

/// A row's own storage, and how a hit becomes one; used by plans too.
struct HitPlace {
  HitPlace(control::ProcessTree& tree, const look::Stopped& stopped, const look::HaltHit& hit);
  HitRow row;  ///< without kept values

 private:
  look::Where where_;
  std::string called_from_;
};

struct HitsStart {
  std::string_view program;
  bool attached = false;
  bool randomised = false;
  bool children = false;  ///< are traced too
  std::vector<control::HaltInfo> halts;
  std::vector<std::string> keep;
};

struct HitsSummary {
  RunEnd end;
  std::uint64_t rows = 0;
  std::vector<control::HaltInfo> halts;  ///< with all their hits
  std::vector<std::string> notes;        ///< after the last row
};

/// Receives the rows. Views hold during the call only.
class HitsSink {
 public:
  virtual ~HitsSink() = default;
  virtual void begin(const HitsStart& start) = 0;
  virtual void row(const HitRow& row) = 0;
  /// The program runs on without a hit: rows that were kept back can be shown.
  virtual void pause() {}
  virtual void end(const HitsSummary& summary) = 0;
};

/// What was said more than once is said once, with how often.
void count_notes(std::vector<std::string>& notes);

/// How a run ended, when a motion ended it: the program is gone, or we were interrupted.
std::optional<RunEnd> end_of(const control::Control& control, const look::Stopped& stopped);

/// Runs the program to its end, or until it is interrupted. Errors before the first row: unknown locations and names, a
/// malformed expression, a program that cannot be run.
Result<HitsSummary> hits(HitsRequest request, HitsSink& sink);

}  // namespace deeptrace::session
