// Renderers of `syscalls`: one sink per form.
#pragma once

#include <memory>

#include "report/output.h"
#include "session/syscalls.h"

namespace deeptrace::report {

/// A table: one row a call, aligned; what is too wide for one line stands below it, an argument a line. Failed calls
/// have their reason below them.
std::unique_ptr<session::SyscallsSink> syscalls_text(Output& out, Style style, TakeOutput take_output);
/// docs/formats/syscalls.md.
std::unique_ptr<session::SyscallsSink> syscalls_json(Output& out);
/// One row a call.
std::unique_ptr<session::SyscallsSink> syscalls_csv(Output& out);

}  // namespace deeptrace::report
