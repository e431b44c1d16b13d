// Locations as people write them, turned into addresses:
//   function   function+0x12   file.c:31   dir/file.c:31   file.c:function   0x401136   label
//   and where a range is meant also   .text   0x401136..0x401180
// C++ functions go by their names with or without the signature.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "program/program.h"

namespace deeptrace::program {

/// The addresses that a location stands for: one for each copy of a line, function or clone of that name, in order; of
/// inlined copies none. Errors (Fault::usage) say what is unknown and which names are near.
Result<std::vector<std::uint64_t>> addresses_of(const Program& program, std::string_view location);

/// The ranges that a location stands for: whole functions with their clones, and sections, the instructions of a line,
/// from an address to the end of its function. Of a function that is only inlined the code of its copies.
Result<std::vector<AddressRange>> ranges_of(const Program& program, std::string_view location);

/// The source files, as indices into the line tables' files, whose path is `name` or ends with it.
std::vector<std::uint32_t> source_files_named(const Program& program, std::string_view name);

/// Up to three known function names that resemble `name`, best first.
std::vector<std::string> similar_names(const Program& program, std::string_view name);

}  // namespace deeptrace::program
