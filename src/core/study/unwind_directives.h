// Unwind tables as the directives that GNU as makes them of (".cfi_startproc" and the like; DWARF 5, section 6.4.2).
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "debuginfo/unwind_table.h"
#include "isa/instruction.h"

namespace deeptrace::study {

struct UnwindDirectives {
  std::uint64_t to = 0;  ///< where the function ends
  bool simple = false;   ///< the assembler's usual beginning does not hold: the lines at its start say all
  std::map<std::uint64_t, std::vector<std::string>> at;  ///< lines by address; those of the start are always there
};

/// Nothing for an entry that is damaged or says what no directive says.
std::optional<UnwindDirectives> unwind_directives(const debuginfo::UnwindEntry& entry, isa::Mode mode);

}  // namespace deeptrace::study
