#include "binary/compression.h"

#include <lzma.h>
#include <zlib.h>
#include <zstd.h>

#include <algorithm>

namespace deeptrace::binary {

std::optional<std::vector<std::uint8_t>> decompressed(Bytes bytes, Compression kind, std::uint64_t size) {
  // zlib packs at most 1032 to 1; a header that promises more is damaged and must not make us ask for the memory.
  constexpr std::uint64_t kMostRatio = 1100;
  if (size == 0 || size > bytes.size() * kMostRatio) return std::nullopt;
  std::vector<std::uint8_t> result(size);
  if (kind == Compression::zlib) {
    uLongf got = result.size();
    if (uncompress(result.data(), &got, bytes.data(), bytes.size()) != Z_OK || got != size) return std::nullopt;
    return result;
  }
  if (kind == Compression::zstd) {
    const std::size_t got = ZSTD_decompress(result.data(), result.size(), bytes.data(), bytes.size());
    if (ZSTD_isError(got) != 0 || got != size) return std::nullopt;
    return result;
  }
  return std::nullopt;
}

std::optional<std::vector<std::uint8_t>> decompressed_xz(Bytes bytes, std::uint64_t most) {
  std::vector<std::uint8_t> result(std::min<std::uint64_t>(most, std::max<std::uint64_t>(bytes.size() * 8, 4096)));
  for (;;) {
    std::uint64_t memory = std::uint64_t(1) << 28;
    std::size_t in = 0, out = 0;
    const lzma_ret state = lzma_stream_buffer_decode(&memory, 0, nullptr, bytes.data(), &in, bytes.size(),
                                                     result.data(), &out, result.size());
    if (state == LZMA_OK) {
      result.resize(out);
      return result;
    }
    if (state != LZMA_BUF_ERROR || result.size() >= most) return std::nullopt;
    result.resize(std::min<std::uint64_t>(most, result.size() * 4));
  }
}

}  // namespace deeptrace::binary
