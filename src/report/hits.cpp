#include "report/hits.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <set>

#include "abi/signal_names.h"
#include "base/path.h"
#include "report/card.h"
#include "report/columns.h"
#include "report/csv.h"
#include "report/names.h"
#include "report/value.h"

namespace deeptrace::report {
namespace {

using control::HaltInfo;
using inspect::Value;
using session::HitRow;
using session::HitsStart;
using session::HitsSummary;
using session::RunEnd;

std::string halt_words(const HaltInfo& halt) {
  std::string text = fmt::format("h{} {}", halt.number, halt.rule.text());
  if (halt.rule.on_data() && !halt.addresses.empty())
    text += fmt::format(" ({} byte{} at {})", halt.size, halt.size == 1 ? "" : "s", hex(halt.addresses.front()));
  if (halt.rule.on_data() && halt.addresses.empty() && halt.size != 0)
    text += fmt::format(" ({} byte{} of each thread)", halt.size, halt.size == 1 ? "" : "s");
  return printable(text);
}

/// Columns of text as wide as people see them: continuation bytes of UTF-8 count nothing.
std::size_t columns(std::string_view text) {
  return static_cast<std::size_t>(
      std::ranges::count_if(text, [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; }));
}

class Text : public session::HitsSink {
 public:
  Text(Output& out, Style style, program::SourceText& sources, TakeOutput take_output)
      : out_(out), style_(style), sources_(sources), take_output_(std::move(take_output)) {}

  void begin(const HitsStart& start) override {
    line(fmt::format("{}   {}{}", look(style_, Role::heading, shown_path(style_, start.program)),
                     start.attached ? "attached" : "",
                     start.attached     ? ""
                     : start.randomised ? "address randomisation as usual"
                                        : "address randomisation switched off"));
    for (const HaltInfo& halt : start.halts) {
      line(fmt::format("  {}   {}", halt_words(halt), look(style_, Role::faint, halt.how)));
    }
    several_ = start.halts.size() > 1;
    headings_ = {"hit"};
    headings_.push_back("place");
    for (const HaltInfo& halt : start.halts) data_ |= halt.rule.on_data();
    if (data_) {
      headings_.push_back("was");
      headings_.push_back("now");
    }
    for (const std::string& name : start.keep) headings_.push_back(printable(name));
    children_ = start.children;
    widths_.resize(headings_.size());
  }

  void row(const HitRow& row) override {
    if (row.card != nullptr) {
      flush_rows();
      show_output();
      for (const std::string& text : card_lines(style_, *row.card, sources_, {})) line(text);
      const std::size_t first = headings_.size() - row.kept.size();
      for (std::size_t i = 0; i < row.kept.size(); ++i)
        line(fmt::format("    {:<24} {}", headings_[first + i], value_words(style_, row.kept[i])));
      return;
    }
    std::vector<std::string> cells;
    cells.push_back(several_ ? fmt::format("h{} {}", row.halt, row.hit) : std::to_string(row.hit));
    std::string place = row.function.empty() ? hex(row.address) : shown_place(style_, row.function, row.inlined);
    if (row.line != 0) place += fmt::format("  {}:{}", printable(base_name(row.file)), row.line);
    if (row.thread > 1 || threads_) {
      threads_ = true;
      place += fmt::format("  thread {}", row.thread);
    }
    if (children_) place += fmt::format("  process {}", row.process);
    if (!row.called_from.empty()) place += ", for " + shown_name(style_, row.called_from);
    const std::string thrown = row.thrown ? " " + value_words(style_, *row.thrown) : "";
    if (!row.by.empty()) place = "by " + shown_name(style_, row.by) + thrown + ", " + place;
    cells.push_back(std::move(place));
    if (data_) {
      auto [was, now] = row.before && row.after ? before_and_after(style_, *row.before, *row.after)
                                                : std::pair<std::string, std::string>();
      cells.push_back(std::move(was));
      cells.push_back(std::move(now));
    }
    for (const Value& value : row.kept)
      cells.push_back(value.kind == Value::Kind::unknown ? "unknown" : value_words(style_, value));
    Pending pending;
    if (row.notes != nullptr) pending.notes = *row.notes;
    for (std::size_t i = 0; i < row.kept.size(); ++i) {
      const Value& value = row.kept[i];
      if (value.kind == Value::Kind::unknown && reasons_.insert(value.text).second)
        pending.notes.push_back("unknown: " + value.text);
      const std::string& name = headings_[headings_.size() - row.kept.size() + i];
      if (value.from_code && reasons_.insert(name).second) pending.notes.push_back(name + ": " + inferred_words(value));
    }
    if (take_output_) pending.output = take_output_();
    pending.cells = std::move(cells);
    rows_.push_back(std::move(pending));
    constexpr std::size_t kTogether = 256;
    if (rows_.size() == kTogether) flush_rows();
  }

  /// On a terminal alone: elsewhere the columns do not depend on when hits came.
  void pause() override {
    if (!out_.is_terminal()) return;
    flush_rows();
    show_output();
  }

  void end(const HitsSummary& summary) override {
    flush_rows();
    show_output();
    if (!summary.halts.empty()) line("");
    for (const std::string& note : summary.notes) line(look(style_, Role::attention, "note: " + printable(note)));
    for (const HaltInfo& halt : summary.halts) {
      const std::string hits = halt.hits == 1 ? "1 hit" : fmt::format("{} hits", halt.hits);
      std::string text = fmt::format("{}: {}", halt_words(halt), hits);
      if (halt.hits == 0) text = look(style_, Role::attention, "note: " + text + hint(halt));
      line(text);
    }
    line("the program " + end_words(summary.end));
    out_.flush();
  }

 private:
  struct Pending {
    std::vector<std::string> cells, notes;
    std::string output;
  };

  void line(std::string_view text) { add_line(out_, style_, text); }

  static std::string hint(const HaltInfo& halt) {
    const auto times = [](std::uint64_t count) { return count == 1 ? "once" : fmt::format("{} times", count); };
    if (halt.came == 0 && halt.how.starts_with("waits"))
      return halt.rule.later ? ": no library that was loaded has it" : ": its module was never loaded";
    if (halt.came != 0) return fmt::format(": came there {}, and the condition was false", times(halt.came));
    if (halt.entered != 0)
      return fmt::format(": entered {}, and never left by a return, but by an exception, a jump or the end",
                         times(halt.entered));
    return ": the program never came there";
  }

  void show_output() {
    if (take_output_) show(take_output_());
  }
  void show(const std::string& output) {
    for (const std::string& text : program_lines(style_, output)) line(text);
  }

  /// Columns are as wide as what is known when they are first written; wider cells push theirs on.
  void flush_rows() {
    if (rows_.empty()) return;
    for (const Pending& row : rows_) {
      constexpr std::size_t kWidest = 60;  // longer ones push what follows on
      for (std::size_t i = 0; i < row.cells.size(); ++i)
        widths_[i] = std::max(widths_[i], std::min(kWidest, columns(row.cells[i])) + 2);
    }
    if (!heading_done_) {
      line("");
      heading_done_ = true;
      std::string text;
      for (std::size_t i = 0; i < headings_.size(); ++i) {
        widths_[i] = std::max(widths_[i], columns(headings_[i]) + 2);
        text +=
            "  " + headings_[i] + std::string(i + 1 < headings_.size() ? widths_[i] - columns(headings_[i]) : 0, ' ');
      }
      line(look(style_, Role::heading, text));
    }
    for (const Pending& row : rows_) {
      for (const std::string& note : row.notes) line("  " + look(style_, Role::attention, "note: " + printable(note)));
      show(row.output);
      std::string text;
      const std::size_t first_kept = data_ ? 4 : 2;
      for (std::size_t i = 0; i < row.cells.size(); ++i) {
        const bool changed = i >= first_kept && last_.size() == row.cells.size() && last_[i] != row.cells[i];
        const std::string mark = changed ? "~ " : "  ";
        text += look(style_, changed ? Role::changed : Role::plain, mark + row.cells[i]);
        if (i + 1 < row.cells.size())
          text += std::string(std::max(widths_[i], columns(row.cells[i]) + 2) - columns(row.cells[i]), ' ');
      }
      line(text);
      last_ = row.cells;
    }
    rows_.clear();
    out_.flush();
  }

  Output& out_;
  Style style_;
  program::SourceText& sources_;
  TakeOutput take_output_;
  bool several_ = false, data_ = false, threads_ = false, children_ = false, heading_done_ = false;
  std::vector<std::string> headings_, last_;
  std::vector<std::size_t> widths_;
  std::set<std::string> reasons_;  ///< why values were unknown, each given once
  std::vector<Pending> rows_;
};

constexpr Column<HitRow> kColumns[] = {
    {"stop", [](const HitRow& row) { return Cell::string(fmt::format("h{}", row.halt)); }},
    {"hit", [](const HitRow& row) { return Cell::number(row.hit); }},
    {"process", [](const HitRow& row) { return Cell::number(row.process); }},
    {"thread", [](const HitRow& row) { return Cell::number(row.thread); }},
    {"address", [](const HitRow& row) { return Cell::address(row.address); }},
    {"function", [](const HitRow& row) { return Cell::text(row.function); }},
    {"inlined", [](const HitRow& row) { return Cell::text(row.inlined); }},
    {"file", [](const HitRow& row) { return Cell::text(row.file); }},
    {"line", [](const HitRow& row) { return Cell::line(row.line); }},
};

/// The process has a column where children are traced.
std::array<std::span<const Column<HitRow>>, 2> columns_of(bool children) {
  const std::span<const Column<HitRow>> all(kColumns);
  return {all.first(children ? 3 : 2), all.subspan(3)};
}

class Json : public session::HitsSink {
 public:
  explicit Json(Output& out) : out_(out), json_(out) {}

  void begin(const HitsStart& start) override {
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("hits");
    json_.key("program").string(start.program);
    json_.key("attached").boolean(start.attached);
    json_.key("randomised").boolean(start.randomised);
    json_.key("stops").begin_array();
    for (const HaltInfo& halt : start.halts) halt_json(halt, false);
    json_.end();
    keep_ = start.keep;
    children_ = start.children;
    json_.new_line();
    json_.key("hits").begin_array();
  }
  void row(const HitRow& row) override {
    json_.new_line();
    json_.begin_object();
    for (const auto columns : columns_of(children_)) put_members(json_, columns, row);
    json_.key("kept").begin_object();
    for (std::size_t i = 0; i < row.kept.size(); ++i) {
      json_.key(keep_[i]);
      value_json(json_, row.kept[i]);
    }
    json_.end();
    if (row.before || row.after) {
      json_.key("before");
      row.before ? value_json(json_, *row.before) : json_.null();
      json_.key("after");
      row.after ? value_json(json_, *row.after) : json_.null();
    }
    if (!row.by.empty()) json_.key("by").string(row.by);
    if (!row.core.empty()) json_.key("core").string(row.core);
    if (row.thrown) {
      json_.key("thrown");
      value_json(json_, *row.thrown);
    }
    if (!row.called_from.empty()) json_.key("called_from").string(row.called_from);
    if (row.notes != nullptr) notes(*row.notes);
    json_.end();
  }
  void end(const HitsSummary& summary) override {
    json_.end();
    json_.new_line();
    json_.key("counts").begin_object();
    for (const HaltInfo& halt : summary.halts) json_.key(fmt::format("h{}", halt.number)).number(halt.hits);
    json_.end();
    notes(summary.notes);
    json_.key("exit");
    end_json(json_, summary.end);
    json_.close_all();
    out_.flush();
  }

 private:
  void notes(const std::vector<std::string>& notes) {
    if (notes.empty()) return;
    json_.key("notes").begin_array();
    for (const std::string& note : notes) json_.string(note);
    json_.end();
  }

  void halt_json(const HaltInfo& halt, bool /*counts*/) {
    json_.begin_object();
    json_.key("stop").string(fmt::format("h{}", halt.number));
    json_.key("rule").string(halt.rule.text());
    json_.key("addresses").begin_array();
    for (const std::uint64_t address : halt.addresses) json_.hex(address);
    json_.end();
    json_.key("how").string(halt.how);
    json_.end();
  }

  Output& out_;
  JsonWriter json_;
  bool children_ = false;
  std::vector<std::string> keep_;
};

std::string plain_value(const Value& value) {
  const Style style;
  if (value.kind == Value::Kind::integer && value.bits <= 64)
    return value.is_signed ? std::to_string(value.signed_number()) : std::to_string(value.number);
  if (value.kind == Value::Kind::floating) return value.text;
  if (value.kind == Value::Kind::unknown) return "";
  return value_words(style, value);
}

class Csv : public session::HitsSink {
 public:
  explicit Csv(Output& out) : out_(out), csv_(out) {}
  void begin(const HitsStart& start) override {
    children_ = start.children;
    for (const auto columns : columns_of(children_)) put_heads(csv_, columns);
    for (const std::string& name : start.keep) csv_.cell(name);
    for (const char* name : {"before", "after", "by"}) csv_.cell(name);
    csv_.end_row();
  }
  void row(const HitRow& row) override {
    for (const auto columns : columns_of(children_)) put_cells(csv_, columns, row);
    for (const Value& value : row.kept) csv_.cell(plain_value(value));
    csv_.cell(row.before ? plain_value(*row.before) : "").cell(row.after ? plain_value(*row.after) : "").cell(row.by);
    csv_.end_row();
  }
  void end(const HitsSummary& /*summary*/) override { out_.flush(); }

 private:
  Output& out_;
  CsvWriter csv_;
  bool children_ = false;
};

/// One strip for each kept number; the hits from left to right.
class Figure : public session::HitsSink {
 public:
  Figure(std::string path, Canvas::Form form) : path_(std::move(path)), form_(form) {}
  void begin(const HitsStart& start) override {
    title_ = base_name(start.program);
    for (const HaltInfo& halt : start.halts) title_ += (title_.empty() ? "" : "   ") + halt_words(halt);
    for (const std::string& name : start.keep) series_.push_back({name, {}});
  }
  void row(const HitRow& row) override {
    constexpr std::size_t kMost = 100000;
    if (rows_++ >= kMost) return;
    for (std::size_t i = 0; i < row.kept.size(); ++i) series_[i].values.push_back(number(row.kept[i]));
    if (row.after) {
      if (watched_.values.empty()) watched_.name = "watched";
      watched_.values.push_back(number(*row.after));
    }
  }
  void end(const HitsSummary& /*summary*/) override {
    if (!watched_.values.empty()) series_.insert(series_.begin(), watched_);
    std::erase_if(series_, [](const Series& one) {
      return std::ranges::none_of(one.values, [](double value) { return std::isfinite(value); });
    });
    if (!series_.empty()) draw();
  }

 private:
  struct Series {
    std::string name;
    std::vector<double> values;
  };
  static double number(const Value& value) {
    switch (value.kind) {
      case Value::Kind::integer:
      case Value::Kind::character:
      case Value::Kind::truth:
      case Value::Kind::enumeration:
        // A register has no sign of its own: the reading nearer to zero.
        if (value.bits > 64) break;
        return value.is_signed || (value.type.empty() && value.signed_number() < 0)
                   ? static_cast<double>(value.signed_number())
                   : static_cast<double>(value.number);
      case Value::Kind::floating: return std::strtod(value.text.c_str(), nullptr);
      default: break;
    }
    return std::numeric_limits<double>::quiet_NaN();
  }
  static std::string label(double value) { return fmt::format("{:.10g}", value); }

  void draw() {
    constexpr double kWidth = 1280, kLeft = 150, kRight = 40, kTop = 70, kGap = 46;
    const double strip = std::clamp(640.0 / static_cast<double>(series_.size()) - kGap, 60.0, 360.0);
    const double height = kTop + static_cast<double>(series_.size()) * (strip + kGap) + 30;
    Canvas canvas(path_, form_, kWidth, height);
    canvas.box(0, 0, kWidth, height, colours::kPaper, colours::kPaper);
    canvas.text(30, 18, printable(title_), 16, colours::kInk, true, kWidth - 60);
    double top = kTop;
    for (const Series& series : series_) {
      draw_strip(canvas, series, kLeft, top, kWidth - kLeft - kRight, strip);
      top += strip + kGap;
    }
    const std::size_t count = series_.front().values.size();
    canvas.text(kLeft, top - 22, "hit 1", 12, colours::kFaint);
    const std::string last = fmt::format("hit {}", count);
    canvas.text(kWidth - kRight - canvas.width_of(last, 12), top - 22, last, 12, colours::kFaint);
    canvas.finish();
  }

  static void draw_strip(Canvas& canvas, const Series& series, double x, double y, double width, double height) {
    double low = std::numeric_limits<double>::infinity(), high = -low;
    for (const double value : series.values) {
      if (!std::isfinite(value)) continue;
      low = std::min(low, value);
      high = std::max(high, value);
    }
    const double span = high > low ? high - low : 1;
    canvas.text(x, y - 22, printable(series.name), 13, colours::kInk, true, width);
    canvas.box(x, y, width, height, Colour{1, 1, 1, 1}, colours::kLine);
    if (low < 0 && high > 0) {
      const double zero = y + height - (0 - low) / span * height;
      canvas.line(x, zero, x + width, zero, colours::kLine);
      constexpr double kClear = 20;  // of the labels at top and bottom
      if (zero - y > kClear && y + height - zero > kClear)
        canvas.text(x - 12 - canvas.width_of("0", 12), zero - 8, "0", 12, colours::kFaint);
    }
    const std::string top = label(high), bottom = label(low);
    canvas.text(x - 12 - canvas.width_of(top, 12), y - 4, top, 12, colours::kFaint);
    if (high > low) canvas.text(x - 12 - canvas.width_of(bottom, 12), y + height - 14, bottom, 12, colours::kFaint);
    const std::size_t count = series.values.size();
    const double step = count > 1 ? width / static_cast<double>(count - 1) : 0;
    double last_x = 0, last_y = 0;
    bool open = false;
    for (std::size_t i = 0; i < count; ++i) {
      const double value = series.values[i];
      if (!std::isfinite(value)) {
        open = false;
        continue;
      }
      const double at = x + (count > 1 ? static_cast<double>(i) * step : width / 2);
      const double level = y + height - (high > low ? (value - low) / span : 0.5) * height;
      if (open) {
        canvas.line(last_x, last_y, at, last_y, colours::kTeal, 1.5);  // it keeps its value until the next hit
        canvas.line(at, last_y, at, level, colours::kTeal, 1.5);
      }
      if (count <= 80) canvas.box(at - 3, level - 3, 6, 6, colours::kTeal, colours::kTeal);
      last_x = at;
      last_y = level;
      open = true;
    }
  }

  std::string path_, title_;
  Canvas::Form form_;
  std::size_t rows_ = 0;
  std::vector<Series> series_;
  Series watched_;
};

}  // namespace

std::string end_words(const RunEnd& end) {
  switch (end.how) {
    case RunEnd::How::exited: return fmt::format("ended with status {}", end.number);
    case RunEnd::How::killed: return fmt::format("was ended by {}", abi::signal_name(end.number));
    case RunEnd::How::interrupted: return "was stopped: interrupted";
    case RunEnd::How::detached: return "goes on by itself";
    case RunEnd::How::counted: return "was ended: all rows that were asked for are there (--let-finish lets it run on)";
  }
  return {};
}

void end_json(JsonWriter& json, const RunEnd& end) {
  json.begin_object();
  switch (end.how) {
    case RunEnd::How::exited: json.key("status").number(static_cast<std::uint64_t>(end.number)); break;
    case RunEnd::How::killed: json.key("signal").string(abi::signal_name(end.number)); break;
    case RunEnd::How::interrupted: json.key("stopped").string("interrupt"); break;
    case RunEnd::How::detached: json.key("stopped").string("detached"); break;
    case RunEnd::How::counted: json.key("stopped").string("count"); break;
  }
  json.end();
}

std::unique_ptr<session::HitsSink> hits_text(Output& out, Style style, program::SourceText& sources,
                                             TakeOutput take_output) {
  return std::make_unique<Text>(out, style, sources, std::move(take_output));
}
std::unique_ptr<session::HitsSink> hits_json(Output& out) { return std::make_unique<Json>(out); }
std::unique_ptr<session::HitsSink> hits_csv(Output& out) { return std::make_unique<Csv>(out); }
std::unique_ptr<session::HitsSink> hits_figure(const std::string& path, Canvas::Form form) {
  return std::make_unique<Figure>(path, form);
}

}  // namespace deeptrace::report
