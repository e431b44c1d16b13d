// Writes the core file of a program that is looked at, as it stands; see corefile/core_writer.h.
#pragma once

#include <string>

#include "base/result.h"
#include "corefile/core_writer.h"
#include "look/subject.h"

namespace deeptrace::session {

/// The thread that is looked at comes first. Errors as corefile::write_core.
Result<corefile::CoreSummary> write_core_of(look::Subject& subject, const std::string& path);

}  // namespace deeptrace::session
