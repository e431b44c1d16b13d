// One line of text, written in place, for forms that write millions of them: what std::string does, without a call and
// a check for every few characters.
#pragma once

#include <charconv>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <string_view>

#include "base/digits.h"

namespace deeptrace::report {

class LineWriter {
 public:
  /// Bytes that must be free after the line: short pieces are written whole.
  static constexpr std::size_t kSlack = 32;

  /// `room` has as many bytes as the line will have, and kSlack more.
  explicit LineWriter(char* room) : start_(room), to_(room) {}

  [[nodiscard]] std::string_view view() const { return {start_, size()}; }
  [[nodiscard]] std::size_t size() const { return static_cast<std::size_t>(to_ - start_); }

  void add(char c) { *to_++ = c; }
  void add(std::string_view text) {
    const char* from = text.data();
    const std::size_t size = text.size();
    // Most pieces are short: two overlapping halves are quicker than a call.
    if (size > 2 * kHalf) {
      std::memcpy(to_, from, size);
    } else if (size >= kHalf) {
      std::memcpy(to_, from, kHalf);
      std::memcpy(to_ + size - kHalf, from + size - kHalf, kHalf);
    } else if (size >= kHalf / 2) {
      std::memcpy(to_, from, kHalf / 2);
      std::memcpy(to_ + size - kHalf / 2, from + size - kHalf / 2, kHalf / 2);
    } else {
      for (std::size_t i = 0; i < size; ++i) to_[i] = from[i];
    }
    to_ += size;
  }
  /// Spaces up to a column; none when the line is longer.
  void pad_to(std::size_t column) {
    char* const end = start_ + column;
    if (to_ >= end) return;
    for (char* at = to_; at < end; at += kHalf) std::memset(at, ' ', kHalf);
    to_ = end;
  }
  /// Hexadecimal digits without a prefix.
  void add_digits(std::uint64_t value) { to_ += put_digits(to_, value); }
  /// "0x1f"; numbers below 10 as a digit.
  void add_hex(std::uint64_t value) { put_hex(to_, value); }
  /// Decimal digits.
  void add_decimal(std::uint64_t value) { to_ = std::to_chars(to_, to_ + kSlack, value).ptr; }
  /// Two digits a byte, a space between them.
  void add_bytes(const std::uint8_t* bytes, std::size_t count) {
    for (std::size_t i = 0; i < count; ++i) std::memcpy(to_ + 3 * i, &kByteTexts[bytes[i]], 4);
    if (count != 0) to_ += 3 * count - 1;
  }

 private:
  static constexpr std::size_t kHalf = 16;

  char* start_;
  char* to_;
};

}  // namespace deeptrace::report
