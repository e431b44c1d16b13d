// Renderers of `fault`.
#pragma once

#include "program/source_text.h"
#include "report/output.h"
#include "session/fault.h"

namespace deeptrace::report {

void fault_text(Output& out, const Style& style, program::SourceText& sources, const session::FaultResult& result);
/// docs/formats/fault.md.
void fault_json(Output& out, const session::FaultResult& result);

}  // namespace deeptrace::report
