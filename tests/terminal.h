// Programs on a terminal of some width, as their user sees them.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "support.h"

namespace deeptrace::tests {

struct Terminal {
  unsigned short columns = 80;
  bool utf8 = false;               ///< the locale's character set; otherwise ASCII
  std::filesystem::path folder{};  ///< the program runs there; empty: where we do
  std::filesystem::path input{};   ///< its standard input; empty: nothing
};

/// Runs a program with a pseudo-terminal for its standard output and error, and few environment variables, so that what
/// it writes is the same everywhere. Line ends are as the program wrote them.
Outcome on_terminal(const std::vector<std::string>& words, const Terminal& terminal);

/// The text without the escape sequences of colours (ECMA-48, 8.3.117).
std::string without_colours(const std::string& text);

}  // namespace deeptrace::tests
