// Notes: records of an owner's name, a type and contents, in sections and segments (System V ABI, "Note Section").
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/byte_reader.h"

namespace deeptrace::binary {

struct Note {
  std::string_view owner;  ///< "GNU", "CORE", "LINUX"
  std::uint32_t type = 0;
  Bytes contents;
};

struct Notes {
  std::vector<Note> all;
  bool whole = true;  ///< false: the bytes end inside a note
};

/// The notes in the bytes of a section or segment of that alignment (8: contents are padded to 8 bytes, else to 4).
Notes notes_in(Bytes bytes, std::uint64_t alignment);

/// The build identity among notes, as hexadecimal digits; empty where there is none.
std::string build_id_among(std::span<const Note> notes);

}  // namespace deeptrace::binary
