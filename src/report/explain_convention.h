// Renderers of what `explain` says of calling conventions.
#pragma once

#include "report/json.h"
#include "report/output.h"
#include "study/explain_convention.h"

namespace deeptrace::report {

void explain_convention_text(Output& out, const Style& style, const study::ExplainedConvention& explained);
/// An object; docs/formats/explain.md.
void explain_convention_json(JsonWriter& json, const study::ExplainedConvention& explained);

}  // namespace deeptrace::report
