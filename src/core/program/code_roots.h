// Where code is entered from outside, as far as a file says it.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "binary/elf.h"

namespace deeptrace::program {

/// The entry, functions of symbols and unwind tables, landing pads, and the addresses in relocations and in the arrays
/// of initialisers: those in code, in order. Relocations and unwind tables of object files say other things.
std::vector<std::uint64_t> code_roots(const binary::Elf& elf, std::span<const binary::Relocation> relocations);

}  // namespace deeptrace::program
