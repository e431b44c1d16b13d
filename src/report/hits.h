// Renderers of `hits`: one sink per form.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "program/source_text.h"
#include "report/canvas.h"
#include "report/json.h"
#include "report/output.h"
#include "report/steps.h"
#include "session/hits.h"

namespace deeptrace::report {

/// A table: one row a hit, changed cells marked. A row that has a card is shown as that.
std::unique_ptr<session::HitsSink> hits_text(Output& out, Style style, program::SourceText& sources,
                                             TakeOutput take_output);
/// docs/formats/hits.md.
std::unique_ptr<session::HitsSink> hits_json(Output& out);
/// One row a hit.
std::unique_ptr<session::HitsSink> hits_csv(Output& out);
/// The kept numbers over the hits, drawn when the run has ended; a file without any is not made.
std::unique_ptr<session::HitsSink> hits_figure(const std::string& path, Canvas::Form form);

/// "exited with status 0", "was ended by SIGSEGV".
std::string end_words(const session::RunEnd& end);
/// {"status":N} | {"signal":…} | {"stopped":…}, as the value of a key.
void end_json(JsonWriter& json, const session::RunEnd& end);

}  // namespace deeptrace::report
