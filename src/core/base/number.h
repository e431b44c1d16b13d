// Numbers as people write them on a command line.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace deeptrace {

/// The number that the whole text is: decimal, or hexadecimal after "0x". Nothing for other text and for what does not
/// fit 64 bits.
std::optional<std::uint64_t> number_in(std::string_view text);

/// The low `bits` of a number as one with a sign (two's complement); 1 to 64.
constexpr std::int64_t signed_of(std::uint64_t value, unsigned bits) {
  return bits >= 64 ? static_cast<std::int64_t>(value) : static_cast<std::int64_t>(value << (64 - bits)) >> (64 - bits);
}

/// "0x1f"; numbers below 10 as a digit, as in instruction text.
std::string hex_text(std::uint64_t value);

}  // namespace deeptrace
