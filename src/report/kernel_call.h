// A system call among other things that happened: in stop cards, in rows of steps, and before it is made.
#pragma once

#include <string>
#include <vector>

#include "look/kernel_call.h"
#include "report/json.h"
#include "report/output.h"

namespace deeptrace::report {

/// "write: fd 1, buf "level 17", count 8", before it is made.
std::string asked_words(const Style& style, const look::DecodedCall& call);
/// The same with what came back, the error in words, and what is wrong with it; indented by the caller.
std::vector<std::string> kernel_call_lines(const Style& style, const look::KernelCall& call);
/// {"name","arguments","result","error","meaning","findings"}.
void kernel_call_json(JsonWriter& json, const look::KernelCall& call);

}  // namespace deeptrace::report
