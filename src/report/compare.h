// Renderers of `compare`: docs/formats/compare.md for the machine-readable ones.
#pragma once

#include <memory>

#include "report/output.h"
#include "session/compare.h"

namespace deeptrace::report {

/// `unfolded`: long runs of rows that are the same are shown too.
std::unique_ptr<session::CompareSink> compare_text(Output& out, Style style, bool unfolded);
std::unique_ptr<session::CompareSink> compare_json(Output& out);
std::unique_ptr<session::CompareSink> compare_csv(Output& out);
/// Both builds side by side.
std::unique_ptr<session::CompareSink> compare_page(Output& out);

}  // namespace deeptrace::report
