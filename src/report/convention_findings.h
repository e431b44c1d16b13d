// How the findings of `survey --check` look.
#pragma once

#include <span>

#include "report/json.h"
#include "report/output.h"
#include "study/survey.h"

namespace deeptrace::report {

/// Nothing where the file was not checked. `named`: the file is said.
void convention_findings_text(Output& out, const Style& style, const study::Survey& survey, bool named);
/// The key "findings"; docs/formats/survey.md.
void convention_findings_json(JsonWriter& json, std::span<const study::ConventionFinding> findings);

}  // namespace deeptrace::report
