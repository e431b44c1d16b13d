#include "report/data.h"

#include <fmt/format.h>

#include "report/columns.h"
#include "report/file_words.h"
#include "report/names.h"
#include "report/value.h"

namespace deeptrace::report {
namespace {

using study::DataFile;
using study::DataRow;

class Text : public study::DataSink {
 public:
  Text(Output& out, Style style) : out_(out), style_(style) {}

  void begin(const DataFile& file) override {
    const std::size_t others = file.variables_all - std::min(file.variables, file.variables_all);
    line(fmt::format("{}   {}, {}   {} of {} variables{}",
                     look(style_, Role::heading, printable(file.program->elf().path())),
                     kind_words(file.program->elf().kind()), machine_words(*file.program), file.variables,
                     file.variables_all, others == 0 ? "" : "; --all lists them all, a name lists that one"));
    if (!file.types && file.variables_all != 0)
      line(look(style_, Role::attention,
                "note: no debug information tells the types: values are shown by their size; --as SHAPE reads them "
                "otherwise"));
  }

  void variable(const DataRow& row) override {
    line("");
    std::string head =
        fmt::format("{}   {:#x}, {}, {} {}", look(style_, Role::heading, printable(row.name)), row.address,
                    row.section.empty() ? std::string("no section") : printable(row.section), row.size,
                    row.size == 1 ? "byte" : "bytes");
    if (row.in_thread) head += ", one in each thread";
    if (!row.writable) head += ", read-only";
    if (!row.type.empty()) head += "   " + shown_type(style_, row.type);
    if (row.value.from_code) head += ", " + inferred_words(row.value);
    if (!row.file.empty())
      head += "   " + look(style_, Role::source, fmt::format("{}:{}", shown_path(style_, row.file), row.line));
    line(head);
    if (has_lines(row.value)) {
      for (const std::string& text : value_lines(style_, row.value, 4)) line(text);
    } else {
      line("    " + value_words(style_, row.value));
    }
  }

  void end() override {}

 private:
  void line(std::string_view text) { add_line(out_, style_, text); }
  Output& out_;
  Style style_;
};

/// The value comes after them, in each form as it is there.
constexpr Column<DataRow> kColumns[] = {
    {"name", [](const DataRow& row) { return Cell::string(row.name); }},
    {"address", [](const DataRow& row) { return Cell::address(row.address); }},
    {"section", [](const DataRow& row) { return Cell::text(row.section); }},
    {"size", [](const DataRow& row) { return Cell::number(row.size); }},
    {"type", [](const DataRow& row) { return Cell::text(row.type); }},
    {"file", [](const DataRow& row) { return Cell::text(row.file); }},
    {"line", [](const DataRow& row) { return Cell::line(row.line); }},
    {"writable", [](const DataRow& row) { return Cell::boolean(row.writable); }, Forms::json},
};

class Json : public study::DataSink {
 public:
  explicit Json(Output& out) : json_(out) {}

  void begin(const DataFile& file) override {
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("data");
    json_.key("file").string(file.program->elf().path());
    json_.key("variables").begin_array();
  }

  void variable(const DataRow& row) override {
    json_.new_line();
    json_.begin_object();
    put_members<DataRow>(json_, kColumns, row);
    if (row.in_thread) json_.key("in_each_thread").boolean(true);
    if (row.value.from_code) json_.key("inferred").boolean(true);
    json_.key("value");
    value_json(json_, row.value);
    json_.end();
  }

  void end() override { json_.close_all(); }

 private:
  JsonWriter json_;
};

class Csv : public study::DataSink {
 public:
  explicit Csv(Output& out) : csv_(out) {}
  void begin(const DataFile& /*file*/) override {
    put_heads<DataRow>(csv_, kColumns);
    csv_.cell("value").end_row();
  }
  void variable(const DataRow& row) override {
    put_cells<DataRow>(csv_, kColumns, row);
    csv_.cell(value_words(Style{false, true, 0}, row.value));
    csv_.end_row();
  }
  void end() override {}

 private:
  CsvWriter csv_;
};

}  // namespace

std::unique_ptr<study::DataSink> data_text(Output& out, Style style) { return std::make_unique<Text>(out, style); }
std::unique_ptr<study::DataSink> data_json(Output& out) { return std::make_unique<Json>(out); }
std::unique_ptr<study::DataSink> data_csv(Output& out) { return std::make_unique<Csv>(out); }

}  // namespace deeptrace::report
