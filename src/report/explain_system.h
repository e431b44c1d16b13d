// Renderers of what `explain` says of the operating system.
#pragma once

#include "report/json.h"
#include "report/output.h"
#include "study/explain.h"

namespace deeptrace::report {

/// For people. `first`: nothing was written before it.
void explain_system_text(Output& out, const Style& style, const study::Explanation& explanation, bool first);
/// Keys of the object that is open; docs/formats/explain.md.
void explain_system_json(JsonWriter& json, const study::Explanation& explanation);

}  // namespace deeptrace::report
