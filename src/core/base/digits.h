// Hexadecimal digits without loops, for what writes millions of lines.
#pragma once

#include <array>
#include <bit>
#include <cstdint>
#include <cstring>

namespace deeptrace {

/// How many hexadecimal digits a number takes, at least one.
constexpr unsigned digits_of(std::uint64_t value) {
  return value == 0 ? 1 : (67U - static_cast<unsigned>(std::countl_zero(value))) / 4;
}

/// The eight digits of a number, the lowest in the lowest byte.
constexpr std::uint64_t spread_digits(std::uint32_t value) {
  std::uint64_t nibbles = value;
  nibbles = (nibbles | nibbles << 16) & 0x0000ffff0000ffff;
  nibbles = (nibbles | nibbles << 8) & 0x00ff00ff00ff00ff;
  nibbles = (nibbles | nibbles << 4) & 0x0f0f0f0f0f0f0f0f;
  const std::uint64_t letters = ((nibbles + 0x0606060606060606) >> 4) & 0x0101010101010101;
  return nibbles + 0x3030303030303030 + letters * ('a' - '0' - 10);
}

/// Writes a number without leading zeros and returns how many digits it has; 16 bytes must be free there, whatever the
/// number.
inline unsigned put_digits(char* to, std::uint64_t value) {
  static_assert(std::endian::native == std::endian::little);
  const unsigned count = digits_of(value);
  const auto put = [](char* at, std::uint32_t part, unsigned digits) {
    const std::uint64_t text = __builtin_bswap64(spread_digits(part)) >> (64 - 8 * digits);
    std::memcpy(at, &text, sizeof text);
  };
  if (count <= 8) [[likely]] {
    put(to, static_cast<std::uint32_t>(value), count);
  } else {
    put(to, static_cast<std::uint32_t>(value >> 32), count - 8);
    put(to + count - 8, static_cast<std::uint32_t>(value), 8);
  }
  return count;
}

/// Writes "0x1f", numbers below 10 as a digit, and moves `to` after it; 18 bytes must be free there.
inline void put_hex(char*& to, std::uint64_t value) {
  if (value > 9) {
    *to++ = '0';
    *to++ = 'x';
  }
  to += put_digits(to, value);
}

/// Two digits a byte and a space after each, as one word; the fourth character is a zero byte.
inline constexpr std::array<std::uint32_t, 256> kByteTexts = [] {
  std::array<std::uint32_t, 256> texts{};
  constexpr char kDigits[] = "0123456789abcdef";
  for (unsigned byte = 0; byte < 256; ++byte)
    texts[byte] = static_cast<std::uint32_t>(kDigits[byte >> 4]) | static_cast<std::uint32_t>(kDigits[byte & 15]) << 8 |
                  std::uint32_t(' ') << 16;
  return texts;
}();

}  // namespace deeptrace
