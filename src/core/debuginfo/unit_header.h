// The first entry of each compilation unit in .debug_info, as far as the line tables need it: the directory in
// which the compiler ran (DWARF 5, sections 3.1.1 and 7.5).
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "binary/elf.h"

namespace deeptrace::debuginfo {

/// One attribute value.
struct FormValue {
  bool known = false;  ///< false: the form is not one of the standard's, so what follows cannot be read
  std::uint64_t number = 0;
  std::string_view text;
};

/// Reads an attribute of the given form (DWARF 5, 7.5.6); `wide` is the 64-bit format.
FormValue read_form(ByteReader& reader, std::uint64_t form, bool wide, std::uint8_t address_size, Bytes strings,
                    Bytes line_strings);

/// What the first entry of a unit says (DWARF 5, 3.1.1).
struct UnitSummary {
  std::uint16_t version = 0;                ///< of DWARF
  std::string producer;                     ///< the compiler, with its options where it tells them
  std::string name;                         ///< the source file, as given to the compiler
  std::string directory;                    ///< in which it ran
  std::optional<std::uint64_t> line_table;  ///< offset in .debug_line
};

/// All units of .debug_info; those that cannot be read are left out.
std::vector<UnitSummary> units_of(const binary::Elf& elf);

/// The compilation directory of each unit, by the offset of its table in .debug_line. Units that cannot be read
/// are left out.
std::unordered_map<std::uint64_t, std::string> compilation_directories(const binary::Elf& elf);

}  // namespace deeptrace::debuginfo
