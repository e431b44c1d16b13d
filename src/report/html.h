// Self-contained pages: escaping, and the looks that all pages share.
#pragma once

#include <string>
#include <string_view>

#include "report/output.h"

namespace deeptrace::report {

/// Text from a binary or a source made harmless inside elements and attributes.
std::string html(std::string_view raw);

/// Everything from the doctype to the start of the body: `title` is raw text, `style` the page's own rules after the
/// shared ones (colours as variables, for light and dark; a monospaced font).
void begin_page(Output& out, std::string_view title, std::string_view style);
/// `script` is put in as it is; it must not hold text from a binary.
void end_page(Output& out, std::string_view script);

}  // namespace deeptrace::report
