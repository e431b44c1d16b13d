// How the stack frame of a function is built, for people and as JSON.
#pragma once

#include <string>
#include <vector>

#include "report/json.h"
#include "report/output.h"
#include "study/explain_frame.h"

namespace deeptrace::report {

void explain_frame_text(Output& out, const Style& style, const study::ExplainedFrame& frame);
void explain_frame_json(JsonWriter& json, const study::ExplainedFrame& frame);

/// The stack while the body runs, a line a part, from above; with the offsets from rsp and rbp (esp and ebp).
std::vector<std::string> frame_drawing(const study::ExplainedFrame& frame);

}  // namespace deeptrace::report
