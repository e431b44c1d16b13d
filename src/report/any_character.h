// Whether a text has a character of some kind, sixteen at a time: nearly all texts of a report have none that asks for
// more than to be copied.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <cstring>
#include <string_view>

namespace deeptrace::report {

/// Sixteen characters; those of more than 7 bits are negative.
using Characters [[gnu::vector_size(16)]] = signed char;

/// True where `wanted`, which is given Characters, finds one. A space must not be wanted.
template <class Wanted>
bool any_character(std::string_view text, Wanted wanted) {
  const auto at = [&](const char* from) {
    Characters piece;
    std::memcpy(&piece, from, sizeof piece);
    return wanted(piece);
  };
  std::array<char, sizeof(Characters)> filled;
  if (text.size() < filled.size()) {
    filled.fill(' ');
    std::ranges::copy(text, filled.begin());
    text = {filled.data(), filled.size()};
  }
  auto any = at(text.data() + text.size() - sizeof(Characters));  // the last piece overlaps the one before it
  for (std::size_t i = 0; i + sizeof(Characters) <= text.size(); i += sizeof(Characters)) any |= at(text.data() + i);
  std::uint64_t halves[2];
  std::memcpy(halves, &any, sizeof halves);
  return (halves[0] | halves[1]) != 0;
}

}  // namespace deeptrace::report
