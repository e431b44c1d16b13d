// What a person sets once for every command, in files (TOML):
//
//   syntax = "att"
//   own = ["/opt/tide/src"]
//   source-moved = ["/build/tide=/opt/tide/src"]
//
// The keys are names of options. An option on the command line comes first, then `.deeptrace.toml` in the current
// folder, then `deeptrace/config.toml` in the user's configuration folder (XDG Base Directory Specification), then the
// default; lists add up. DEEPTRACE_CONFIG names a file to be read in place of both; empty: none is.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"

namespace deeptrace::cli {

struct Setting {
  std::string option;
  std::vector<std::string> values;  ///< of a flag that is on: none
  bool list = false;                ///< those of several files add up
  bool off = false;                 ///< a flag that another file may have switched on
};

/// Of all files, those that count least first. Errors (Fault::usage): a file that cannot be read or parsed, a key that
/// is no option, or not one of those that may be set here, a value of another type.
Result<std::vector<Setting>> configured();

}  // namespace deeptrace::cli
