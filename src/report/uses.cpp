#include "report/uses.h"

#include <fmt/format.h>

#include "report/columns.h"
#include "report/file_words.h"
#include "report/names.h"
#include "report/source_words.h"

namespace deeptrace::report {
namespace {

using study::Use;
using study::UsesHead;
using study::UsesSummary;

std::string_view how_words(const Use& use) {
  switch (use.how) {
    case program::UseKind::read: return "reads";
    case program::UseKind::write: return "writes";
    case program::UseKind::read_write: return "reads, writes";
    case program::UseKind::call: return "calls";
    case program::UseKind::jump: return "jumps to";
    case program::UseKind::address: return use.in_data ? "holds address" : "takes address";
    case program::UseKind::inlined: return "inlines";
  }
  return {};
}

/// One function after the other, the lines of each with their uses.
class Text : public study::UsesSink {
 public:
  Text(Output& out, Style style, program::SourceText& sources) : out_(out), style_(style), sources_(sources) {}

  void begin(const UsesHead& head) override {
    std::string text = fmt::format("{}   {}", look(style_, Role::heading, shown_heading(style_, head.name)), head.kind);
    if (head.address != 0) text += fmt::format(" at {:#x}", head.address);
    if (head.size != 0) text += fmt::format(", {} bytes", head.size);
    if (head.instances && !head.instances->words().empty()) text += "   " + head.instances->words();
    line(text + "   " + printable(head.program->elf().path()));
    system_call_ = head.kind == "system call";
  }

  void use(const Use& use) override {
    const std::string where = use.in_data ? "data" : use.function;
    if (where != where_) {
      line("");
      line(look(style_, Role::heading, shown_heading(style_, where)));
      where_ = where;
      line_ = 0;
    }
    if (use.line != line_ && use.line != 0) {
      const auto text = sources_.line(std::string(use.file), use.line);
      const std::string_view name = use.file.substr(use.file.rfind('/') + 1);
      line(look(style_, Role::source,
                fmt::format("{:>7}  {}   {}", use.line, text ? printable_source(*text) : "", printable(name))));
    }
    line_ = use.line;
    std::string row = fmt::format("      {:#x}  {:<13}  {}", use.address, system_call_ ? "system call" : how_words(use),
                                  printable(use.text));
    if (!use.part.empty())
      row = fmt::format("{:<72} {}{}", row, style_.utf8 ? "→ " : "-> ", shown_heading(style_, use.part));
    line(row);
  }

  void end(const UsesSummary& summary) override {
    line("");
    line(fmt::format("{} use{}", summary.uses, summary.uses == 1 ? "" : "s"));
    if (summary.unknown_calls != 0) {
      line(look(style_, Role::attention,
                fmt::format("note: of {} system call{} the number is not known from the code before",
                            summary.unknown_calls, summary.unknown_calls == 1 ? "" : "s")));
    }
  }

 private:
  void line(std::string_view text) { add_line(out_, style_, text); }
  Output& out_;
  Style style_;
  program::SourceText& sources_;
  std::string where_;
  std::uint32_t line_ = 0;
  bool system_call_ = false;
};

constexpr Column<Use> kColumns[] = {
    {"address", [](const Use& use) { return Cell::address(use.address); }},
    {"section", [](const Use& use) { return Cell::text(use.section); }, Forms::json},
    {"function", [](const Use& use) { return Cell::text(use.function); }},
    {"offset", [](const Use& use) { return Cell::number(use.offset); }},
    {"file", [](const Use& use) { return Cell::text(use.file); }},
    {"line", [](const Use& use) { return Cell::line(use.line); }},
    {"how", [](const Use& use) { return Cell::string(study::name_of(use.how)); }},
    {"text", [](const Use& use) { return Cell::string(use.text); }},
    {"part", [](const Use& use) { return Cell::text(use.part); }},
    {"in_data", [](const Use& use) { return Cell::boolean(use.in_data); }, Forms::json},
    {"computed", [](const Use& use) { return Cell::boolean(use.computed); }, Forms::json},
};

class Json : public study::UsesSink {
 public:
  explicit Json(Output& out) : json_(out) {}
  void begin(const UsesHead& head) override {
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("uses");
    json_.key("program").string(head.program->elf().path());
    json_.key("name").string(head.name);
    json_.key("kind").string(head.kind);
    if (head.instances) put_instances(json_, *head.instances);
    json_.key("uses").begin_array();
  }
  void use(const Use& use) override {
    json_.new_line();
    json_.begin_object();
    put_members<Use>(json_, kColumns, use);
    json_.end();
  }
  void end(const UsesSummary& summary) override {
    json_.end();
    json_.key("unknown_calls").number(summary.unknown_calls);
    json_.close_all();
  }

 private:
  JsonWriter json_;
};

class Csv : public study::UsesSink {
 public:
  explicit Csv(Output& out) : csv_(out) {}
  void begin(const UsesHead& /*head*/) override {
    put_heads<Use>(csv_, kColumns);
    csv_.end_row();
  }
  void use(const Use& use) override {
    put_cells<Use>(csv_, kColumns, use);
    csv_.end_row();
  }
  void end(const UsesSummary& /*summary*/) override {}

 private:
  CsvWriter csv_;
};

}  // namespace

std::unique_ptr<study::UsesSink> uses_text(Output& out, Style style, program::SourceText& sources) {
  return std::make_unique<Text>(out, style, sources);
}
std::unique_ptr<study::UsesSink> uses_json(Output& out) { return std::make_unique<Json>(out); }
std::unique_ptr<study::UsesSink> uses_csv(Output& out) { return std::make_unique<Csv>(out); }

}  // namespace deeptrace::report
