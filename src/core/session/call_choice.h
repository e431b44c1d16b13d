// Which system calls a run is asked to show, and the kernel filter that stops a program for these alone.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "process/call_filter.h"

namespace deeptrace::session {

struct CallChoice {
  std::vector<std::string> only, except;  ///< names; empty: all, none

  [[nodiscard]] bool all() const { return only.empty() && except.empty(); }
  [[nodiscard]] bool has(std::string_view name) const;
  /// An error (Fault::usage) for a name that no call has.
  [[nodiscard]] std::optional<Error> check() const;
  /// The filter for it; mappings of files stop the program too, as they bring code. Where all are wanted there is none.
  [[nodiscard]] std::optional<process::CallFilter> filter() const;
};

}  // namespace deeptrace::session
