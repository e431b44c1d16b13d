// Texts that are kept, in tests/golden. The program that they are about (programs/gauge.s) has no library and fixed
// addresses, so that they are the same everywhere. Where a text is meant to change, DEEPTRACE_GOLDEN=write writes the
// files anew; read what git says of them.
#pragma once

#include <string>

#include "support.h"

namespace deeptrace::tests {

/// A folder with gauge, its source, object file and plan; and `changed`, whose heights are compared without a sign.
/// Assembled once for all tests of a process. Its debug information says that the sources lie in /tide.
const TempFolder& gauge_folder();

/// Expects a text to be that of the file of that name, or writes it.
void expect_golden(const std::string& name, const std::string& text);

}  // namespace deeptrace::tests
