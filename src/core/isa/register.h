// Registers by their names in instructions.
#pragma once

#include <string_view>

#include "arch/register.h"

namespace deeptrace::isa {

using arch::General;
using arch::RegisterFile;
using arch::RegisterPart;
using arch::Segment;
using enum arch::General;
using enum arch::Segment;

/// The architectural name ("eax", "r9d", "ah", "xmm3", "fs"); empty for a part that has none. A vector part
/// is named by the smallest register that holds it (xmm, ymm, zmm).
std::string_view name_of(RegisterPart part);

}  // namespace deeptrace::isa
