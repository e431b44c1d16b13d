// Reading numbers and strings from a span of bytes without ever leaving it.
//
// A reader that runs past its end turns bad and stays so: every further read gives zero. Callers check once,
// after a whole structure, instead of after every field. All numbers are little-endian, as on x86.
#pragma once

#include <cstddef>
#include <cstdint>
#include <cstring>
#include <span>
#include <string_view>

namespace deeptrace {

using Bytes = std::span<const std::uint8_t>;

class ByteReader {
 public:
  ByteReader() = default;
  explicit ByteReader(Bytes bytes, std::size_t position = 0)
      : bytes_(bytes), position_(position), good_(position <= bytes.size()) {}

  [[nodiscard]] bool good() const { return good_; }
  [[nodiscard]] std::size_t position() const { return position_; }
  [[nodiscard]] std::size_t remaining() const { return good_ ? bytes_.size() - position_ : 0; }
  [[nodiscard]] bool at_end() const { return remaining() == 0; }

  std::uint8_t u8() { return number<std::uint8_t>(); }
  std::uint16_t u16() { return number<std::uint16_t>(); }
  std::uint32_t u32() { return number<std::uint32_t>(); }
  std::uint64_t u64() { return number<std::uint64_t>(); }

  /// An unsigned number of `size` bytes (1, 2, 3, 4 or 8); any other size makes the reader bad.
  std::uint64_t unsigned_of(std::size_t size) {
    if (size == 0 || size > 8) good_ = false;
    std::uint64_t value = 0;
    const Bytes raw = bytes(size);
    if (good_) std::memcpy(&value, raw.data(), size);
    return value;
  }

  /// LEB128 numbers (DWARF 5, section 7.6). Bits above 64 are dropped.
  std::uint64_t uleb() {
    std::uint64_t value = 0;
    for (unsigned shift = 0;; shift += 7) {
      const std::uint8_t byte = u8();
      if (shift < 64) value |= std::uint64_t(byte & 0x7f) << shift;
      if ((byte & 0x80) == 0 || !good_) return value;
    }
  }
  std::int64_t sleb() {
    std::uint64_t value = 0;
    for (unsigned shift = 0;;) {
      const std::uint8_t byte = u8();
      if (shift < 64) value |= std::uint64_t(byte & 0x7f) << shift;
      shift += 7;
      if ((byte & 0x80) != 0 && good_) continue;
      if ((byte & 0x40) != 0 && shift < 64) value |= ~std::uint64_t(0) << shift;
      return static_cast<std::int64_t>(value);
    }
  }

  /// The next `size` bytes as a view; empty and bad when there are fewer.
  Bytes bytes(std::uint64_t size) {
    if (size > remaining()) {
      good_ = false;
      return {};
    }
    const Bytes result = bytes_.subspan(position_, size);
    position_ += size;
    return result;
  }

  /// A string up to its zero byte, which is consumed; bad when there is no zero byte.
  std::string_view string() {
    const Bytes rest = good_ ? bytes_.subspan(position_) : Bytes{};
    const void* zero = rest.empty() ? nullptr : std::memchr(rest.data(), 0, rest.size());
    if (zero == nullptr) {
      good_ = false;
      return {};
    }
    const auto size = static_cast<std::size_t>(static_cast<const std::uint8_t*>(zero) - rest.data());
    position_ += size + 1;
    return {reinterpret_cast<const char*>(rest.data()), size};
  }

  void skip(std::uint64_t size) { (void)bytes(size); }

 private:
  template <typename T>
  T number() {
    T value{};
    if (remaining() < sizeof(T)) {
      good_ = false;
      return value;
    }
    std::memcpy(&value, bytes_.data() + position_, sizeof(T));
    position_ += sizeof(T);
    return value;
  }

  Bytes bytes_;
  std::size_t position_ = 0;
  bool good_ = true;
};

/// The string that starts at `offset` of a string table; empty when the offset lies outside or no zero ends it.
inline std::string_view string_at(Bytes table, std::uint64_t offset) {
  if (offset >= table.size()) return {};
  ByteReader reader(table, offset);
  return reader.string();
}

}  // namespace deeptrace
