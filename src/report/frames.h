// How frames, arguments and findings look, in every report that has them.
#pragma once

#include <string>
#include <vector>

#include "look/argument.h"
#include "look/rows.h"
#include "report/json.h"
#include "report/output.h"

namespace deeptrace::report {

/// "count 0x3 · 3", "unknown: the compiler removed it".
std::string argument_words(const Style& style, const look::Argument& argument);
/// One line, without its number: "0x401136  main+0x12 (argc 0x1 · 1)   tidelog.c:12".
std::string frame_words(const Style& style, const look::FrameRow& row);
/// A finding, where it is, and its evidence.
std::vector<std::string> finding_lines(const Style& style, const look::Finding& finding);
/// How a frame was found, for programs: "registers", "unwind table", "code", "frame pointer".
std::string_view found_by(inspect::Frame::How how);

/// {"name","type","where","value","shown"}.
void argument_json(JsonWriter& json, const look::Argument& argument);
/// {"n","function","file","line","address","arguments","found_by","inlined"}.
void frame_json(JsonWriter& json, const look::FrameRow& row);
/// {"kind","text","evidence","function","file","line","address","call","note"}.
void finding_json(JsonWriter& json, const look::Finding& finding);

}  // namespace deeptrace::report
