// Renderers of `explain`.
#pragma once

#include "report/output.h"
#include "study/explain.h"

namespace deeptrace::report {

/// For people: every meaning one after the other.
void explain_text(Output& out, Style style, const study::Explanation& explanation);
/// docs/formats/explain.md.
void explain_json(Output& out, const study::Explanation& explanation);

}  // namespace deeptrace::report
