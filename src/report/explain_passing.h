// Renderers of what `explain passing` says.
#pragma once

#include "report/json.h"
#include "report/output.h"
#include "study/explain_passing.h"

namespace deeptrace::report {

void explain_passing_text(Output& out, const Style& style, const study::ExplainedPassing& explained);
/// An object; docs/formats/explain.md.
void explain_passing_json(JsonWriter& json, const study::ExplainedPassing& explained);

}  // namespace deeptrace::report
