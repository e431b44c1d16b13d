// Characters of two and four bytes (wchar_t, char16_t, char32_t) as UTF-8.
#pragma once

#include <cstdint>
#include <string>

#include "base/byte_reader.h"
#include "debuginfo/types.h"

namespace deeptrace::inspect {

/// Units of `size` bytes (1, 2 or 4), UTF-16 for two and code points for four, as UTF-8; single bytes as they are. What
/// is no character is encoded like one, which is no valid UTF-8: half a pair of UTF-16, numbers beyond the last.
std::string utf8_of(Bytes units, std::uint64_t size);

/// Bytes of a character type, signed or not, or one of those above; 0 for any other type.
std::uint64_t character_size(debuginfo::Types& types, debuginfo::TypeId id);

}  // namespace deeptrace::inspect
