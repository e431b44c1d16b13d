// Renderers of `plan`.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "report/output.h"
#include "report/steps.h"
#include "session/plan.h"

namespace deeptrace::report {

/// Lines for the words of a `show` action, at a stop.
using ShowWords = std::function<std::vector<std::string>(look::Subject&, const look::Stopped&, const std::string&)>;

std::unique_ptr<session::PlanSink> plan_text(Output& out, Style style, TakeOutput take_output, ShowWords show);
/// docs/formats/plan.md.
std::unique_ptr<session::PlanSink> plan_json(Output& out, ShowWords show);

}  // namespace deeptrace::report
