// How a program is started for tracing.
#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "base/result.h"

namespace deeptrace::process {

struct LaunchOptions {
  std::string program;                                           ///< a path, or a name to look up (see find_program)
  std::vector<std::string> arguments;                            ///< behind the program's own name
  std::string input;                                             ///< file for standard input; empty: ours
  std::string folder;                                            ///< working directory; empty: ours
  std::vector<std::pair<std::string, std::string>> environment;  ///< set in addition to ours
  bool randomise = false;                                        ///< keep address-space randomisation
  int output = -1;                                               ///< descriptor for its standard output; -1: ours
};

/// The path of a program: words with a slash as they are, others in the current folder, then in PATH. Errors
/// (Fault::program) when there is none or it may not be executed.
Result<std::string> find_program(const std::string& word);

}  // namespace deeptrace::process
