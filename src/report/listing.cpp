#include "report/listing.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <set>

#include "program/constants.h"
#include "report/csv.h"
#include "report/file_words.h"
#include "report/json.h"
#include "report/line_writer.h"
#include "report/names.h"
#include "report/source_words.h"

namespace deeptrace::report {
namespace {

using study::ListedFile;
using study::ListedFunction;
using study::ListedInstruction;
using study::ListingSink;

std::string hex_bytes(Bytes bytes) {
  std::string result;
  for (const std::uint8_t byte : bytes) result += fmt::format("{:02x}", byte);
  return result;
}

std::string_view origin_words(program::Function::Origin origin) {
  switch (origin) {
    case program::Function::Origin::recovered:
    case program::Function::Origin::section: return "no symbol";
    case program::Function::Origin::plt:
    case program::Function::Origin::symbol: break;
  }
  return {};
}

bool is_code(const ListedInstruction& row) {
  return row.content == study::Content::instruction || row.content == study::Content::unknown;
}

/// What a row is in machine-readable forms.
std::string_view kind_of(const ListedInstruction& row) { return is_code(row) ? study::kind_name(row.kind) : "data"; }

class Text : public ListingSink {
 public:
  Text(Output& out, Style style, program::SourceText* sources) : out_(out), style_(style), sources_(sources) {}

  void begin(const ListedFile& file) override {
    binary_ = file.program->elf().path();
    const std::size_t others = file.functions_all - std::min(file.functions, file.functions_all);
    line(fmt::format("{}   {}, {}   {} of {} functions{}",
                     look(style_, Role::heading, printable(file.program->elf().path())),
                     kind_words(file.program->elf().kind()), machine_words(*file.program), file.functions,
                     file.functions_all, others == 0 ? "" : "; --all lists them all, a name lists that one"));
    for (const study::ListedInstances& one : file.instances) {
      std::string text = printable(one.name) + ": " + one.counts.words();
      for (std::size_t i = 0; i < one.inlined_in.size(); ++i)
        text += (i == 0 ? "; inlined in " : ", ") + shown_name(style_, one.inlined_in[i]);
      if (one.counts.inlined > one.inlined_in.size())
        text += fmt::format(" and {} more", one.counts.inlined - one.inlined_in.size());
      line(text);
    }
    if (!file.program->lines().note().empty())
      line(look(style_, Role::attention, "note: " + file.program->lines().note()));
  }

  void begin_function(const ListedFunction& function) override {
    line("");
    const bool plain = !style_.colour && function.name.size() <= kLongName && is_plain(function.name);
    const std::string name = plain ? std::string() : look(style_, Role::heading, shown_heading(style_, function.name));
    const std::string file = function.file.empty() ? std::string() : shown_path(style_, function.file);
    constexpr std::string_view kStub = "PLT stub of ";
    LineWriter to(out_.room(kFixedPart + kStub.size() + function.name.size() + name.size() + file.size()));
    if (function.origin == program::Function::Origin::plt) to.add(kStub);
    to.add(plain ? function.name : name);
    const std::string_view origin = origin_words(function.origin);
    if (!origin.empty()) {
      to.add(" (");
      to.add(origin);
      to.add(')');
    }
    to.add("   0x");
    to.add_digits(function.address);
    to.add(", ");
    to.add_decimal(function.size);
    to.add(" bytes");
    if (!file.empty()) {
      to.add("   ");
      to.add(file);
      to.add(':');
      to.add_decimal(function.line);
    }
    finish(to);
    file_ = function.file;
    line_ = 0;
    inlined_.clear();
  }

  void instruction(const ListedInstruction& row) override {
    if (!row.label.empty()) line(fmt::format("    {}:", look(style_, Role::heading, shown_heading(style_, row.label))));
    if (!row.inlined.empty() || !inlined_.empty()) inlined_calls(row);
    if (sources_ != nullptr && is_code(row) && (row.line != line_ || row.file != file_)) source_line(row);
    if (!is_code(row)) {
      data(row);
    } else if (row.target_value.empty() && row.target_text.empty() && row.target_name.size() <= kLongName &&
               is_plain(row.target_name)) {
      write(row, row.text, row.target_name);
    } else if (!row.target_value.empty()) {
      write(row, row.text, printable(program::constant_words(row.target_name, row.target_value)));
    } else {
      const bool named = row.target_text.empty();
      write(row, row.text, named ? shown_heading(style_, row.target_name) : '"' + escaped(row.target_text) + '"');
    }
    if (!row.cases.empty()) cases(row);
    if (!row.meaning.empty()) line(std::string(text_column(), ' ') + look(style_, Role::faint, row.meaning));
  }

  void end_function() override {}

  void end() override {}

 private:
  /// Characters of a row beside its bytes, words and reference, at most.
  static constexpr std::size_t kFixedPart = 160 + LineWriter::kSlack;
  /// Characters of a number and what stands before it.
  static constexpr std::size_t kLongestDecimal = 24;

  /// What an instruction refers to says more than its bytes where there is no room for both.
  [[nodiscard]] bool narrow() const { return style_.width != 0 && style_.width < 100; }
  /// Where the instructions' text begins.
  [[nodiscard]] std::size_t text_column() const { return narrow() ? 24 : 50; }

  void line(std::string_view text) { add_line(out_, style_, text); }

  void data(const ListedInstruction& row) {
    const bool is_text = row.content == study::Content::string;  // the characters say what the bytes are
    write(row, (is_text ? "\"" : "data   \"") + escaped(row.text) + '"', {});
  }

  /// A row: its place, its bytes, what it says, and what that refers to.
  void write(const ListedInstruction& row, std::string_view words, std::string_view reference) {
    LineWriter to(out_.room(kFixedPart + 3 * row.bytes.size() + words.size() + reference.size()));
    add_place(to, row);
    const bool is_string = row.content == study::Content::string;
    if (narrow()) {
      if (is_string) to.add("data  ");
    } else if (is_string) {
      const std::size_t place = to.size();
      to.add("data");
      to.pad_to(place + 26);
    } else {
      add_bytes(to, row.bytes);
      to.add("  ");
    }
    const std::size_t start = to.size();
    to.add(words);
    if (!reference.empty()) {
      to.pad_to(start + 34);
      to.add(style_.utf8 ? " \u2192 " : " -> ");
      to.add(reference);
    }
    finish(to);
  }

  /// Ends a line that was written in the output's room.
  void finish(LineWriter& written) {
    if (style_.width == 0) {
      written.add('\n');
      out_.wrote(written.size());
    } else {
      line(std::string(written.view()));
    }
  }

  /// The address in sixteen columns, and the offset from the function's start in the next eight.
  static void add_place(LineWriter& to, const ListedInstruction& row) {
    to.pad_to(12 - std::min(digits_of(row.address), 8U));
    to.add("0x");
    to.add_digits(row.address);
    to.add("  +");
    const std::size_t start = to.size();
    to.add_hex(row.offset);
    to.pad_to(start + 6);
    to.add(' ');
  }

  /// Two digits a byte, one space between them, in 24 columns.
  void add_bytes(LineWriter& to, Bytes bytes) const {
    const std::size_t start = to.size();
    if (style_.colour) {
      std::array<char, 3 * 64 + LineWriter::kSlack> room;
      LineWriter digits(room.data());
      digits.add_bytes(bytes.data(), std::min<std::size_t>(bytes.size(), 64));
      to.add(look(style_, Role::faint, digits.view()));
      to.pad_to(to.size() + 24 - std::min<std::size_t>(digits.size(), 24));
    } else {
      to.add_bytes(bytes.data(), bytes.size());
      to.pad_to(start + 24);
    }
  }

  /// Where an inlined call begins or is come back from; deeper ones further in.
  void inlined_calls(const ListedInstruction& row) {
    std::size_t same = 0;
    while (same < inlined_.size() && same < row.inlined.size() && inlined_[same] == key_of(row.inlined[same])) ++same;
    if (same == row.inlined.size() && row.inlined.size() < inlined_.size())
      line(fmt::format("         {}",
                       look(style_, Role::faint,
                            row.inlined.empty() ? std::string("back in the function itself")
                                                : "back in " + shown_heading(style_, row.inlined.back().name))));
    for (std::size_t i = same; i < row.inlined.size(); ++i) {
      const program::Inlined& call = row.inlined[i];
      std::string words = fmt::format("inlined {}", shown_heading(style_, call.name));
      if (call.line != 0)
        words += fmt::format(", called at {}:{}", printable(call.file.substr(call.file.rfind('/') + 1)), call.line);
      line(fmt::format("         {:{}}{}", "", 2 * i, look(style_, Role::changed, words)));
    }
    if (same == row.inlined.size() && same == inlined_.size()) return;
    inlined_.clear();
    for (const program::Inlined& call : row.inlined) inlined_.push_back(key_of(call));
  }

  static std::string key_of(const program::Inlined& call) {
    return fmt::format("{}\n{}\n{}", call.name, call.file, call.line);
  }

  /// "case 0, 3..5 -> main+0x20": the entries of a jump table.
  void cases(const ListedInstruction& row) {
    for (const study::SwitchCase& one : row.cases) {
      const bool plain = one.name.size() <= kLongName && is_plain(one.name);
      const std::string name = plain ? std::string() : shown_heading(style_, one.name);
      LineWriter to(out_.room(kFixedPart + 2 * kLongestDecimal * one.entries.size() + one.name.size() + name.size()));
      to.pad_to(text_column());
      to.add("case ");
      const std::size_t numbers = to.size();
      for (std::size_t i = 0; i < one.entries.size();) {
        std::size_t end = i;
        while (end + 1 < one.entries.size() && one.entries[end + 1] == one.entries[end] + 1) ++end;
        if (i != 0) to.add(", ");
        to.add_decimal(one.entries[i]);
        if (end > i) {
          to.add("..");
          to.add_decimal(one.entries[end]);
        }
        i = end + 1;
      }
      to.pad_to(numbers + 12);
      to.add(style_.utf8 ? " \u2192 0x" : " -> 0x");
      to.add_digits(one.target);
      to.add("  ");
      to.add(plain ? one.name : name);
      finish(to);
    }
  }

  void source_line(const ListedInstruction& row) {
    const bool other_file = row.file != file_ && !row.file.empty();
    line_ = row.line;
    file_ = row.file;
    if (row.line == 0) {
      line(look(style_, Role::faint, "      -  (no source line)"));
      return;
    }
    const std::string path(row.file);
    if (!sources_->found(path) && missing_.insert(path).second) {
      line(look(style_, Role::attention,
                fmt::format("note: the source file {} was not found; --source-moved FROM=TO says where it is",
                            printable(path))));
    }
    if (sources_->found(path) && changed_since(path, binary_) && missing_.insert(path).second) {
      line(look(
          style_, Role::attention,
          fmt::format("note: {} was changed after the program was built: its lines may have moved", printable(path))));
    }
    std::string head = report::source_line(*sources_, path, row.line);
    if (other_file) head += "   " + shown_path(style_, path);
    line(look(style_, Role::source, head));
  }

  Output& out_;
  Style style_;
  program::SourceText* sources_;  ///< may be null
  std::string file_;
  std::uint32_t line_ = 0;
  std::string binary_;
  std::vector<std::string> inlined_;  ///< calls that the last row stood in
  std::set<std::string> missing_;
};

class Json : public ListingSink {
 public:
  explicit Json(Output& out) : json_(out) {}

  void begin(const ListedFile& file) override {
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("listing");
    json_.key("file").string(file.program->elf().path());
    json_.key("machine").string(machine_words(*file.program));
    if (!file.instances.empty()) {
      json_.key("asked").begin_array();
      for (const study::ListedInstances& one : file.instances) {
        json_.begin_object();
        json_.key("name").string(one.name);
        put_instances(json_, one.counts);
        json_.key("inlined_in").begin_array();
        for (const std::string& place : one.inlined_in) json_.string(place);
        json_.end();
        json_.end();
      }
      json_.end();
    }
    json_.key("functions").begin_array();
  }

  void begin_function(const ListedFunction& function) override {
    json_.new_line();
    json_.begin_object();
    json_.key("name").string(function.name);
    json_.key("address").hex(function.address);
    json_.key("size").number(function.size);
    json_.key("section").string_or_null(function.section);
    json_.key("source");
    if (function.file.empty()) {
      json_.null();
    } else {
      json_.begin_object();
      json_.key("file").string(function.file);
      json_.key("line").number(function.line);
      json_.end();
    }
    json_.key("instructions").begin_array();
  }

  void instruction(const ListedInstruction& row) override {
    json_.new_line();
    json_.begin_object();
    json_.key("address").hex(row.address);
    json_.key("offset").number(row.offset);
    json_.key("bytes").bytes(row.bytes.data(), row.bytes.size());
    json_.key("text").string(row.text);
    json_.key("kind").string(kind_of(row));
    json_.key("target");
    row.target ? json_.hex(*row.target) : json_.null();
    json_.key("target_name").string_or_null(row.target_name);
    if (!row.target_text.empty()) json_.key("target_text").string(row.target_text);
    if (!row.target_value.empty()) json_.key("target_value").string(row.target_value);
    json_.key("file").string_or_null(row.file);
    json_.key("line");
    row.line != 0 ? json_.number(row.line) : json_.null();
    if (!row.inlined.empty()) {
      json_.key("inlined").begin_array();
      for (const program::Inlined& call : row.inlined) {
        json_.begin_object();
        json_.key("function").string(call.name);
        json_.key("file").string_or_null(call.file);
        json_.key("line");
        call.line != 0 ? json_.number(call.line) : json_.null();
        json_.end();
      }
      json_.end();
    }
    if (!row.cases.empty()) {
      json_.key("cases").begin_array();
      for (const study::SwitchCase& one : row.cases) {
        json_.begin_object();
        json_.key("entries").begin_array();
        for (const std::uint64_t entry : one.entries) json_.number(entry);
        json_.end();
        json_.key("target").hex(one.target);
        json_.key("target_name").string_or_null(one.name);
        json_.end();
      }
      json_.end();
    }
    if (!row.label.empty()) json_.key("label").string(row.label);
    if (!row.meaning.empty()) json_.key("meaning").string(row.meaning);
    if (row.content == study::Content::unknown) json_.key("decoded").boolean(false);
    if (!is_code(row)) json_.key("data").string(row.content == study::Content::string ? "string" : "bytes");
    json_.end();
  }

  void end_function() override {
    json_.end();
    json_.end();
  }

  void end() override { json_.close_all(); }

 private:
  JsonWriter json_;
};

class Csv : public ListingSink {
 public:
  explicit Csv(Output& out) : csv_(out) {}

  void begin(const ListedFile& /*file*/) override {
    for (const std::string_view name :
         {"function", "address", "offset", "bytes", "text", "kind", "target", "target_name", "file", "line"})
      csv_.cell(name);
    csv_.end_row();
  }
  void begin_function(const ListedFunction& function) override { function_ = function.name; }
  void instruction(const ListedInstruction& row) override {
    csv_.cell(function_)
        .cell(fmt::format("{:#x}", row.address))
        .cell(fmt::format("{}", row.offset))
        .cell(hex_bytes(row.bytes));
    csv_.cell(row.text).cell(kind_of(row)).cell(row.target ? fmt::format("{:#x}", *row.target) : "");
    csv_.cell(row.target_name).cell(row.file).cell(row.line != 0 ? fmt::format("{}", row.line) : "");
    csv_.end_row();
  }
  void end_function() override {}
  void end() override {}

 private:
  CsvWriter csv_;
  std::string function_;
};

/// Control characters can only stand in the names of remarks.
class Source : public study::AssemblySink {
 public:
  explicit Source(Output& out) : out_(out) {}
  void line(std::string_view text) override {
    if (text.starts_with('#')) {
      out_.add(printable(text));
    } else {
      out_.add(text);
    }
    out_.add('\n');
  }

 private:
  Output& out_;
};

}  // namespace

std::unique_ptr<ListingSink> listing_text(Output& out, Style style, program::SourceText* sources) {
  return std::make_unique<Text>(out, style, sources);
}
std::unique_ptr<ListingSink> listing_json(Output& out) { return std::make_unique<Json>(out); }
std::unique_ptr<ListingSink> listing_csv(Output& out) { return std::make_unique<Csv>(out); }
std::unique_ptr<study::AssemblySink> listing_assembler(Output& out) { return std::make_unique<Source>(out); }

}  // namespace deeptrace::report
