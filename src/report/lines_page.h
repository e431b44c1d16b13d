// The page of `lines`: sources and instructions side by side. Pointing at either lights up the other.
#pragma once

#include <memory>

#include "program/source_text.h"
#include "report/output.h"
#include "study/listing.h"

namespace deeptrace::report {

/// Takes the functions as `listing` gives them; sources are read when all have come.
std::unique_ptr<study::ListingSink> lines_page(Output& out, const program::Program& program,
                                               program::SourceText& sources);

}  // namespace deeptrace::report
