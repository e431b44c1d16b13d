// Renderers of `uses`: docs/formats/uses.md for the machine-readable ones.
#pragma once

#include <memory>

#include "program/source_text.h"
#include "report/output.h"
#include "study/uses.h"

namespace deeptrace::report {

std::unique_ptr<study::UsesSink> uses_text(Output& out, Style style, program::SourceText& sources);
std::unique_ptr<study::UsesSink> uses_json(Output& out);
std::unique_ptr<study::UsesSink> uses_csv(Output& out);

}  // namespace deeptrace::report
