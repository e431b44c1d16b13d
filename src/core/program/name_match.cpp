#include "program/name_match.h"

#include <algorithm>
#include <cctype>

namespace deeptrace::program {
namespace {

bool in_word(char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_'; }

/// Past the bracket that closes the one at `open`; the end where none does.
std::size_t after_bracket(std::string_view text, std::size_t open) {
  int depth = 0;
  for (std::size_t i = open; i < text.size(); ++i) {
    const char c = text[i];
    if (c == '>' && i > 0 && text[i - 1] == '-') continue;
    if (c == '<' || c == '(' || c == '{' || c == '[') ++depth;
    if ((c == '>' || c == ')' || c == '}' || c == ']') && --depth == 0) return i + 1;
  }
  return text.size();
}

/// Past "operator" and its signs at `at`: "operator<<", "operator()", "operator bool".
std::size_t after_operator(std::string_view text, std::size_t at) {
  at += std::string_view("operator").size();
  if (text.substr(at).starts_with("()")) return at + 2;
  if (at < text.size() && text[at] == ' ') return std::min(text.find('(', at), text.size());
  while (at < text.size() && std::string_view("<>=-!+*/%^&|~,[]").find(text[at]) != std::string_view::npos) ++at;
  return at;
}

bool is_operator(std::string_view text, std::size_t at) {
  constexpr std::string_view kWord = "operator";
  const bool whole = text.substr(at).starts_with(kWord) && (at == 0 || !in_word(text[at - 1]));
  return whole && at + kWord.size() < text.size() && !in_word(text[at + kWord.size()]);
}

/// `*` stands for any number of characters.
bool fits_pattern(std::string_view pattern, std::string_view text) {
  std::size_t star = std::string_view::npos, from = 0, p = 0, t = 0;
  while (t < text.size()) {
    if (p < pattern.size() && pattern[p] == '*') {
      star = p++;
      from = t;
    } else if (p < pattern.size() && pattern[p] == text[t]) {
      ++p;
      ++t;
    } else if (star != std::string_view::npos) {
      p = star + 1;
      t = ++from;
    } else {
      return false;
    }
  }
  return std::all_of(pattern.begin() + static_cast<std::ptrdiff_t>(p), pattern.end(), [](char c) { return c == '*'; });
}

bool is_tail(std::string_view full, std::string_view tail) {
  if (!full.ends_with(tail)) return false;
  return full.size() == tail.size() || full.substr(0, full.size() - tail.size()).ends_with("::");
}

}  // namespace

std::string bare_name(std::string_view readable) {
  constexpr std::string_view kUnnamed = "(anonymous namespace)";
  std::string result;
  for (std::size_t i = 0; i < readable.size();) {
    if (is_operator(readable, i)) {
      const std::size_t end = after_operator(readable, i);
      result += readable.substr(i, end - i);
      i = end;
      continue;
    }
    const char c = readable[i];
    std::size_t end = i + 1;
    if (readable.substr(i).starts_with(kUnnamed)) {
      end = i + kUnnamed.size();
      result += kUnnamed;
    } else if (c == '{') {
      end = after_bracket(readable, i);
      result += readable.substr(i, end - i);
    } else if (c == '<' || c == '[') {
      end = after_bracket(readable, i);
    } else if (c == '(') {
      end = after_bracket(readable, i);
      std::string_view rest = readable.substr(end);
      if (rest.starts_with(" const")) rest.remove_prefix(std::string_view(" const").size());
      if (!rest.starts_with("::")) return result;  // of a function around what is meant otherwise
      end = readable.size() - rest.size();
    } else if (c == ' ') {
      result.clear();  // what it returns
    } else {
      result += c;
    }
    i = end;
  }
  return result;
}

NameMatch::NameMatch(std::string_view wanted) : wanted_(wanted) {
  pattern_ = wanted.find('*') != std::string_view::npos && wanted.find_first_of("(<") == std::string_view::npos &&
             wanted.find("operator") == std::string_view::npos;
  bare_ = wanted.find_first_of("<(") == std::string_view::npos || wanted.find("operator") != std::string_view::npos ||
          wanted.starts_with("(anonymous");
  // The longest word; names of the library have abbreviations in symbols.
  for (std::size_t i = 0; i < wanted.size();) {
    std::size_t end = i;
    while (end < wanted.size() && in_word(wanted[end])) ++end;
    const std::string_view word = wanted.substr(i, end - i);
    if (word.size() > word_.size()) word_ = word;
    i = std::max(end, i + 1);
  }
  if (wanted.starts_with("std::") || wanted.find("operator") != std::string_view::npos || !bare_) word_.clear();
}

std::optional<NameMatch::How> NameMatch::fits(std::string_view readable) const {
  const std::string bare = bare_name(readable);
  if (pattern_) {
    const bool fitting = fits_pattern(wanted_, bare) || fits_pattern("*::" + wanted_, bare);
    return fitting ? std::optional(How::pattern) : std::nullopt;
  }
  if (!bare_) {
    // With the template arguments or signature that were written.
    for (const std::size_t end : {readable.size(), std::min(readable.rfind('('), readable.size())}) {
      if (is_tail(readable.substr(0, end), wanted_)) return How::tail;
    }
    return std::nullopt;
  }
  const std::size_t last = bare.rfind("::");
  if (last != std::string::npos && is_tail(std::string_view(bare).substr(0, last), wanted_)) return How::member;
  return is_tail(bare, wanted_) ? std::optional(How::tail) : std::nullopt;
}

}  // namespace deeptrace::program
