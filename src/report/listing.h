// Renderers of `listing`: one sink per form.
#pragma once

#include <memory>
#include <vector>

#include "program/source_text.h"
#include "report/output.h"
#include "study/assembly.h"
#include "study/listing.h"

namespace deeptrace::report {

/// For people: functions, their source lines, the instructions below.
/// Null for `sources`: without source lines.
std::unique_ptr<study::ListingSink> listing_text(Output& out, Style style, program::SourceText* sources);
/// docs/formats/listing.md.
std::unique_ptr<study::ListingSink> listing_json(Output& out);
/// One row an instruction.
std::unique_ptr<study::ListingSink> listing_csv(Output& out);
/// Source for the assembler.
std::unique_ptr<study::AssemblySink> listing_assembler(Output& out);

}  // namespace deeptrace::report
