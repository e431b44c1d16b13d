// What the operating system says of a process that makes calls: its descriptors, directories and sockets (proc(5)).
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <string>

#include "look/call_findings.h"

namespace deeptrace::session {

/// What a descriptor is open on; empty: it is not open.
std::string descriptor_name(pid_t pid, std::uint64_t descriptor);

look::CallFindings::Surroundings surroundings_of(pid_t pid);

}  // namespace deeptrace::session
