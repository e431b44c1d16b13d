// The work of `compare`: two builds of functions laid side by side, and what differs between whole files.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "isa/text.h"
#include "program/frame.h"
#include "program/program.h"
#include "study/explain_frame.h"

namespace deeptrace::study {

struct CompareRequest {
  std::vector<std::string> where;  ///< functions; empty: all own functions of both files
  bool all = false;                ///< those of libraries and start-up code too
  bool frames = false;             ///< how each build of a function that was asked for builds its frame, too
  isa::Syntax syntax = isa::Syntax::intel;
  bool own_is_said = false;  ///< what is own was said: then all is not compared where nothing is
};

/// How the two sides of a row stand to each other.
enum class Difference : std::uint8_t {
  same,        ///< the same but for where code and data lie
  allocation,  ///< the same work in other registers or stack slots
  changed,     ///< the same operation with other operands
  only_a,
  only_b,
  moved,  ///< only here, but the same instruction stands elsewhere on the other side
};

struct ComparedInstruction {
  bool present = false;
  std::uint64_t address = 0, offset = 0;
  std::string text;
  std::string target;  ///< what it refers to; empty when nothing is known
  std::uint32_t line = 0;
};

struct ComparedRow {
  Difference difference = Difference::same;
  ComparedInstruction a, b;
};

/// One build of a function.
struct FunctionFacts {
  std::uint64_t address = 0;
  std::uint64_t size = 0;  ///< bytes
  std::size_t instructions = 0;
  program::FrameShape frame;
  std::vector<std::string> calls;           ///< what it calls, each once, in order; tail calls too
  std::optional<ExplainedFrame> explained;  ///< only where frames were asked for
};

struct ComparedFunction {
  std::string name;
  std::optional<FunctionFacts> a, b;         ///< nothing where one file does not have it
  std::string name_in_b;                     ///< where it goes by another there: a clone
  std::size_t inlined_a = 0, inlined_b = 0;  ///< where a file does not have it as such: copies in other functions
  bool by_content = false;                   ///< it has no name on one side: what it does is alike
  bool same = true;                          ///< nothing but layout and allocation differs
  std::size_t counts[6] = {};                ///< of rows, by Difference
  std::vector<ComparedRow> rows;             ///< only where functions were asked for
};

struct CompareSummary {
  std::size_t functions = 0, same = 0, changed = 0, only_a = 0, only_b = 0;
  std::uint64_t bytes_a = 0, bytes_b = 0;
  std::size_t by_content = 0;                ///< functions that were brought together by what they do
  std::size_t unnamed_a = 0, unnamed_b = 0;  ///< functions without a name that have nothing like them on the other side
  bool all = false;                          ///< all code was compared, as one of the files has none of its own
};

class CompareSink {
 public:
  virtual ~CompareSink() = default;
  virtual void begin(const program::Program& a, const program::Program& b, bool whole_files) = 0;
  virtual void function(const ComparedFunction& function) = 0;
  virtual void end(const CompareSummary& summary) = 0;
};

std::string_view name_of(Difference difference);

/// Errors (Fault::usage): a function that neither file has.
Result<CompareSummary> compare(const program::Program& a, const program::Program& b, const CompareRequest& request,
                               CompareSink& sink);

}  // namespace deeptrace::study
