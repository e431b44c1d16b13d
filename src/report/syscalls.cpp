#include "report/syscalls.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "base/path.h"
#include "report/columns.h"
#include "report/frames.h"
#include "report/hits.h"
#include "report/names.h"
#include "report/syscall_words.h"
#include "report/value.h"

namespace deeptrace::report {
namespace {

using inspect::Value;
using session::SyscallRow;
using session::SyscallsStart;
using session::SyscallsSummary;

class Text final : public session::SyscallsSink {
 public:
  Text(Output& out, Style style, TakeOutput take_output)
      : out_(out), style_(style), take_output_(std::move(take_output)) {}

  void begin(const SyscallsStart& start) override {
    line(fmt::format("{}   {}", look(style_, Role::heading, shown_path(style_, start.program)),
                     start.attached     ? "attached"
                     : start.randomised ? "address randomisation as usual"
                                        : "address randomisation switched off"));
    if (start.filtered)
      line(look(style_, Role::faint,
                "the chosen calls alone stop it; its kernel filter shows in /proc/PID/status, and it ends with us"));
    if (start.chosen && !start.filtered && !start.attached)
      line(look(style_, Role::faint, "every call stops it; with --children trace the chosen ones alone do"));
    if (!start.totals)
      line(look(style_, Role::faint,
                fmt::format("{:>4}  {:<20} {:<14} {}", "", "own line", "call", "arguments, result, time")));
    children_ = start.children;
  }

  void row(const SyscallRow& row) override {
    std::string head =
        fmt::format("{:>4}  {:<20} {:<14} ", row.number, own_words(style_, row), printable(row.call.name));
    const std::vector<std::string> arguments = argument_words(style_, row.call);
    std::string all;
    for (const std::string& one : arguments) all += (all.empty() ? "" : ", ") + one;
    if (!row.call.known) all = "arguments unknown";
    std::string tail =
        fmt::format("{} {}   {}", style_.utf8 ? "→" : "->", result_words(style_, row), duration_words(row.duration));
    if (row.thread > 1 || threads_) {
      threads_ = true;
      tail += fmt::format("   thread {}", row.thread);
    }
    if (row.process > 1 || children_) tail += fmt::format("   process {}", row.process);
    const Role role = row.call.failed ? Role::attention : Role::plain;
    const std::size_t width = head.size() + all.size() + tail.size() + 3;
    if (style_.width == 0 || width <= style_.width) {
      line(look(style_, role, head + all + (all.empty() ? "" : "   ") + tail));
    } else {
      line(look(style_, role, head + tail));
      for (const std::string& one : arguments) line(fmt::format("{:>27}{}", "", one));
    }
    remarks(row);
    show_output();
  }

  void end(const SyscallsSummary& summary) override {
    show_output();
    for (const std::string& note : summary.notes) line(look(style_, Role::attention, "note: " + printable(note)));
    totals(summary.totals);
    for (const look::Finding& one : summary.findings) finding(one, "");
    if (summary.unlisted != 0)
      line(look(style_, Role::attention,
                fmt::format("note: {} more call{} not listed (--limit)", summary.unlisted,
                            summary.unlisted == 1 ? "" : "s")));
    std::string text = fmt::format("{} call{}", summary.rows, summary.rows == 1 ? "" : "s");
    if (summary.left_out != 0)
      text += fmt::format("; {} that no own code led to (start-up, libraries): --all lists them", summary.left_out);
    line(look(style_, Role::faint, text + "; times include the cost of tracing"));
    line("the program " + end_words(summary.end));
    out_.flush();
  }

 private:
  void remarks(const SyscallRow& row) {
    const std::string indent(27, ' ');
    if (row.call.failed)
      line(indent + look(style_, Role::attention, fmt::format("note: {}: {}", row.call.error, row.call.meaning)));
    for (const look::Finding& one : row.findings) finding(one, indent);
    if (row.other_abi)
      line(indent +
           look(style_, Role::attention,
                fmt::format("note: int 0x80 in 64-bit code: {} is the number of the 32-bit table, and only the low "
                            "32 bits of each register are used",
                            row.asked.number)));
  }
  void totals(const std::vector<session::SyscallTotal>& all) {
    if (all.empty()) return;
    line(look(
        style_, Role::faint,
        fmt::format("  {:>8} {:>7} {:>12} {:>10} {:>10}  {}", "calls", "errors", "bytes", "time", "longest", "of")));
    for (const session::SyscallTotal& one : all) {
      const std::string text = fmt::format("  {:>8} {:>7} {:>12} {:>10} {:>10}  {}", one.calls, one.errors, one.bytes,
                                           duration_words(one.time), duration_words(one.longest), shown_key(one.key));
      line(one.errors != 0 ? look(style_, Role::attention, text) : text);
    }
  }
  std::string shown_key(const std::string& key) const {
    return key.starts_with('/') ? shown_path(style_, key) : printable(key);
  }
  void finding(const look::Finding& one, const std::string& indent) {
    const Role role = one.note ? Role::attention : Role::broken;
    add_prose(out_, style_, (one.note ? "note: " : "wrong: ") + printable(one.text), indent, role);
    for (const std::string& evidence : one.evidence)
      add_prose(out_, style_, printable(evidence), indent + "       ", Role::plain);
  }
  void show_output() {
    if (!take_output_) return;
    const std::string text = take_output_();
    if (!text.empty()) line(look(style_, Role::faint, "the program wrote: ") + "\"" + escaped(text) + "\"");
  }
  void line(std::string_view text) { add_line(out_, style_, text); }

  Output& out_;
  Style style_;
  TakeOutput take_output_;
  bool children_ = false, threads_ = false;
};

/// What no two rows need have in common.
constexpr Column<SyscallRow> kOwnColumns[] = {
    {"n", [](const SyscallRow& row) { return Cell::number(row.number); }},
    {"process", [](const SyscallRow& row) { return Cell::number(row.process); }},
    {"thread", [](const SyscallRow& row) { return Cell::number(row.thread); }},
    {"start_ns", [](const SyscallRow& row) { return Cell::number(row.start); }},
    {"duration_ns", [](const SyscallRow& row) { return Cell::number(row.duration); }},
};

/// What rows have in common of the same call at the same place (SyscallRow::place_like).
constexpr Column<SyscallRow> kPlaceColumns[] = {
    {"abi",
     [](const SyscallRow& row) { return Cell::string(row.asked.table == abi::CallTable::x86_64 ? "x86-64" : "i386"); }},
    {"number", [](const SyscallRow& row) { return Cell::number(row.asked.number); }},
    {"name", [](const SyscallRow& row) { return Cell::string(row.call.name); }},
    {"address", [](const SyscallRow& row) { return Cell::address(row.address); }},
    {"made_by", [](const SyscallRow& row) { return Cell::text(row.made_by); }},
    {"function", [](const SyscallRow& row) { return Cell::text(row.own.place); }},
    {"file", [](const SyscallRow& row) { return Cell::text(row.own.file); }},
    {"line", [](const SyscallRow& row) { return Cell::line(row.own.line); }},
};

/// What rows have in common beside it that are alike (SyscallRow::like).
constexpr Column<SyscallRow> kColumns[] = {
    {"error", [](const SyscallRow& row) { return Cell::text(row.call.error); }},
    {"meaning", [](const SyscallRow& row) { return Cell::text(row.call.meaning); }},
};

constexpr Column<session::SyscallTotal> kTotals[] = {
    {"of", [](const session::SyscallTotal& one) { return Cell::string(one.key); }},
    {"calls", [](const session::SyscallTotal& one) { return Cell::number(one.calls); }},
    {"errors", [](const session::SyscallTotal& one) { return Cell::number(one.errors); }},
    {"bytes", [](const session::SyscallTotal& one) { return Cell::number(one.bytes); }},
    {"time_ns", [](const session::SyscallTotal& one) { return Cell::number(one.time); }},
    {"longest_ns", [](const session::SyscallTotal& one) { return Cell::number(one.longest); }},
};

class Json final : public session::SyscallsSink {
 public:
  explicit Json(Output& out) : out_(out), json_(out) {}

  void begin(const SyscallsStart& start) override {
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("syscalls");
    json_.key("program").string(start.program);
    json_.key("attached").boolean(start.attached);
    json_.key("randomised").boolean(start.randomised);
    json_.key("stops_at").string(start.filtered ? "chosen calls" : "every call");
    json_.key("calls").begin_array();
  }
  void row(const SyscallRow& row) override {
    json_.new_line();
    json_.begin_object();
    put_members(json_, std::span<const Column<SyscallRow>>(kOwnColumns), row);
    put_members(json_, std::span<const Column<SyscallRow>>(kPlaceColumns), row);
    put_members(json_, std::span<const Column<SyscallRow>>(kColumns), row);
    json_.key("arguments").begin_array();
    for (const look::Argument& one : row.call.arguments) argument_json(json_, one);
    json_.end();
    json_.key("result");
    row.ended && !row.call.failed && row.call.result.kind != Value::Kind::nothing ? value_json(json_, row.call.result)
                                                                                  : json_.null();
    json_.key("ended").boolean(row.ended);
    json_.end();
    // A place that goes wrong again and again fills no memory.
    const std::size_t room = kMostFindings - std::min(kMostFindings, findings_.size());
    std::ranges::copy_n(row.findings.begin(), static_cast<std::ptrdiff_t>(std::min(room, row.findings.size())),
                        std::back_inserter(findings_));
  }
  void end(const SyscallsSummary& summary) override {
    json_.end();
    json_.new_line();
    json_.key("left_out").number(summary.left_out);
    json_.key("unlisted").number(summary.unlisted);
    json_.key("totals").begin_array();
    for (const session::SyscallTotal& one : summary.totals) {
      json_.begin_object();
      put_members(json_, std::span<const Column<session::SyscallTotal>>(kTotals), one);
      json_.end();
    }
    json_.end();
    json_.key("notes").begin_array();
    for (const std::string& note : summary.notes) json_.string(note);
    json_.end();
    json_.key("findings").begin_array();
    for (const look::Finding& one : findings_) finding_json(json_, one);
    for (const look::Finding& one : summary.findings) finding_json(json_, one);
    json_.end();
    json_.key("exit");
    end_json(json_, summary.end);
    json_.close_all();
    out_.flush();
  }

 private:
  static constexpr std::size_t kMostFindings = 10000;

  Output& out_;
  JsonWriter json_;
  std::vector<look::Finding> findings_;
};

class Csv final : public session::SyscallsSink {
 public:
  explicit Csv(Output& out) : out_(out), csv_(out) {}

  void begin(const SyscallsStart& start) override {
    if (start.totals) {
      for (const auto& column : kTotals) csv_.cell(column.name);
      csv_.end_row();
      return;
    }
    put_heads(csv_, std::span<const Column<SyscallRow>>(kOwnColumns));
    put_heads(csv_, std::span<const Column<SyscallRow>>(kPlaceColumns));
    put_heads(csv_, std::span<const Column<SyscallRow>>(kColumns));
    csv_.cell("result").cell("arguments");
    csv_.end_row();
  }
  void row(const SyscallRow& row) override {
    put_cells(csv_, std::span<const Column<SyscallRow>>(kOwnColumns), row);
    if (row.place_like == 0 || row.place_like != last_) put_place(row);
    if (row.like == 0 || row.like != last_) put_common(row);
    last_ = row.number;
    csv_.written(place_.text()).written(common_.text());
    csv_.end_row();
  }
  void end(const SyscallsSummary& summary) override {
    for (const session::SyscallTotal& one : summary.totals) {
      for (const auto& column : kTotals) column.of(one).write(csv_);
      csv_.end_row();
    }
    out_.flush();
  }

 private:
  void put_place(const SyscallRow& row) {
    place_.clear();
    CsvWriter csv(place_);
    put_cells(csv, std::span<const Column<SyscallRow>>(kPlaceColumns), row);
  }
  void put_common(const SyscallRow& row) {
    const Style plain{.utf8 = true};
    common_.clear();
    CsvWriter csv(common_);
    put_cells(csv, std::span<const Column<SyscallRow>>(kColumns), row);
    word_arguments(plain, row);
    csv.cell(result_words(plain, row)).list(words_);
  }
  /// What the row before said of the same call is not worded again.
  void word_arguments(const Style& style, const SyscallRow& row) {
    const std::vector<look::Argument>& arguments = row.call.arguments;
    const bool known = row.place_like != 0 && row.place_like == last_ && words_.size() == arguments.size();
    words_.resize(arguments.size());
    for (std::size_t i = 0; i < words_.size(); ++i) {
      if (known && !row.call.is_new(i)) continue;
      if (known) {
        words_[i].resize(arguments[i].name.size() + 1);
      } else {
        words_[i].assign(arguments[i].name) += ' ';
      }
      if (arguments[i].value) add_short_words(words_[i], style, *arguments[i].value);
    }
  }

  Output& out_;
  CsvWriter csv_;
  Output place_, common_;           ///< cells of the row before: of kPlaceColumns; of kColumns and those after them
  std::uint64_t last_ = 0;          ///< its number
  std::vector<std::string> words_;  ///< of its arguments
};

}  // namespace

std::unique_ptr<session::SyscallsSink> syscalls_text(Output& out, Style style, TakeOutput take_output) {
  return std::make_unique<Text>(out, style, std::move(take_output));
}
std::unique_ptr<session::SyscallsSink> syscalls_json(Output& out) { return std::make_unique<Json>(out); }
std::unique_ptr<session::SyscallsSink> syscalls_csv(Output& out) { return std::make_unique<Csv>(out); }

}  // namespace deeptrace::report
