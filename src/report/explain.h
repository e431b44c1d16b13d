// Renderers of `explain`.
#pragma once

#include "report/output.h"
#include "session/explain.h"

namespace deeptrace::report {

/// For people: every meaning one behind the other.
void explain_text(Output& out, Style style, const session::Explanation& explanation);
/// docs/formats/explain.md.
void explain_json(Output& out, const session::Explanation& explanation);

}  // namespace deeptrace::report
