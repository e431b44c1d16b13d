// Renderers of `steps`: one sink per form.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "program/source_text.h"
#include "report/canvas.h"
#include "report/output.h"
#include "session/steps.h"

namespace deeptrace::report {

/// For people: every instruction with what it changed, repeated turns of loops folded.
std::unique_ptr<session::StepsSink> steps_text(Output& out, Style style, program::SourceText& sources,
                                               TakeOutput take_output);
/// docs/formats/steps.md.
std::unique_ptr<session::StepsSink> steps_json(Output& out);
/// One row a step.
std::unique_ptr<session::StepsSink> steps_csv(Output& out);

/// The stack at moments of the run side by side, of rows that have it (StepsRequest::stack).
std::unique_ptr<session::StepsSink> stack_figure(const std::string& path, Canvas::Form form);

}  // namespace deeptrace::report
