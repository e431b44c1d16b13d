// What `survey --check` finds: functions whose code does not keep the rules of the calling convention, on whichever way
// through them. Nothing is run.
//
// The rules are those of look/convention_checks.h. What a way through the code does is followed as far as it is
// certain: what cannot be followed is not reported.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "program/program.h"

namespace deeptrace::study {

struct ConventionFinding {
  std::string kind;  ///< "stack_misaligned" and so on: docs/formats/survey.md has them all
  std::string text;
  std::vector<std::string> evidence;
  std::string function;       ///< its name
  std::uint64_t address = 0;  ///< of the instruction
  std::string file;           ///< empty when unknown
  std::uint32_t line = 0;
  bool note = false;  ///< nobody was seen to rely on it
};

/// All own functions of a file, by address.
std::vector<ConventionFinding> check_conventions(const program::Program& program);

}  // namespace deeptrace::study
