// How a program is started for tracing.
#pragma once

#include <sys/types.h>

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "base/result.h"
#include "process/call_filter.h"
#include "process/stop_bytes.h"

namespace deeptrace::process {

struct LaunchOptions {
  std::string program;                                           ///< a path, or a name to look up (see find_program)
  std::vector<std::string> arguments;                            ///< after the program's own name
  std::string input;                                             ///< file for standard input; empty: ours
  std::string folder;                                            ///< working directory; empty: ours
  std::vector<std::pair<std::string, std::string>> environment;  ///< set in addition to ours
  bool randomise = false;                                        ///< keep address-space randomisation
  int output = -1;                                               ///< descriptor for its standard output; -1: ours
  std::optional<CallFilter> filter;  ///< the calls that stop it; needs PTRACE_O_TRACESECCOMP
  int terminal = -1;                 ///< a terminal that becomes its own, with all three standard descriptors; -1: ours
};

/// The path of a program: words with a slash as they are, others in the current folder, then in PATH. Errors
/// (Fault::program) when there is none or it may not be executed.
Result<std::string> find_program(const std::string& word);

/// Starts the program seized by ptrace(2) with the given options; it stands at its very first instruction (of the
/// dynamic linker, if it has one). Where the kernel takes no filter it has none. Errors: Fault::program.
struct Launched {
  pid_t pid = 0;
  bool filtered = false;
};
Result<Launched> launch_seized(const LaunchOptions& options, long trace_options);

/// A forked child has a copy of the memory, stop bytes included: it gets its own bytes back.
void give_own_bytes(pid_t child, const StopBytes& stops);

}  // namespace deeptrace::process
