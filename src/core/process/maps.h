// The mappings of a process, as reported by the kernel in /proc/PID/maps (proc(5)).
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "state/target.h"

namespace deeptrace::process {

std::vector<state::Mapping> mappings_of(pid_t pid);

/// The file that a process executes; where that is deleted or its name cannot be read, the kernel's link to it, which
/// can be opened all the same.
std::string executable_of(pid_t pid);

/// One entry of the auxiliary vector that the kernel gave the program; nothing when it is not there.
std::optional<std::uint64_t> auxiliary_value(pid_t pid, state::Auxiliary type);

/// True unless the process was started with addresses that are not random (personality(2)); also where the kernel does
/// not say it.
bool is_randomised(pid_t pid);

/// A field of /proc/PID/status as a number in the given base ("TracerPid", "SigCgt"); 0 when it is not there.
std::uint64_t status_field(pid_t task, std::string_view name, int base);
/// Its text, without blanks before it; empty where there is none.
std::string status_text(pid_t task, std::string_view name);

/// True when the process has a handler of its own for the signal.
bool catches_signal(pid_t pid, int signal);
/// True when the process ignores the signal.
bool ignores_signal(pid_t pid, int signal);

}  // namespace deeptrace::process
