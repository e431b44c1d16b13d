// Renderers of `survey`: docs/formats/survey.md for the machine-readable ones.
#pragma once

#include <span>

#include "report/output.h"
#include "study/survey.h"

namespace deeptrace::report {

/// One file as a page of its own; several side by side.
void survey_text(Output& out, const Style& style, std::span<const study::Survey> files);
void survey_json(Output& out, std::span<const study::Survey> files);
/// One row a section.
void survey_csv(Output& out, std::span<const study::Survey> files);

}  // namespace deeptrace::report
