// The functions of a file: from symbols, PLT stubs, and, where code has neither, from what shows where functions
// begin.
//
// Without symbols a function begins where the unwind tables say so, at the entry and the addresses of initialisers,
// where calls go, and past the end of the one before (the flow of control ends, padding follows). What was recovered
// is named after its address, so that the name stays the same as long as the file does; start-up code is known by its
// place in the file's own tables and gets the names that it has everywhere.
#pragma once

#include <span>
#include <vector>

#include "binary/elf.h"
#include "isa/instruction.h"
#include "program/function.h"

namespace deeptrace::program {

struct FoundFunctions {
  std::vector<Function> functions;  ///< by address
  std::vector<Label> labels;        ///< by address
  std::vector<Label> aliases;       ///< other names of functions, by address
};

FoundFunctions find_functions(const binary::Elf& elf, std::span<const binary::Relocation> relocations,
                              bool linker_names);

/// True when a range holds nothing but what assemblers and linkers fill gaps with.
bool only_padding(Bytes bytes, isa::Mode mode);

}  // namespace deeptrace::program
