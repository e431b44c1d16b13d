// Errors of system calls: what they mean, what brings them about, and which a call can give, from the table
// linux.errors and from what the call's arguments are.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "abi/call_shapes.h"

namespace deeptrace::abi {

/// "EFAULT" of 14; "ERESTARTSYS" and its like of the kernel's own numbers, of calls that begin anew; empty for others.
std::string error_name(int error);
/// "Bad address" of 14, as the C library has it.
std::string error_meaning(int error);
/// Of "EFAULT", "EWOULDBLOCK"; nothing for other words.
std::optional<int> error_named(std::string_view name);
/// What a call returns, as a person writes it: an error's name, or a number. Nothing for other words.
std::optional<std::int64_t> result_in(std::string_view text);
/// All that the C library knows, by number.
std::vector<int> errors();

/// What usually brings an error about; empty where the table says nothing.
std::string_view usual_cause(std::string_view error);

/// Which errors a call can give: those of its arguments' types, and those of its own. Empty for one whose result is no
/// error.
std::vector<std::string_view> errors_of(const CallShape& call);

}  // namespace deeptrace::abi
