// Names of functions and types for people.
#pragma once

#include <string>
#include <string_view>

#include "program/instances.h"
#include "report/json.h"
#include "report/output.h"

namespace deeptrace::report {

/// A function's name, or a place in it ("function+0x12"), without what carries nothing: the library's strings go by
/// their short name, its default template arguments are left out, and lists of parameters or template arguments of more
/// than 24 characters are dots, as is the midst of what is longer than kLongName even then. In full with
/// Style::full_paths.
std::string shown_name(const Style& style, std::string_view name);
/// A function's name where it is the subject: in full up to kLongName characters, else as shown_name.
inline constexpr std::size_t kLongName = 160;
std::string shown_heading(const Style& style, std::string_view name);
/// "main+0x12"; seen from the frame of a call that is inlined there "level_sum, inlined in main+0x12".
std::string shown_place(const Style& style, std::string_view place, std::string_view inlined);
/// The member `instances`: how many functions, clones and inlined copies a name stands for.
void put_instances(JsonWriter& json, const program::InstanceCounts& counts);
/// A type by the same rule, but its arguments carry more: lists up to 64 characters stay.
std::string shown_type(const Style& style, std::string_view type);

}  // namespace deeptrace::report
