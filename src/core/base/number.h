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

/// "0x1f"; numbers below 10 as a digit, as in instruction text.
std::string hex_text(std::uint64_t value);

}  // namespace deeptrace
