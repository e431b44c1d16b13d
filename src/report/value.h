// How values look: in words, as lines, as JSON.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "inspect/value.h"
#include "report/json.h"
#include "report/output.h"

namespace deeptrace::report {

/// One line: "0x17 · 23", "\"text\"", "{level 0x1 · 1, name \"…\"}". Long arrays are cut and counted.
std::string value_words(const Style& style, const inspect::Value& value);

/// The same where value_lines follow: what would be too long for a line is counted, "12 elements".
std::string value_head(const Style& style, const inspect::Value& value);

/// Lines for the parts of an array or aggregate, indented by `indent` columns; none for what fits into words.
std::vector<std::string> value_lines(const Style& style, const inspect::Value& value, unsigned indent);

/// A table of the fields of a value: name, place (bytes from its start, and which bits there of a bit field), value.
/// Where `before` (of the same type, or null) differs, the row is marked and tells what was there.
std::vector<std::string> field_lines(const Style& style, const inspect::Value& value, const inspect::Value* before);

/// Two values of one type in words: of arrays and structures only the parts that differ, named.
std::pair<std::string, std::string> before_and_after(const Style& style, const inspect::Value& before,
                                                     const inspect::Value& after);

/// Of an array whose elements' width is inferred: "6 of 2 bytes, as instructions access it".
std::string inferred_words(const inspect::Value& value);

/// True for values whose parts deserve lines of their own.
bool has_lines(const inspect::Value& value);

/// DESIGN: numbers are {"hex","signed","unsigned","text"}; arrays are arrays, aggregates objects by their members.
void value_json(JsonWriter& json, const inspect::Value& value);

}  // namespace deeptrace::report
