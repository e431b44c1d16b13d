// Renderers of `syscalls`: one sink per form.
#pragma once

#include <memory>
#include <string>

#include "report/canvas.h"
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
/// A page with all calls, which can be searched.
std::unique_ptr<session::SyscallsSink> syscalls_page(Output& out);
/// A lane for each thread over time.
std::unique_ptr<session::SyscallsSink> syscalls_figure(const std::string& path, Canvas::Form form);

}  // namespace deeptrace::report
