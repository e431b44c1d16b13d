#include "report/lines.h"

#include <fmt/format.h>

#include "report/columns.h"
#include "report/file_words.h"
#include "report/names.h"
#include "report/source_words.h"

namespace deeptrace::report {
namespace {

using program::Inlined;
using study::AddressOrigin;
using study::LineEntry;
using study::LineRange;

std::string count_of(std::size_t count, std::string_view what) {
  return fmt::format("{} {}{}", count, what, count == 1 ? "" : "s");
}

/// "inlined into main at tidelog.c:31": where the nearest call stands.
std::string inlined_words(std::span<const Inlined> calls) {
  std::string result;
  for (std::size_t i = calls.size(); i-- > 0;) {
    result += fmt::format("{}inlined {}", result.empty() ? "" : ", in ", printable(calls[i].name));
    if (calls[i].line != 0) {
      const std::string_view file = calls[i].file.substr(calls[i].file.rfind('/') + 1);
      result += fmt::format(" (called at {}:{})", printable(file), calls[i].line);
    }
  }
  return result;
}

class Text : public study::LinesSink {
 public:
  Text(Output& out, Style style, program::SourceText& sources) : out_(out), style_(style), sources_(sources) {}

  void begin(const program::Program& program, std::size_t lines) override {
    binary_ = program.elf().path();
    line(fmt::format("{}   {}, {}   {}", look(style_, Role::heading, printable(binary_)),
                     kind_words(program.elf().kind()), machine_words(program), count_of(lines, "line")));
  }

  void line(const LineEntry& entry) override {
    if (entry.file != file_) begin_file(std::string(entry.file));
    const auto text = sources_.line(file_, entry.line);
    const std::string source = text ? printable_source(*text) : std::string();
    line(source.empty() ? fmt::format("{:>7}", entry.line)
                        : fmt::format("{:>7}  {}", entry.line, look(style_, Role::source, source)));
    if (entry.ranges.empty()) {
      std::string words = "no instructions";
      if (entry.nearest != 0)
        words += fmt::format("; the {} line that has some is {}", entry.nearest > entry.line ? "next" : "last",
                             entry.nearest);
      line(fmt::format("         {}", look(style_, Role::faint, words)));
    }
    entered(entry);
    for (const study::LinePlace& place : entry.places) {
      std::string words = fmt::format("begins at {:#x} in {}", place.address, shown_heading(style_, place.function));
      if (place.line != 0) words += fmt::format(", where the instructions of line {} begin", place.line);
      line(fmt::format("         {}", look(style_, Role::faint, words)));
    }
    for (const LineRange& range : entry.ranges) this->range(range);
  }

  void end() override {}

 private:
  void line(std::string_view text) { add_line(out_, style_, text); }

  /// Where control comes to the line, unless that is where its instructions begin and nowhere else.
  void entered(const LineEntry& entry) {
    constexpr std::size_t kMost = 6;
    const std::vector<std::uint64_t>& at = entry.entered;
    if (at.empty() || (at.size() == 1 && !entry.ranges.empty() && at[0] == entry.ranges[0].range.from)) return;
    std::string words;
    const std::size_t shown = at.size() > kMost ? kMost - 1 : at.size();
    for (std::size_t i = 0; i < shown; ++i)
      words += fmt::format("{}{:#x}", i == 0 ? "" : i + 1 == at.size() ? " and " : ", ", at[i]);
    if (shown < at.size()) words += fmt::format(" and {} more places", at.size() - shown);
    line(fmt::format("         {}", look(style_, Role::faint, "control comes to it at " + words)));
  }

  void begin_file(std::string file) {
    file_ = std::move(file);
    line("");
    const bool found = sources_.found(file_);
    line(look(style_, Role::heading, found ? shown_path(style_, file_) : printable(file_)));
    if (!found) {
      line(look(style_, Role::attention,
                "note: the source file was not found; --source-moved FROM=TO says where it is"));
    } else if (changed_since(file_, binary_)) {
      line(look(style_, Role::attention,
                "note: the source was changed after the program was built: its lines may have moved"));
    }
  }

  void range(const LineRange& range) {
    const std::uint64_t bytes = range.range.size();
    std::string text = fmt::format("         {:#x}..{:#x}  {}, {}   {}", range.range.from, range.range.to,
                                   count_of(range.instructions, "instruction"), count_of(bytes, "byte"),
                                   shown_heading(style_, range.function));
    if (!range.inlined.empty()) text += ": " + look(style_, Role::faint, inlined_words(range.inlined));
    if (range.prologue_end) text += look(style_, Role::faint, "   after the prologue");
    line(text);
    for (const study::LineInstruction& one : range.code) {
      std::string row = fmt::format("           {:#x}  {}", one.address, one.text);
      if (!one.target.empty())
        row = fmt::format("{:<56}{}{}", row, style_.utf8 ? " → " : " -> ", shown_heading(style_, one.target));
      line(row);
    }
  }

  Output& out_;
  Style style_;
  program::SourceText& sources_;
  std::string binary_, file_;
};

void inlined_json(JsonWriter& json, std::span<const Inlined> calls) {
  json.key("inlined").begin_array();
  for (const Inlined& call : calls) {
    json.begin_object();
    json.key("function").string(call.name);
    json.key("file").string_or_null(call.file);
    json.key("line");
    call.line != 0 ? json.number(call.line) : json.null();
    json.end();
  }
  json.end();
}

/// The calls that were inlined, outermost first: "gauge > level_sum".
std::string call_path(std::span<const Inlined> calls) {
  std::string path;
  for (const Inlined& call : calls) path += (path.empty() ? "" : " > ") + std::string(call.name);
  return path;
}

constexpr Column<LineRange> kRangeColumns[] = {
    {"from", [](const LineRange& range) { return Cell::address(range.range.from); }},
    {"to", [](const LineRange& range) { return Cell::address(range.range.to); }},
    {"section", [](const LineRange& range) { return Cell::text(range.section); }, Forms::json},
    {"function", [](const LineRange& range) { return Cell::text(range.function); }},
    {"instructions", [](const LineRange& range) { return Cell::number(range.instructions); }},
    {"statement", [](const LineRange& range) { return Cell::boolean(range.statement); }, Forms::json},
    {"prologue_end", [](const LineRange& range) { return Cell::boolean(range.prologue_end); }, Forms::json},
    {"bytes", [](const LineRange& range) { return Cell::number(range.range.size()); }, Forms::csv},
    {"inlined", [](const LineRange& range) { return Cell::text(call_path(range.inlined)); }, Forms::csv},
};

constexpr Column<AddressOrigin> kOriginColumns[] = {
    {"address", [](const AddressOrigin& origin) { return Cell::address(origin.address); }},
    {"function", [](const AddressOrigin& origin) { return Cell::text(origin.function); }},
    {"offset", [](const AddressOrigin& origin) { return Cell::number(origin.offset); }},
    {"file", [](const AddressOrigin& origin) { return Cell::text(origin.file); }},
    {"line", [](const AddressOrigin& origin) { return Cell::line(origin.line); }},
    {"instruction", [](const AddressOrigin& origin) { return Cell::address(origin.instruction); }, Forms::json},
    {"statement", [](const AddressOrigin& origin) { return Cell::boolean(origin.statement); }, Forms::json},
    {"prologue_end", [](const AddressOrigin& origin) { return Cell::boolean(origin.prologue_end); }, Forms::json},
    {"inlined", [](const AddressOrigin& origin) { return Cell::text(call_path(origin.inlined)); }, Forms::csv},
};

class Json : public study::LinesSink {
 public:
  explicit Json(Output& out) : json_(out) {}

  void begin(const program::Program& program, std::size_t /*lines*/) override {
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("lines");
    json_.key("program").string(program.elf().path());
    json_.key("lines").begin_array();
  }

  void line(const LineEntry& entry) override {
    json_.new_line();
    json_.begin_object();
    json_.key("file").string(entry.file);
    json_.key("line").number(entry.line);
    json_.key("ranges").begin_array();
    for (const LineRange& range : entry.ranges) {
      json_.begin_object();
      put_members<LineRange>(json_, kRangeColumns, range);
      inlined_json(json_, range.inlined);
      if (!range.code.empty()) {
        json_.key("code").begin_array();
        for (const study::LineInstruction& one : range.code) {
          json_.begin_object();
          json_.key("address").hex(one.address);
          json_.key("text").string(one.text);
          json_.key("target_name").string_or_null(one.target);
          json_.end();
        }
        json_.end();
      }
      json_.end();
    }
    json_.end();
    json_.key("instructions").number(entry.instructions);
    json_.key("bytes").number(entry.bytes);
    if (!entry.entered.empty()) {
      json_.key("entered").begin_array();
      for (const std::uint64_t address : entry.entered) json_.hex(address);
      json_.end();
    }
    if (entry.ranges.empty()) {
      json_.key("nearest");
      entry.nearest != 0 ? json_.number(entry.nearest) : json_.null();
      json_.key("places").begin_array();
      for (const study::LinePlace& place : entry.places) {
        json_.begin_object();
        json_.key("address").hex(place.address);
        json_.key("function").string_or_null(place.function);
        json_.key("line");
        place.line != 0 ? json_.number(place.line) : json_.null();
        json_.end();
      }
      json_.end();
    }
    json_.end();
  }

  void end() override { json_.close_all(); }

 private:
  JsonWriter json_;
};

/// One row a range; one without addresses for a line without instructions.
class Csv : public study::LinesSink {
 public:
  explicit Csv(Output& out) : csv_(out) {}
  void begin(const program::Program& /*program*/, std::size_t /*lines*/) override {
    csv_.cell("file").cell("line");
    put_heads<LineRange>(csv_, kRangeColumns);
    csv_.end_row();
  }
  void line(const LineEntry& entry) override {
    const std::string number = fmt::format("{}", entry.line);
    for (const LineRange& range : entry.ranges) {
      csv_.cell(entry.file).cell(number);
      put_cells<LineRange>(csv_, kRangeColumns, range);
      csv_.end_row();
    }
    if (!entry.ranges.empty()) return;
    csv_.cell(entry.file).cell(number).cell("").cell("").cell("").cell("0").cell("0").cell("");
    csv_.end_row();
  }
  void end() override {}

 private:
  CsvWriter csv_;
};

}  // namespace

std::unique_ptr<study::LinesSink> lines_text(Output& out, Style style, program::SourceText& sources) {
  return std::make_unique<Text>(out, style, sources);
}
std::unique_ptr<study::LinesSink> lines_json(Output& out) { return std::make_unique<Json>(out); }
std::unique_ptr<study::LinesSink> lines_csv(Output& out) { return std::make_unique<Csv>(out); }

void origins_text(Output& out, const Style& style, const program::Program& program,
                  std::span<const AddressOrigin> origins, program::SourceText& sources) {
  for (const AddressOrigin& origin : origins) {
    const std::string place = origin.function.empty() ? std::string("no function")
                              : origin.offset == 0
                                  ? shown_heading(style, origin.function)
                                  : fmt::format("{}+{}", shown_heading(style, origin.function), hex(origin.offset));
    std::string text = fmt::format("{}   {}", look(style, Role::heading, fmt::format("{:#x}", origin.address)), place);
    text +=
        origin.line == 0 ? "   no source line" : fmt::format("   {}:{}", shown_path(style, origin.file), origin.line);
    add_line(out, style, text);
    if (!origin.starts_instruction)
      add_line(
          out, style,
          look(style, Role::attention, fmt::format("note: lies inside the instruction at {:#x}", origin.instruction)));
    const auto source = origin.line == 0 ? std::nullopt : sources.line(std::string(origin.file), origin.line);
    if (source)
      add_line(out, style, fmt::format("{:>7}  {}", origin.line, look(style, Role::source, printable_source(*source))));
    if (origin.prologue_end) add_line(out, style, "         the prologue of the function ends here");
    for (const debuginfo::SourceLine& line : origin.passed) {
      add_line(out, style,
               fmt::format("         {}:{} begins here too and has no instruction here",
                           shown_path(style, program.source_path(line)), line.line));
    }
    for (std::size_t i = origin.inlined.size(); i-- > 0;) {
      const Inlined& call = origin.inlined[i];
      const std::string outer =
          i == 0 ? shown_heading(style, origin.function) : shown_heading(style, origin.inlined[i - 1].name);
      std::string where =
          call.line == 0 ? "an unknown line" : fmt::format("{}:{}", shown_path(style, call.file), call.line);
      add_line(out, style,
               fmt::format("         {} was inlined into {} at {}", shown_heading(style, call.name), outer, where));
    }
  }
}

void origins_json(Output& out, const program::Program& program, std::span<const AddressOrigin> origins) {
  JsonWriter json(out);
  json.begin_object();
  json.key("deeptrace").number(1);
  json.key("command").string("lines");
  json.key("program").string(program.elf().path());
  const auto one = [&](const AddressOrigin& origin) {
    put_members<AddressOrigin>(json, kOriginColumns, origin);
    json.key("also").begin_array();
    for (const debuginfo::SourceLine& line : origin.passed) {
      json.begin_object();
      json.key("file").string(program.source_path(line));
      json.key("line").number(line.line);
      json.end();
    }
    json.end();
    inlined_json(json, origin.inlined);
  };
  // The one that is asked for mostly stands in the object itself; a name may stand for several.
  if (!origins.empty()) one(origins.front());
  if (origins.size() > 1) {
    json.key("others").begin_array();
    for (const AddressOrigin& origin : origins.subspan(1)) {
      json.begin_object();
      one(origin);
      json.end();
    }
  }
  json.close_all();
}

void origins_csv(Output& out, std::span<const AddressOrigin> origins) {
  CsvWriter csv(out);
  put_heads<AddressOrigin>(csv, kOriginColumns);
  csv.end_row();
  for (const AddressOrigin& origin : origins) {
    put_cells<AddressOrigin>(csv, kOriginColumns, origin);
    csv.end_row();
  }
}

}  // namespace deeptrace::report
