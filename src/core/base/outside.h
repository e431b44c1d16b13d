// Text that people write taken apart at signs that stand outside of quotes and brackets: "a, b[1, 2], ','".
#pragma once

#include <cctype>
#include <cstddef>
#include <string_view>
#include <vector>

namespace deeptrace {

/// Calls `visit(index, character)` for each character outside, in order, until it returns true. A closing bracket counts
/// as outside. In quotes a backslash goes with what follows it.
template <class Visit>
void outside(std::string_view text, Visit visit) {
  int open = 0;
  char quote = 0;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    if (quote != 0) {
      if (c == '\\') ++i;
      if (c == quote) quote = 0;
      continue;
    }
    if (c == '"' || c == '\'') {
      quote = c;
      continue;
    }
    if (c == '(' || c == '[') ++open;
    if (c == ')' || c == ']') --open;
    if (open <= 0 && visit(i, c)) return;
  }
}

/// A part of a text, without blanks at its ends, and where it begins.
struct Part {
  std::string_view text;
  std::size_t at = 0;
};

/// The parts between those characters outside for which `separates` holds, empty ones included.
template <class Separates>
std::vector<Part> parts_between(std::string_view text, Separates separates) {
  const auto blank = [](char c) { return std::isspace(static_cast<unsigned char>(c)) != 0; };
  std::vector<Part> result;
  std::size_t from = 0;
  const auto close = [&](std::size_t to) {
    std::size_t first = from, last = to;
    while (first < last && blank(text[first])) ++first;
    while (last > first && blank(text[last - 1])) --last;
    result.push_back({text.substr(first, last - first), first});
    from = to + 1;
  };
  outside(text, [&](std::size_t i, char c) {
    if (separates(c)) close(i);
    return false;
  });
  close(text.size());
  return result;
}

}  // namespace deeptrace
