// Renderers of `compare`: docs/formats/compare.md for the machine-readable ones.
#pragma once

#include <memory>

#include "report/output.h"
#include "study/compare.h"

namespace deeptrace::report {

/// `unfolded`: long runs of rows that are the same are shown too.
std::unique_ptr<study::CompareSink> compare_text(Output& out, Style style, bool unfolded);
std::unique_ptr<study::CompareSink> compare_json(Output& out);
std::unique_ptr<study::CompareSink> compare_csv(Output& out);
/// Both builds side by side.
std::unique_ptr<study::CompareSink> compare_page(Output& out);

}  // namespace deeptrace::report
