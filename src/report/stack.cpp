#include "report/stack.h"

#include <fmt/format.h>

#include "report/changes.h"
#include "report/names.h"

namespace deeptrace::report {

using look::StackWord;

std::string_view kind_name(StackWord::Kind kind) {
  switch (kind) {
    case StackWord::Kind::return_address: return "return address";
    case StackWord::Kind::kept: return "kept register";
    case StackWord::Kind::variable: return "variable";
    case StackWord::Kind::argument: return "argument";
    case StackWord::Kind::outgoing: return "outgoing argument";
    case StackWord::Kind::protector: return "protector";
    case StackWord::Kind::padding: return "padding";
    default: return "unknown";
  }
}

std::vector<std::string> stack_lines(const Style& style, const std::vector<StackWord>& words, unsigned bytes) {
  std::vector<std::string> result;
  std::size_t frame = ~std::size_t(0);
  for (const StackWord& word : words) {
    if (word.frame != frame && !word.function.empty())
      result.push_back(
          look(style, Role::faint, fmt::format("       frame {}  {}", word.frame, shown_name(style, word.function))));
    frame = word.frame;
    std::string text = fmt::format("{} {:>3}  {:#x}  {:#0{}x}", word.changed ? "~" : " ",
                                   word.top     ? "top"
                                   : word.below ? "red"
                                                : "",
                                   word.address, word.value, bytes * 2 + 2);
    const bool is_place = word.points_to.known() || word.kind == StackWord::Kind::return_address ||
                          word.kind == StackWord::Kind::protector;
    if (!is_place)
      text += fmt::format(" {} {}", style.utf8 ? "\u00b7" : "/",
                          bytes == 8 ? static_cast<std::int64_t>(word.value) : static_cast<std::int32_t>(word.value));
    text += address_words(style, word.points_to);
    if (!word.meaning.empty()) text = fmt::format("{:<64} {}", text, printable(word.meaning));
    const Role role = word.changed                                   ? Role::changed
                      : word.kind == StackWord::Kind::return_address ? Role::heading
                                                                     : Role::plain;
    result.push_back(look(style, role, text));
  }
  return result;
}

}  // namespace deeptrace::report
