// Compressed sections and the small compressed symbol tables of stripped files.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "base/byte_reader.h"

namespace deeptrace::binary {

enum class Compression : std::uint32_t { zlib = 1, zstd = 2 };  // System V ABI, "Compressed Sections": ch_type

/// `size` is what the file says will come out, in bytes; nothing when that does not come out or is beyond belief.
std::optional<std::vector<std::uint8_t>> decompressed(Bytes bytes, Compression kind, std::uint64_t size);

/// Of an xz stream, at most `most` bytes; nothing when it is damaged.
std::optional<std::vector<std::uint8_t>> decompressed_xz(Bytes bytes, std::uint64_t most);

}  // namespace deeptrace::binary
