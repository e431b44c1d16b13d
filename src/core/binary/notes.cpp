#include "binary/notes.h"

#include <algorithm>

namespace deeptrace::binary {

Notes notes_in(Bytes bytes, std::uint64_t alignment) {
  Notes result;
  ByteReader reader(bytes);
  const std::size_t unit = alignment == 8 ? 8 : 4;
  const auto pad = [&](std::size_t size, std::size_t to) {
    reader.skip(std::min<std::size_t>((to - size % to) % to, reader.remaining()));
  };
  while (reader.remaining() >= 12) {
    const std::uint32_t name_size = reader.u32(), size = reader.u32(), type = reader.u32();
    const Bytes name = reader.bytes(name_size);
    pad(name_size, 4);
    const Bytes contents = reader.bytes(size);
    if (!reader.good()) break;
    pad(size, unit);
    result.all.push_back({string_at(name, 0), type, contents});
  }
  result.whole = reader.good() && reader.at_end();
  return result;
}

std::string build_id_among(std::span<const Note> notes) {
  constexpr std::uint32_t kBuildId = 3;
  constexpr std::string_view kDigits = "0123456789abcdef";
  std::string id;
  for (const Note& note : notes) {
    if (note.owner != "GNU" || note.type != kBuildId) continue;
    for (const std::uint8_t byte : note.contents) {
      id += kDigits[byte >> 4];
      id += kDigits[byte & 15];
    }
  }
  return id;
}

}  // namespace deeptrace::binary
