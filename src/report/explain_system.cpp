#include "report/explain_system.h"

#include <fmt/format.h>

#include <algorithm>

namespace deeptrace::report {
namespace {

using namespace study;

std::string_view programs(isa::Mode mode) { return mode == isa::Mode::bits64 ? "64-bit programs" : "32-bit programs"; }

std::string joined(const std::vector<std::string>& words) {
  std::string text;
  for (const std::string& word : words) text += (text.empty() ? "" : ", ") + word;
  return text;
}

/// Whether both numberings have the same arguments, but for the registers.
bool are_alike(const ExplainedCallForm& a, const ExplainedCallForm& b) {
  const auto same = [](const ExplainedArgument& one, const ExplainedArgument& other) {
    return one.name == other.name && one.meaning == other.meaning;
  };
  return std::ranges::equal(a.arguments, b.arguments, same) && a.result.meaning == b.result.meaning;
}

/// "0x241 · 577", or the one reading where they do not differ.
std::string value_words(const Style& style, std::int64_t value) {
  if (value >= 0 && value < 10) return std::to_string(value);
  const unsigned bytes = value >= INT32_MIN && value <= INT32_MAX ? 4 : 8;
  return both_readings(style, static_cast<std::uint64_t>(value), bytes);
}

class Text {
 public:
  Text(Output& out, const Style& style) : out_(out), style_(style) {}

  void call(const ExplainedCall& e) {
    std::string numbers;
    for (const ExplainedCallForm& form : e.forms)
      numbers += fmt::format("{} {} by {} in {}", numbers.empty() ? "number" : ",", form.number, form.instruction,
                             programs(form.mode));
    prose(fmt::format("{}   a system call: {}", e.name, numbers), "", Role::heading);
    if (e.forms.size() == 1) note(fmt::format("{} have no such call", programs(other(e.forms[0].mode))));
    if (!e.same_number.empty())
      note(fmt::format("number {} is {} in {}", e.forms[0].number, e.same_number, programs(other(e.forms[0].mode))));
    line("");
    if (e.forms.size() == 2 && are_alike(e.forms[0], e.forms[1])) {
      arguments({&e.forms[0], &e.forms[1]});
    } else {
      for (const ExplainedCallForm& form : e.forms) arguments({&form});
    }
    for (const ExplainedGroup& one : e.groups) group(one);
    for (const ExplainedStructure& one : e.structures) structure(one, e.forms[0].mode);
    if (e.errors.empty()) return;
    line("");
    line("  errors");
    for (const auto& [name, meaning] : e.errors) line(fmt::format("    {:<16} {}", name, meaning));
  }

  void error(const ExplainedError& e) {
    line(fmt::format("{}   an error: {}", look(style_, Role::heading, e.name), e.number));
    line("");
    line("  " + e.meaning);
    if (!e.cause.empty()) prose(e.cause, "  ", Role::plain);
    const auto raw = static_cast<std::uint64_t>(-static_cast<std::int64_t>(e.number));
    prose(fmt::format(
              "a raw system call gives -{} for it: {} in rax, {} in eax; the C library returns -1 and puts {} into "
              "errno",
              e.number, hex(raw), hex(raw & 0xffffffff), e.number),
          "  ", Role::plain);
  }

  void signal(const ExplainedSignal& e) {
    line(fmt::format("{}   a signal: {}", look(style_, Role::heading, e.name), e.number));
    line("");
    line("  " + e.meaning);
    prose(fmt::format("cause: {}", e.cause), "  ", Role::plain);
    prose(fmt::format("unless the program handles it: {}", e.action), "  ", Role::plain);
    line(fmt::format("  a shell reports {} as the status of a program that it ended", 128 + e.number));
  }

  void constants(const ExplainedConstants& e) {
    line(look(style_, Role::heading, printable(e.word)) + (e.found.size() == 1 ? "   a constant" : "   constants"));
    line("");
    for (const ExplainedConstants::One& one : e.found) {
      if (one.constant.name.empty()) {
        line(fmt::format("  {:<24} {}", "all together", value_words(style_, one.constant.value)));
        continue;
      }
      line(fmt::format("  {:<24} {}", one.constant.name, value_words(style_, one.constant.value)));
      if (!one.taken_by.empty()) prose(joined(one.taken_by), "      ", Role::faint);
    }
  }

  /// Of a bare number, a line for each meaning.
  void brief(const Explanation& e, const std::string& number) {
    if (e.call) {
      std::string text = fmt::format("  as a system call  {} in {}", e.call->name, programs(e.call->forms[0].mode));
      if (!e.call->same_number.empty())
        text += fmt::format(", {} in {}", e.call->same_number, programs(other(e.call->forms[0].mode)));
      line(text);
    }
    if (e.error) line(fmt::format("  as an error       {}: {}", e.error->name, e.error->meaning));
    if (e.signal) line(fmt::format("  as a signal       {}: {}", e.signal->name, e.signal->meaning));
    if (e.constants) {
      std::vector<std::string> names;
      for (const auto& one : e.constants->found) names.emplace_back(one.constant.name);
      constexpr std::size_t kShown = 8;
      const std::size_t more = names.size() - std::min(names.size(), kShown);
      names.resize(names.size() - more);
      prose(fmt::format("as a constant     {}{}", joined(names),
                        more != 0 ? fmt::format(" and {} more: explain constant {}", more, number) : ""),
            "  ", Role::plain);
    }
  }

  void line(std::string_view text) { add_line(out_, style_, text); }

 private:
  static isa::Mode other(isa::Mode mode) { return mode == isa::Mode::bits64 ? isa::Mode::bits32 : isa::Mode::bits64; }
  void prose(std::string_view text, std::string_view indent, Role role) { add_prose(out_, style_, text, indent, role); }
  void note(std::string_view text) { prose(fmt::format("note: {}", text), "  ", Role::attention); }

  void arguments(const std::vector<const ExplainedCallForm*>& forms) {
    std::size_t width = 8;
    for (const ExplainedArgument& one : forms[0]->arguments) width = std::max(width, one.name.size());
    std::string heading = fmt::format("  {:<{}}", "argument", width);
    for (const ExplainedCallForm* form : forms)
      heading += fmt::format("  {:<6}", form->mode == isa::Mode::bits64 ? "64-bit" : "32-bit");
    line(look(style_, Role::faint, heading + "  what it is"));
    const auto row = [&](std::string_view name, const auto& place, std::string_view meaning) {
      std::string text = fmt::format("  {:<{}}", name, width);
      for (const ExplainedCallForm* form : forms) text += fmt::format("  {:<6}", place(*form));
      add_row(text + "  ", meaning);
    };
    row(
        "number", [](const ExplainedCallForm& form) { return form.number_register; },
        forms.size() == 2 ? fmt::format("{}, {}", forms[0]->number, forms[1]->number)
                          : std::to_string(forms[0]->number));
    for (std::size_t i = 0; i < forms[0]->arguments.size(); ++i)
      row(
          forms[0]->arguments[i].name, [i](const ExplainedCallForm& form) { return form.arguments[i].reg; },
          forms[0]->arguments[i].meaning);
    row(
        "result", [](const ExplainedCallForm& form) { return form.result.reg; }, forms[0]->result.meaning);
  }

  /// What does not fit goes on below its column.
  void add_row(const std::string& start, std::string_view meaning) {
    const std::size_t room = style_.width > start.size() + 20 ? style_.width - start.size() : meaning.size();
    std::string indent = start;
    std::string rest(meaning);
    do {
      std::size_t end = rest.size() <= room ? rest.size() : rest.rfind(' ', room);
      if (end == std::string::npos || end == 0) end = rest.size();
      line(indent + rest.substr(0, end));
      rest.erase(0, std::min(end + 1, rest.size()));
      indent.assign(start.size(), ' ');
    } while (!rest.empty());
  }

  void group(const ExplainedGroup& e) {
    line("");
    line(fmt::format("  {}: {}", e.argument, e.set ? "a set of" : "one of"));
    std::size_t width = 0;
    for (const ExplainedConstant& one : e.constants) width = std::max(width, one.name.size());
    for (const ExplainedConstant& one : e.constants)
      line(fmt::format("    {:<{}}  {}", one.name, width, value_words(style_, one.value)));
  }

  void structure(const ExplainedStructure& e, isa::Mode mode) {
    line("");
    line(fmt::format("  {} points to {}, {} bytes in {}", e.argument, e.name, e.size, programs(mode)));
    line(look(style_, Role::faint, "    at      bytes  field"));
    for (const ExplainedMember& one : e.fields)
      line(fmt::format("    {:<7} {:<6} {}", "+" + hex(one.offset), one.size, one.declaration));
  }

  Output& out_;
  const Style& style_;
};

class Json {
 public:
  explicit Json(JsonWriter& json) : json_(json) {}

  void call(const ExplainedCall& e) {
    json_.key("syscall").begin_object();
    json_.key("name").string(e.name);
    json_.key("same_number").string_or_null(e.same_number);
    list("forms", e.forms, [&](const ExplainedCallForm& form) {
      json_.key("bits").number(form.mode == isa::Mode::bits64 ? 64 : 32);
      json_.key("number").number(form.number);
      json_.key("number_register").string(form.number_register);
      json_.key("instruction").string(form.instruction);
      list("arguments", form.arguments, [&](const ExplainedArgument& one) {
        json_.key("name").string(one.name);
        json_.key("register").string(one.reg);
        json_.key("meaning").string(one.meaning);
      });
      json_.key("result").string(form.result.meaning);
    });
    list("constants", e.groups, [&](const ExplainedGroup& group) {
      json_.key("argument").string(group.argument);
      json_.key("set").boolean(group.set);
      list("of", group.constants, [&](const ExplainedConstant& one) { constant(one); });
    });
    list("structures", e.structures, [&](const ExplainedStructure& one) {
      json_.key("argument").string(one.argument);
      json_.key("name").string(one.name);
      json_.key("size").number(one.size);
      list("fields", one.fields, [&](const ExplainedMember& field) {
        json_.key("offset").number(field.offset);
        json_.key("size").number(field.size);
        json_.key("declaration").string(field.declaration);
      });
    });
    list("errors", e.errors, [&](const auto& one) {
      json_.key("name").string(one.first);
      json_.key("meaning").string(one.second);
    });
    json_.end();
  }

  void error(const ExplainedError& e) {
    json_.key("error").begin_object();
    json_.key("number").number(static_cast<std::uint64_t>(e.number));
    json_.key("name").string(e.name);
    json_.key("meaning").string(e.meaning);
    json_.key("cause").string_or_null(e.cause);
    json_.end();
  }

  void signal(const ExplainedSignal& e) {
    json_.key("signal").begin_object();
    json_.key("number").number(static_cast<std::uint64_t>(e.number));
    json_.key("name").string(e.name);
    json_.key("meaning").string(e.meaning);
    json_.key("action").string(e.action);
    json_.key("cause").string(e.cause);
    json_.end();
  }

  void constants(const ExplainedConstants& e) {
    list("constants", e.found, [&](const ExplainedConstants::One& one) {
      constant(one.constant);
      json_.key("taken_by").begin_array();
      for (const std::string& taker : one.taken_by) json_.string(taker);
      json_.end();
    });
  }

 private:
  void constant(const ExplainedConstant& one) {
    json_.key("name").string_or_null(one.name);
    json_.key("value").string(std::to_string(one.value));
  }

  /// An array of objects, whose keys `each` writes.
  void list(std::string_view key, const auto& all, const auto& each) {
    json_.key(key).begin_array();
    for (const auto& one : all) {
      json_.begin_object();
      each(one);
      json_.end();
    }
    json_.end();
  }

  JsonWriter& json_;
};

}  // namespace

void explain_system_text(Output& out, const Style& style, const Explanation& e, bool first) {
  Text text(out, style);
  if (e.brief) {
    if (!e.call && !e.error && !e.signal && !e.constants) return;
    if (!first) text.line("");
    return text.brief(e, e.flags ? std::to_string(e.flags->value) : "");
  }
  const auto part = [&](const auto& value, auto show) {
    if (!value) return;
    if (!first) text.line("");
    first = false;
    (text.*show)(*value);
  };
  part(e.call, &Text::call);
  part(e.error, &Text::error);
  part(e.signal, &Text::signal);
  part(e.constants, &Text::constants);
}

void explain_system_json(JsonWriter& json, const Explanation& e) {
  Json keys(json);
  if (e.call) keys.call(*e.call);
  if (e.error) keys.error(*e.error);
  if (e.signal) keys.signal(*e.signal);
  if (e.constants) keys.constants(*e.constants);
}

}  // namespace deeptrace::report
