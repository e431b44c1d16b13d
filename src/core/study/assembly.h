// The work of `listing --format assembler`: code as source for GNU as.
//
// Ranges are written one after the other, so that the bytes of the object that the assembler makes are the bytes of
// the file. Targets inside a range have labels; everything else is a number relative to the range's first label, and
// no relocation is left (`--exact`).
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "isa/text.h"
#include "program/program.h"

namespace deeptrace::study {

struct AssemblyRequest {
  std::vector<std::string> where;  ///< locations; empty: all own functions
  isa::Syntax syntax = isa::Syntax::intel;
  bool data_as_code = false;  ///< data among code is decoded like everything else
};

/// How many instructions needed what: see isa::Form.
struct AssemblySummary {
  std::size_t instructions = 0;
  std::size_t padding = 0;
  std::size_t late_symbols = 0;
  std::size_t prefixes_apart = 0;
  std::size_t as_bytes = 0;
  std::size_t undecoded = 0;  ///< bytes at which no instruction starts
  std::size_t data = 0;       ///< bytes of data among code
};

/// Receives the source line by line, without line ends.
class AssemblySink {
 public:
  virtual ~AssemblySink() = default;
  virtual void line(std::string_view text) = 0;
};

/// Writes the source. Errors: a location that stands for nothing.
Result<AssemblySummary> write_assembly(const program::Program& program, const AssemblyRequest& request,
                                       AssemblySink& sink);

}  // namespace deeptrace::study
