// One line of text in the making, for forms that write millions of them: what std::string does, without a call for
// every few characters.
#pragma once

#include <array>
#include <bit>
#include <cstdint>
#include <cstring>
#include <string_view>
#include <vector>

namespace deeptrace::report {

class LineBuffer {
 public:
  [[nodiscard]] std::string_view view() const { return {buffer_.data(), size_}; }
  [[nodiscard]] std::size_t size() const { return size_; }
  void clear() { size_ = 0; }
  void drop_last() { --size_; }

  void add(std::string_view text) {
    if (text.empty()) return;
    std::memcpy(room(text.size()), text.data(), text.size());
    size_ += text.size();
  }
  void add(char c) { *room(1) = c, ++size_; }
  /// Spaces up to a column; none when the line is longer.
  void pad_to(std::size_t column) {
    if (size_ >= column) return;
    std::memset(room(column - size_), ' ', column - size_);
    size_ = column;
  }
  /// Hexadecimal digits without a prefix.
  void add_digits(std::uint64_t value) {
    const unsigned count = digits_of(value);
    char* at = room(count);
    for (unsigned i = count; i-- > 0; value >>= 4) at[i] = kDigits[value & 15];
    size_ += count;
  }
  /// Two digits a byte, and a space behind each.
  void add_bytes(const std::uint8_t* bytes, std::size_t count) {
    char* at = room(3 * count);
    for (std::size_t i = 0; i < count; ++i) {
      at[3 * i] = kDigits[bytes[i] >> 4];
      at[3 * i + 1] = kDigits[bytes[i] & 15];
      at[3 * i + 2] = ' ';
    }
    size_ += 3 * count;
  }
  static unsigned digits_of(std::uint64_t value) {
    return value == 0 ? 1 : (67U - static_cast<unsigned>(std::countl_zero(value))) / 4;
  }

 private:
  static constexpr char kDigits[] = "0123456789abcdef";

  char* room(std::size_t more) {
    if (size_ + more > buffer_.size()) [[unlikely]]
      buffer_.resize(2 * (size_ + more));
    return buffer_.data() + size_;
  }

  std::vector<char> buffer_ = std::vector<char>(1024);
  std::size_t size_ = 0;
};

}  // namespace deeptrace::report
