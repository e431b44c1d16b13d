// The one function of a file that a name means.
#pragma once

#include <string>
#include <string_view>

#include "base/result.h"
#include "program/program.h"

namespace deeptrace::study {

/// Of several that the name means in full, the first. Errors (Fault::usage): there is none; the name could be each of
/// several.
inline Result<const program::Function*> one_function(const program::Program& program, std::string_view name) {
  const auto meant = program.functions_meant(name);
  if (!meant.functions.empty()) return meant.functions.front();
  const std::string why = meant.ambiguous() ? meant.words() : "is no function of it";
  return Error{Fault::usage, program.elf().path() + ": " + std::string(name) + " " + why};
}

}  // namespace deeptrace::study
