// Which code is the developer's own: shown first everywhere, and the only code that `steps` goes into.
//
// With debug information: functions whose source lies outside the system's include and library source directories,
// in a module outside the system's library directories. Without: all of the program's file but the start-up
// scaffolding that every C program is linked with.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace deeptrace::program {

struct OwnCode {
  bool all = false;                ///< everything counts as own
  std::vector<std::string> paths;  ///< when given: only sources and modules below one of these
};

/// True when a module's path lies in one of the system's library directories.
bool in_system_libraries(std::string_view module_path);

/// True when a source path lies in one of the system's include or library source directories.
bool in_system_sources(std::string_view source_path);

/// True for the names of the start-up code that compilers link into a program. `_start` counts only when
/// `with_c_start` says that a C start-up calls `main`; an assembly program's `_start` is its own.
bool is_scaffolding(std::string_view function, bool with_c_start);

/// Decides for one function. `source` is empty when debug information gives none; `has_lines` tells whether the
/// module has line tables at all.
bool is_own(const OwnCode& rule, std::string_view module_path, bool has_lines, std::string_view source,
            std::string_view function, bool with_c_start);

}  // namespace deeptrace::program
