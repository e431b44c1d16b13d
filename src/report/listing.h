// Renderers of `listing`: one sink per form.
#pragma once

#include <memory>
#include <vector>

#include "program/source_text.h"
#include "report/output.h"
#include "session/assembly.h"
#include "session/listing.h"

namespace deeptrace::report {

/// For people: functions, their source lines, the instructions below.
/// Null for `sources`: without source lines.
std::unique_ptr<session::ListingSink> listing_text(Output& out, Style style, program::SourceText* sources);
/// docs/formats/listing.md.
std::unique_ptr<session::ListingSink> listing_json(Output& out);
/// One row an instruction.
std::unique_ptr<session::ListingSink> listing_csv(Output& out);
/// Source for the assembler.
std::unique_ptr<session::AssemblySink> listing_assembler(Output& out);
/// Passes every row on to several sinks.
std::unique_ptr<session::ListingSink> listing_tee(std::vector<std::unique_ptr<session::ListingSink>> sinks);

}  // namespace deeptrace::report
