// The work of `lines`: source lines to instructions, and back.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "isa/text.h"
#include "program/inlining.h"
#include "program/program.h"

namespace deeptrace::study {

struct LinesRequest {
  /// A source file's name, or the end of its path; empty: all own sources. Or a function: the lines that its code, its
  /// clones and its inlined copies stand on.
  std::string source;
  std::uint32_t from = 0;  ///< 0: all lines that have instructions
  std::uint32_t to = 0;
  isa::Syntax syntax = isa::Syntax::intel;

  /// Reads SOURCE, SOURCE:N or SOURCE:N..M. Errors (Fault::usage): no such form.
  static Result<LinesRequest> parse(std::string_view text);
};

struct LineInstruction {
  std::uint64_t address = 0;
  std::string text;
  std::string target;  ///< what it refers to; empty when nothing is known
};

/// Instructions of a line that follow each other.
struct LineRange {
  AddressRange range;       ///< in an object file: within its section
  std::uint64_t start = 0;  ///< where the program has them
  std::string_view section;
  std::string_view function;
  std::size_t instructions = 0;
  bool statement = true;                  ///< the compiler recommends its start for stopping
  bool prologue_end = false;              ///< the prologue of the function ends where it starts
  std::vector<LineInstruction> code;      ///< only where lines were asked for by number
  std::vector<program::Inlined> inlined;  ///< the calls that it stands in, outermost first
};

/// Where a line begins without having an instruction: those that begin there belong to a later line.
struct LinePlace {
  std::uint64_t address = 0;  ///< in an object file: within its section
  std::string_view function;
  std::uint32_t line = 0;  ///< the line whose instruction begins there; 0: none
};

struct LineEntry {
  std::string_view file;
  std::uint32_t line = 0;
  std::vector<LineRange> ranges;  ///< empty: no instructions belong to the line
  std::size_t instructions = 0;
  std::uint64_t bytes = 0;
  /// Where control comes to the line (program/line_entries.h), in an object file within its section; only where lines
  /// were asked for by number.
  std::vector<std::uint64_t> entered;
  std::vector<LinePlace> places;  ///< of a line without instructions
  std::uint32_t nearest =
      0;  ///< of a line without instructions: the next one that has some, or else the last before; 0: none
};

class LinesSink {
 public:
  virtual ~LinesSink() = default;
  virtual void begin(const program::Program& program, std::size_t lines) = 0;
  virtual void line(const LineEntry& row) = 0;
  virtual void end() = 0;
};

/// Gives how many of the lines have instructions. Errors (Fault::usage): no such source file or function; no line
/// tables.
Result<std::size_t> list_lines(const program::Program& program, const LinesRequest& request, bool all, LinesSink& sink);

/// Where an address came from.
struct AddressOrigin {
  std::uint64_t address = 0;
  std::string function;      ///< empty when unknown
  std::uint64_t offset = 0;  ///< bytes from its start
  std::string_view file;     ///< empty when unknown
  std::uint32_t line = 0;
  bool statement = false;                     ///< the compiler recommends stopping here
  bool prologue_end = false;                  ///< the prologue of the function ends here
  std::vector<debuginfo::SourceLine> passed;  ///< lines that begin here too, but have no instruction here
  bool starts_instruction = true;             ///< the address is where an instruction begins
  std::uint64_t instruction = 0;              ///< the one that holds it
  std::vector<program::Inlined> inlined;      ///< outermost first
};

/// Errors (Fault::usage): the location stands for nothing, or no code is there.
Result<std::vector<AddressOrigin>> origins_of(const program::Program& program, program::Inlining& inlining,
                                              std::string_view location);

}  // namespace deeptrace::study
