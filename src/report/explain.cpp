#include "report/explain.h"

#include <fmt/format.h>

#include <set>

#include "report/explain_convention.h"
#include "report/explain_frame.h"
#include "report/explain_passing.h"
#include "report/explain_system.h"
#include "report/json.h"

namespace deeptrace::report {
namespace {

using namespace study;

std::string digits(const std::vector<std::uint8_t>& bytes) {
  std::string result;
  for (const std::uint8_t byte : bytes) result += fmt::format("{}{:02x}", result.empty() ? "" : " ", byte);
  return result;
}

std::string flag_words(const ExplainedDoing& doing) {
  std::string result;
  const auto add = [&](std::string_view what, const std::string& names) {
    if (!names.empty()) result += fmt::format("{}{} {}", result.empty() ? "" : "   ", what, names);
  };
  add("read", doing.flags_read);
  add("written", doing.flags_written);
  add("cleared", doing.flags_cleared);
  add("set", doing.flags_set);
  add("undefined", doing.flags_undefined);
  return result.empty() ? "none" : result;
}

class Text {
 public:
  Text(Output& out, Style style) : out_(out), style_(style) {}

  void bytes(const ExplainedBytes& e) {
    line(fmt::format("{}   {}", look(style_, Role::heading, digits(e.bytes)), e.text));
    prose(e.sentence, "  ", Role::plain);
    if (!e.note.empty()) attention(e.note);
    if (e.rest != 0)
      attention(fmt::format("{} after it left out", e.rest == 1 ? "1 byte" : fmt::format("{} bytes", e.rest)));
    line("");
    line(look(style_, Role::faint, "  at   bytes                     what it is"));
    for (const ExplainedField& field : e.fields)
      line(fmt::format("  {:<4} {:<25} {}", field.at, digits(field.bytes), field.meaning));
    if (!e.operands.empty()) {
      line("");
      line(look(style_, Role::faint, "  operand                         access                  bits"));
    }
    for (const ExplainedOperand& operand : e.operands) {
      std::string text = fmt::format("  {:<31} {:<23} {:<5}", operand.text + (operand.hidden ? " (implied)" : ""),
                                     operand.access, operand.width == 0 ? "" : std::to_string(operand.width));
      if (!operand.consequence.empty()) text += " " + operand.consequence;
      line(text);
    }
    line("");
    doing(e.doing, "  ");
    if (e.feature != "none") line("  needs  " + e.feature);
    if (!e.unproved.empty())
      attention(fmt::format("not proved by running it: {}; the assembler has proved the encoding", e.unproved));
  }

  void instruction(const ExplainedInstruction& e) {
    std::set<std::string_view> unproved;
    line(look(style_, Role::heading, e.name) + "   an instruction");
    for (const ExplainedOperation& operation : e.operations) {
      line("");
      prose(operation.sentence, "  ", Role::plain);
      if (!operation.note.empty()) attention(operation.note);
      doing(operation.doing, "    ");
      for (const ExplainedForm& form : operation.forms) {
        std::string text = fmt::format("    {:<36} {:<28}", form.text, form.encoding);
        if (form.feature != "none") text += " " + form.feature;
        if (form.modes == 1) text += " (32-bit mode only)";
        if (form.modes == 2) text += " (64-bit mode only)";
        if (!form.unproved.empty()) unproved.insert(form.unproved);
        text += form.unproved.empty() ? "" : " *";
        while (text.back() == ' ') text.pop_back();
        line(text);
      }
    }
    for (const std::string_view why : unproved)
      attention(fmt::format("* not proved by running it: {}; the assembler has proved the encoding", why));
  }

  void flags(const ExplainedFlags& e) {
    line(look(style_, Role::heading, fmt::format("{:#x}", e.value)) + "   as a flags word");
    line("");
    for (const ExplainedFlag& flag : e.flags) {
      const bool arithmetic = flag.bit <= 11;
      if (!flag.set && !arithmetic) continue;
      const std::string text =
          fmt::format("  {:<4} {}  bit {:<2}  {}", flag.name, flag.set ? 1 : 0, flag.bit, flag.meaning);
      line(flag.set ? text : look(style_, Role::faint, text));
    }
    if (e.unnamed != 0) attention(fmt::format("bits {:#x} have no name", e.unnamed));
    line("");
    line("  conditions that hold");
    const auto all = isa::conditions();
    for (unsigned i = 0; i < all.size(); ++i) {
      if (isa::condition_holds(i, e.value)) line(fmt::format("    {:<3} {}", all[i].name, all[i].words));
    }
  }

  void reg(const ExplainedRegister& e) {
    line(look(style_, Role::heading, e.name) + "   a register");
    line("");
    for (const std::string& part : e.parts) line("  " + part);
    if (!e.remark.empty()) line("  " + e.remark);
    line("");
    line("  in calls of 64-bit Linux programs");
    if (!e.role.role.empty()) line(fmt::format("    {}", e.role.role));
    line(e.role.kept_by_callee ? "    a called function gives it back as it was"
                               : "    a called function may change it");
  }

  void prefix(const ExplainedPrefix& e) {
    line(look(style_, Role::heading, e.name) + "   a prefix: " + e.encoding);
    line("");
    prose(e.meaning, "  ", Role::plain);
    for (const std::string& remark : e.remarks) prose(remark, "  ", Role::plain);
  }

  void line(std::string_view text) { add_line(out_, style_, text); }

 private:
  void prose(std::string_view text, std::string_view indent, Role role) { add_prose(out_, style_, text, indent, role); }

  void attention(std::string_view text) { prose(fmt::format("note: {}", text), "  ", Role::attention); }

  void doing(const ExplainedDoing& e, std::string_view indent) {
    line(fmt::format("{}flags  {}", indent, flag_words(e)));
    for (const std::string& remark : e.remarks) prose(remark, indent, Role::plain);
  }

  Output& out_;
  Style style_;
};

class Json {
 public:
  explicit Json(Output& out) : json_(out) {}

  void write(const Explanation& e) {
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("explain");
    if (e.instruction) instruction(*e.instruction);
    if (e.reg) reg(*e.reg);
    if (e.prefix) prefix(*e.prefix);
    if (e.bytes) bytes(*e.bytes);
    if (e.flags) flags(*e.flags);
    if (e.convention) {
      json_.key("convention");
      explain_convention_json(json_, *e.convention);
    }
    if (e.passing) {
      json_.key("passing");
      explain_passing_json(json_, *e.passing);
    }
    if (e.frame) {
      json_.key("frame");
      explain_frame_json(json_, *e.frame);
    }
    explain_system_json(json_, e);
    json_.close_all();
  }

 private:
  void doing(const ExplainedDoing& e) {
    json_.key("flags").begin_object();
    json_.key("read").string(e.flags_read);
    json_.key("written").string(e.flags_written);
    json_.key("cleared").string(e.flags_cleared);
    json_.key("set").string(e.flags_set);
    json_.key("undefined").string(e.flags_undefined);
    json_.end();
    json_.key("remarks").begin_array();
    for (const std::string& remark : e.remarks) json_.string(remark);
    json_.end();
  }

  void bytes(const ExplainedBytes& e) {
    json_.key("bytes").begin_object();
    json_.key("instruction").bytes(e.bytes.data(), e.bytes.size());
    json_.key("rest").number(e.rest);
    json_.key("text").string(e.text);
    json_.key("meaning").string(e.sentence);
    json_.key("note").string_or_null(e.note);
    json_.key("encoding").string(e.encoding);
    json_.key("feature").string(e.feature);
    json_.key("unproved").string_or_null(e.unproved);
    json_.key("fields").begin_array();
    for (const ExplainedField& field : e.fields) {
      json_.begin_object();
      json_.key("at").number(field.at);
      json_.key("bytes").bytes(field.bytes.data(), field.bytes.size());
      json_.key("meaning").string(field.meaning);
      json_.end();
    }
    json_.end();
    json_.key("operands").begin_array();
    for (const ExplainedOperand& operand : e.operands) {
      json_.begin_object();
      json_.key("text").string(operand.text);
      json_.key("implied").boolean(operand.hidden);
      json_.key("access").string(operand.access);
      json_.key("bits").number(operand.width);
      json_.key("consequence").string_or_null(operand.consequence);
      json_.end();
    }
    json_.end();
    doing(e.doing);
    json_.end();
  }

  void instruction(const ExplainedInstruction& e) {
    json_.key("instruction").begin_object();
    json_.key("name").string(e.name);
    json_.key("operations").begin_array();
    for (const ExplainedOperation& operation : e.operations) {
      json_.begin_object();
      json_.key("meaning").string(operation.sentence);
      json_.key("note").string_or_null(operation.note);
      doing(operation.doing);
      json_.key("forms").begin_array();
      for (const ExplainedForm& form : operation.forms) {
        json_.begin_object();
        json_.key("text").string(form.text);
        json_.key("encoding").string(form.encoding);
        json_.key("feature").string(form.feature);
        json_.key("unproved").string_or_null(form.unproved);
        json_.key("mode32").boolean((form.modes & 1) != 0);
        json_.key("mode64").boolean((form.modes & 2) != 0);
        json_.end();
      }
      json_.end();
      json_.end();
    }
    json_.end();
    json_.end();
  }

  void flags(const ExplainedFlags& e) {
    json_.key("flags_word").begin_object();
    json_.key("value").hex(e.value);
    json_.key("bits").begin_array();
    for (const ExplainedFlag& flag : e.flags) {
      json_.begin_object();
      json_.key("bit").number(flag.bit);
      json_.key("name").string(flag.name);
      json_.key("set").boolean(flag.set);
      json_.key("meaning").string(flag.meaning);
      json_.end();
    }
    json_.end();
    json_.key("conditions").begin_array();
    const auto all = isa::conditions();
    for (unsigned i = 0; i < all.size(); ++i) {
      if (isa::condition_holds(i, e.value)) json_.string(all[i].name);
    }
    json_.end();
    json_.end();
  }

  void reg(const ExplainedRegister& e) {
    json_.key("register").begin_object();
    json_.key("name").string(e.name);
    json_.key("parts").begin_array();
    for (const std::string& part : e.parts) json_.string(part);
    json_.end();
    json_.key("role").string_or_null(e.role.role);
    json_.key("kept_by_callee").boolean(e.role.kept_by_callee);
    json_.end();
  }

  void prefix(const ExplainedPrefix& e) {
    json_.key("prefix").begin_object();
    json_.key("name").string(e.name);
    json_.key("encoding").string(e.encoding);
    json_.key("meaning").string(e.meaning);
    json_.key("remarks").begin_array();
    for (const std::string& remark : e.remarks) json_.string(remark);
    json_.end();
    json_.end();
  }

  JsonWriter json_;
};

}  // namespace

void explain_text(Output& out, Style style, const Explanation& explanation) {
  Text text(out, style);
  bool first = true;
  const auto part = [&](const auto& value, auto show) {
    if (!value) return;
    if (!first) text.line("");
    first = false;
    (text.*show)(*value);
  };
  part(explanation.instruction, &Text::instruction);
  part(explanation.reg, &Text::reg);
  part(explanation.prefix, &Text::prefix);
  part(explanation.bytes, &Text::bytes);
  part(explanation.flags, &Text::flags);
  if (explanation.convention) {
    if (!first) text.line("");
    first = false;
    explain_convention_text(out, style, *explanation.convention);
  }
  if (explanation.passing) explain_passing_text(out, style, *explanation.passing);
  if (explanation.frame) explain_frame_text(out, style, *explanation.frame);
  explain_system_text(out, style, explanation, first);
}

void explain_json(Output& out, const Explanation& explanation) { Json(out).write(explanation); }

}  // namespace deeptrace::report
