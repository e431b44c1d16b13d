// How system calls are worded in tables, files and pages.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "report/output.h"
#include "session/syscalls.h"

namespace deeptrace::report {

/// In as few characters as a table has: names without their numbers, small numbers in decimal, what lies at an address
/// in place of it.
std::string short_words(const Style& style, const inspect::Value& value);
void add_short_words(std::string& to, const Style& style, const inspect::Value& value);
/// "12 us", "1.5 s": of nanoseconds.
std::string duration_words(std::uint64_t nanoseconds);
/// What came back, or the error's name.
std::string result_words(const Style& style, const session::SyscallRow& row);
std::string result_words(const Style& style, const look::DecodedCall& call);
/// "beacon.s:13", else the place without a line, else that of the instruction that made the call.
std::string own_words(const Style& style, const session::SyscallRow& row);
/// "fd 1 (pipe:[4711])" for each argument.
std::vector<std::string> argument_words(const Style& style, const look::DecodedCall& call);

}  // namespace deeptrace::report
