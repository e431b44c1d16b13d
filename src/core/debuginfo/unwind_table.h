// Unwind tables (.eh_frame, .debug_frame and the exception tables): where functions begin, the programs that say how
// a frame is undone, and where control re-enters a function other than by a call or a jump, at exception handlers.
//
// Sources: DWARF 5, section 6.4; Linux Standard Base, "Exception Frames"; the C++ ABI for exception handling.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <vector>

#include "base/address_range.h"
#include "binary/elf.h"

namespace deeptrace::debuginfo {

/// One function's entry, as it lies in the section.
struct UnwindEntry {
  AddressRange range;
  std::uint64_t code_alignment = 1;
  std::int64_t data_alignment = 1;
  unsigned return_register = 16;  ///< DWARF number
  bool signal_frame = false;      ///< the kernel made the frame, at no call
  Bytes initial, program;         ///< instructions: those that entries share, then this one's
  std::uint8_t pointer_encoding = 0;
  std::uint64_t handlers = 0;  ///< address of its exception table; 0: none
  /// A pointer in the section: how it is encoded, and where its field lies, as an address; 0: there is none.
  struct Field {
    std::uint8_t encoding = 0xff;
    std::uint64_t address = 0;
  };
  Field personality, exception_table;
};

struct UnwindSection {
  Bytes bytes;
  std::uint64_t address = 0;
  unsigned pointer_size = 8;   ///< bytes
  bool for_debugging = false;  ///< .debug_frame, which counts differently
  /// Of object files: what the relocation of a field makes of it, given the field's address; nothing where none lies.
  std::function<std::optional<std::uint64_t>(std::uint64_t)> relocated{};
};

/// Calls `visit` with every entry of a section; damaged parts are left out.
void each_unwind_entry(const UnwindSection& section, const std::function<void(const UnwindEntry&)>& visit);

struct CodeEntries {
  std::vector<std::uint64_t> functions;     ///< first addresses
  std::vector<AddressRange> ranges;         ///< of the same, in the same order
  std::vector<std::uint64_t> landing_pads;  ///< where a caught exception arrives
};

/// Reads the tables of a linked file. Damaged parts are left out.
CodeEntries code_entries(const binary::Elf& elf);

}  // namespace deeptrace::debuginfo
