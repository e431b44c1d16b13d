// Registers by the numbers that debug information and unwind tables give them (x86-64 psABI, figure 3.36; i386 psABI,
// table 2.14).
#pragma once

#include <optional>

#include "arch/machine.h"

namespace deeptrace::arch {

/// The register of a number, as wide as the number means; nothing for numbers that stand for none, such as that of the
/// return address.
std::optional<RegisterPart> dwarf_register(unsigned number, Mode mode);

}  // namespace deeptrace::arch
