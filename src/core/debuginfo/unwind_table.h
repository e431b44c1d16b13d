// What the unwind tables (.eh_frame with .gcc_except_table) say about where control can enter code: the start of
// every function that they describe, and the landing pads of its exception handlers.
//
// Sources: DWARF 5, section 6.4; Linux Standard Base, "Exception Frames"; the C++ ABI for exception handling.
#pragma once

#include <cstdint>
#include <vector>

#include "base/address_range.h"
#include "binary/elf.h"

namespace deeptrace::debuginfo {

struct CodeEntries {
  std::vector<std::uint64_t> functions;     ///< first addresses
  std::vector<AddressRange> ranges;         ///< of the same, in the same order
  std::vector<std::uint64_t> landing_pads;  ///< where a caught exception arrives
};

/// Reads the tables of a linked file. Damaged parts are left out.
CodeEntries code_entries(const binary::Elf& elf);

}  // namespace deeptrace::debuginfo
