#include "base/number.h"

#include <charconv>

#include "base/digits.h"

namespace deeptrace {

std::optional<std::uint64_t> number_in(std::string_view text) {
  int base = 10;
  if (text.starts_with("0x") || text.starts_with("0X")) {
    base = 16;
    text.remove_prefix(2);
  }
  std::uint64_t value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value, base);
  if (text.empty() || error != std::errc{} || end != text.data() + text.size()) return std::nullopt;
  return value;
}

std::string hex_text(std::uint64_t value) {
  char text[18];
  char* end = text;
  put_hex(end, value);
  return {text, end};
}

}  // namespace deeptrace
