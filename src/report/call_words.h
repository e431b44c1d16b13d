// How function calls are worded in tables, files and pages.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "report/output.h"
#include "session/calls.h"

namespace deeptrace::report {

/// Text in place of its address, numbers in both readings.
std::string call_value_words(const Style& style, const inspect::Value& value);
/// "count 0x2 · 2 in edi" for each argument.
std::vector<std::string> call_argument_words(const Style& style, const session::CallRow& row);
/// "0x1b · 27 in eax", "is left by an exception".
std::string call_end_words(const Style& style, const session::CallRow& row);
/// "38 us", "38 us, 112 instructions".
std::string call_cost_words(const session::CallRow& row);
/// Where it is called: "tidelog.c:26", else the place, "a signal".
std::string call_from_words(const Style& style, const session::CallRow& row);
/// For programs: "returned", "jumped", …; "call", "pointer", …
std::string_view call_end_word(session::CallRow::End end);
std::string_view call_by_word(session::CallRow::By by);

}  // namespace deeptrace::report
