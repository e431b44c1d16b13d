// Forms: how attribute values are encoded (DWARF 5, sections 7.5.5 and 7.5.6).
#pragma once

#include <cstdint>
#include <string_view>

#include "base/byte_reader.h"

namespace deeptrace::debuginfo {

/// What a value is, whatever its encoding.
enum class FormClass : std::uint8_t {
  unknown,          ///< not a form of the standard's: what follows cannot be read
  address,          ///< number: an address
  address_index,    ///< number: an index into .debug_addr
  constant,         ///< number; its sign is not known
  signed_constant,  ///< number, sign-extended
  flag,
  string,         ///< text
  string_index,   ///< number: an index into .debug_str_offsets
  block,          ///< bytes
  expression,     ///< bytes: a location expression
  reference,      ///< number: an offset from the unit's start
  far_reference,  ///< number: an offset in the section
  signature,      ///< number: a type unit's signature
  supplementary,  ///< number: an offset in another file
  offset,         ///< number: an offset in a section that the attribute's name decides
  location_list_index,
  range_list_index,
};

/// One attribute value.
struct FormValue {
  FormClass kind = FormClass::unknown;
  std::uint64_t number = 0;
  std::string_view text;
  Bytes bytes;

  [[nodiscard]] bool known() const { return kind != FormClass::unknown; }
};

/// What the unit says about the encoding of its values, and where strings are.
struct FormContext {
  std::uint16_t version = 5;
  bool wide = false;  ///< the 64-bit format of DWARF
  std::uint8_t address_size = 8;
  Bytes strings, line_strings;  ///< .debug_str, .debug_line_str
  Bytes other_strings;          ///< .debug_str of the supplementary file
};

/// Reads a value. `implicit` is that of DW_FORM_implicit_const, which stands in the abbreviation.
FormValue read_form(ByteReader& reader, std::uint64_t form, const FormContext& context, std::int64_t implicit = 0);

/// Bytes that a form takes, or -1 when that depends on the value.
int fixed_size(std::uint64_t form, const FormContext& context);

/// Abbreviations give this form a value of their own.
inline constexpr std::uint64_t kImplicitConst = 0x21;

}  // namespace deeptrace::debuginfo
