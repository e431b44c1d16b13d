#include "report/names.h"

#include <algorithm>

namespace deeptrace::report {
namespace {

/// The end of a list that opens at `open`, past its closing sign; npos where it does not close. Arrows and operators in
/// it close nothing.
std::size_t after_list(std::string_view text, std::size_t open) {
  int depth = 0;
  for (std::size_t i = open; i < text.size(); ++i) {
    const char c = text[i];
    if (c == '>' && i > 0 && text[i - 1] == '-') continue;
    if (c == '<' || c == '(' || c == '[') ++depth;
    if ((c == '>' || c == ')' || c == ']') && --depth == 0) return i + 1;
  }
  return std::string_view::npos;
}

void replace_all(std::string& text, std::string_view from, std::string_view to) {
  for (std::size_t at = text.find(from); at != std::string::npos; at = text.find(from, at + to.size()))
    text.replace(at, from.size(), to);
}

/// ", std::allocator<int> " and the like, which nobody chose.
void leave_out_defaults(std::string& text) {
  for (const std::string_view one : {", std::allocator<", ", std::char_traits<", ", std::less<", ", std::hash<",
                                     ", std::equal_to<", ", std::default_delete<"}) {
    for (std::size_t at = text.find(one); at != std::string::npos; at = text.find(one, at)) {
      std::size_t end = after_list(text, at + one.size() - 1);
      if (end == std::string::npos) break;
      while (end < text.size() && text[end] == ' ') ++end;
      text.erase(at, end - at);
    }
  }
}

/// "operator<", "operator()": the signs are the name.
bool is_operator(std::string_view text, std::size_t at) {
  constexpr std::string_view kWord = "operator";
  std::size_t from = at;
  while (from > 0 && std::string_view("<>=-!+*/%^&|~,()[]").find(text[from - 1]) != std::string_view::npos) --from;
  return from >= kWord.size() && text.substr(from - kWord.size(), kWord.size()) == kWord;
}

/// The beginning and the end of what no rule makes short enough.
std::string without_midst(const Style& style, std::string_view text) {
  constexpr std::size_t kEnd = 48;
  return std::string(text.substr(0, kLongName - kEnd)) + (style.utf8 ? "\u2026" : "...") +
         std::string(text.substr(text.size() - kEnd));
}

std::string without_noise(const Style& style, std::string_view name, std::size_t longest) {
  const bool whole = name.find_first_of("<(") == std::string_view::npos && name.size() <= kLongName;
  if (style.full_paths || whole) return printable(name);
  std::string text(name);
  replace_all(text, "std::__cxx11::basic_string<char, std::char_traits<char>, std::allocator<char> >", "std::string");
  replace_all(text, "std::basic_string_view<char, std::char_traits<char> >", "std::string_view");
  leave_out_defaults(text);
  replace_all(text, "std::__cxx11::", "std::");
  replace_all(text, ", 18446744073709551615>", ">");  // of a std::span: as many as there are
  std::string result;
  for (std::size_t i = 0; i < text.size();) {
    const bool opens = (text[i] == '<' || text[i] == '(') && !is_operator(text, i);
    const std::size_t end = opens ? after_list(text, i) : std::string::npos;
    if (end == std::string::npos || end - i - 2 <= longest || text.substr(i).starts_with("(anonymous namespace)")) {
      result += text[i++];
      continue;
    }
    result += text[i];
    result += style.utf8 ? "\u2026" : "...";
    result += text[end - 1];
    i = end;
  }
  return printable(result.size() <= kLongName ? result : without_midst(style, result));
}

}  // namespace

std::string shown_name(const Style& style, std::string_view name) { return without_noise(style, name, 24); }

std::string shown_heading(const Style& style, std::string_view name) {
  return name.size() <= kLongName ? printable(name) : shown_name(style, name);
}

std::string shown_type(const Style& style, std::string_view type) { return without_noise(style, type, 64); }

std::string shown_place(const Style& style, std::string_view place, std::string_view inlined) {
  if (inlined.empty()) return shown_name(style, place);
  return shown_name(style, inlined) + ", inlined in " + shown_name(style, place);
}

void put_instances(JsonWriter& json, const program::InstanceCounts& counts) {
  json.key("instances").begin_object();
  json.key("functions").number(counts.functions);
  json.key("clones").number(counts.clones);
  json.key("inlined").number(counts.inlined);
  json.end();
}

}  // namespace deeptrace::report
