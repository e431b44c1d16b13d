// Taking a line of the conversation apart.
#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace deeptrace::cli {

/// Without blanks at its ends.
inline std::string_view trimmed(std::string_view text) {
  while (!text.empty() && (text.front() == ' ' || text.front() == '\t')) text.remove_prefix(1);
  while (!text.empty() && (text.back() == ' ' || text.back() == '\t' || text.back() == '\r')) text.remove_suffix(1);
  return text;
}

/// Takes the first word off.
inline std::string_view take_word(std::string_view& text) {
  text = trimmed(text);
  const std::size_t end = std::min(text.find(' '), text.size());
  const std::string_view word = text.substr(0, end);
  text = trimmed(text.substr(end));
  return word;
}

/// "EXPR as SHAPE", "EXPR since MARK": cuts the last " WORD rest" off and gives the rest.
inline std::optional<std::string_view> take_clause(std::string_view& text, std::string_view word) {
  const std::string mark = " " + std::string(word) + " ";
  const std::size_t at = text.rfind(mark);
  if (at == std::string_view::npos) {
    if (text.starts_with(mark.substr(1))) {
      const std::string_view clause = trimmed(text.substr(mark.size() - 1));
      text = {};
      return clause;
    }
    return std::nullopt;
  }
  const std::string_view clause = trimmed(text.substr(at + mark.size()));
  text = trimmed(text.substr(0, at));
  return clause;
}

}  // namespace deeptrace::cli
