#include "report/explain_convention.h"

#include <fmt/format.h>

#include "report/names.h"

namespace deeptrace::report {
namespace {

using abi::Convention;
using study::ExplainedConvention;

template <class Names>
std::string listed(const Names& names) {
  std::string text;
  for (const auto& name : names) text += (text.empty() ? "" : ", ") + std::string(name);
  return text;
}

std::string with_rest(const Convention& one, std::string_view registers) {
  const std::string text = listed(abi::names_in(registers));
  if (!one.stack) return text;
  return text.empty() ? "on the stack" : text + ", then the stack";
}

std::string_view stack_pointer(const Convention& one) { return one.mode == arch::Mode::bits64 ? "rsp" : "esp"; }

class Text {
 public:
  Text(Output& out, const Style& style) : out_(out), style_(style) {}

  void convention(const ExplainedConvention& explained) {
    const Convention& one = *explained.convention;
    add_prose(out_, style_, fmt::format("{}   a calling convention: {}", one.name, one.title), "", Role::heading);
    line(look(style_, Role::faint, fmt::format("  also {}", listed(abi::names_in(one.also)))));
    line("");
    row("number", std::string(one.number));
    row("integers, addresses", with_rest(one, one.integers));
    row("floating-point", one.number.empty() ? with_rest(one, one.floats) : "");
    if (one.by_position) row("", "the third argument takes the third register of either list, and so on");
    row("result", result_words(one));
    row("kept by the callee", listed(abi::names_in(one.kept)));
    row("may be changed", listed(explained.changes));
    row("stack", stack_words(one));
    if (!explained.stack.empty()) {
      line("");
      line(look(style_, Role::faint, "  at the first instruction, arguments that are integers"));
      for (const ExplainedConvention::Slot& slot : explained.stack)
        line(fmt::format("    {:<10} {}", place(one, slot.offset), slot.what));
    }
    line("");
    for (const std::string_view remark : one.remarks) {
      if (!remark.empty()) add_prose(out_, style_, std::string(remark), "  ", Role::plain);
    }
    line(look(style_, Role::faint, fmt::format("  by: {}", one.source)));
  }

 private:
  void line(std::string_view text) { add_line(out_, style_, text); }
  void row(std::string_view name, const std::string& text) {
    constexpr std::size_t kLabel = 24;
    std::string rest = text, label = "  " + std::string(name);
    while (!rest.empty()) {
      const std::size_t room = style_.width > kLabel + 20 ? style_.width - kLabel : rest.size();
      std::size_t end = rest.size() <= room ? rest.size() : rest.rfind(' ', room);
      if (end == std::string::npos || end == 0) end = rest.size();
      label.resize(kLabel, ' ');
      line(label + rest.substr(0, end));
      rest.erase(0, std::min(end + 1, rest.size()));
      label.clear();
    }
  }
  static std::string result_words(const Convention& one) {
    const auto first_and_rest = [](std::string_view registers) {
      const auto names = abi::names_in(registers);
      return names.size() > 1 ? fmt::format("{} (and {})", names[0], names[1]) : listed(names);
    };
    std::string text = first_and_rest(one.result);
    if (!one.float_result.empty()) text += fmt::format("; floating-point {}", first_and_rest(one.float_result));
    return text;
  }
  static std::string stack_words(const Convention& one) {
    if (!one.stack) return "not used";
    std::string text = fmt::format("on a boundary of {} bytes at the call; {} takes arguments off it", one.alignment,
                                   one.callee_cleans ? "the callee" : "the caller");
    if (one.red_zone != 0)
      text += fmt::format("; {} bytes below {} are the red zone, for functions that call none", one.red_zone,
                          stack_pointer(one));
    if (one.home != 0) text += fmt::format("; the caller leaves {} bytes free above the return address", one.home);
    return text;
  }
  static std::string place(const Convention& one, std::int64_t offset) {
    if (offset == 0) return std::string(stack_pointer(one));
    return fmt::format("{}{}{}", stack_pointer(one), offset < 0 ? '-' : '+',
                       hex(static_cast<std::uint64_t>(offset < 0 ? -offset : offset)));
  }

  Output& out_;
  const Style& style_;
};

void list(JsonWriter& json, std::string_view key, const std::vector<std::string_view>& names) {
  json.key(key).begin_array();
  for (const std::string_view name : names) json.string(name);
  json.end();
}

}  // namespace

void explain_convention_text(Output& out, const Style& style, const ExplainedConvention& explained) {
  Text(out, style).convention(explained);
}

void explain_convention_json(JsonWriter& json, const ExplainedConvention& explained) {
  const Convention& one = *explained.convention;
  json.begin_object();
  json.key("name").string(one.name);
  list(json, "also", abi::names_in(one.also));
  json.key("title").string(one.title);
  json.key("machine").string(arch::machine_of(one.mode).name);
  json.key("number").string_or_null(one.number);
  list(json, "integers", abi::names_in(one.integers));
  list(json, "floats", abi::names_in(one.floats));
  list(json, "result", abi::names_in(one.result));
  list(json, "float_result", abi::names_in(one.float_result));
  list(json, "kept", abi::names_in(one.kept));
  list(json, "changed", {explained.changes.begin(), explained.changes.end()});
  json.key("by_position").boolean(one.by_position);
  json.key("callee_cleans").boolean(one.callee_cleans);
  json.key("alignment").number(one.alignment);
  json.key("red_zone").number(one.red_zone);
  json.key("home").number(one.home);
  json.key("stack").begin_array();
  for (const ExplainedConvention::Slot& slot : explained.stack) {
    json.begin_object();
    json.key("offset").string(std::to_string(slot.offset));
    json.key("what").string(slot.what);
    json.end();
  }
  json.end();
  json.key("remarks").begin_array();
  for (const std::string_view remark : one.remarks) {
    if (!remark.empty()) json.string(remark);
  }
  json.end();
  json.key("source").string(one.source);
  json.end();
}

}  // namespace deeptrace::report
