// Renderers of `calls`: one sink per form.
#pragma once

#include <memory>
#include <string>

#include "report/canvas.h"
#include "report/output.h"
#include "session/calls.h"

namespace deeptrace::report {

/// One row a call, set in by how deep it is: a call that makes no others has its result on the same line, others a line
/// of their own when they are over. Calls that repeat, and recursion, are folded unless `style` has no limit of width.
std::unique_ptr<session::CallsSink> calls_text(Output& out, Style style, TakeOutput take_output);
/// docs/formats/calls.md.
std::unique_ptr<session::CallsSink> calls_json(Output& out);
/// One row a call.
std::unique_ptr<session::CallsSink> calls_csv(Output& out);
/// A page with a tree a thread, which folds and can be searched.
std::unique_ptr<session::CallsSink> calls_page(Output& out);
/// A lane for each thread over time, a bar a call below the one that made it, and who called whom how often.
std::unique_ptr<session::CallsSink> calls_figure(const std::string& path, Canvas::Form form);

}  // namespace deeptrace::report
