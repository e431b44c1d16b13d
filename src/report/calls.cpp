#include "report/calls.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <utility>
#include <vector>

#include "base/path.h"
#include "report/call_words.h"
#include "report/columns.h"
#include "report/frames.h"
#include "report/hits.h"
#include "report/names.h"
#include "report/syscall_words.h"
#include "report/value.h"

namespace deeptrace::report {
namespace {

using inspect::Value;
using session::CallRow;
using session::CallsStart;
using session::CallsSummary;
using By = CallRow::By;
using End = CallRow::End;

constexpr unsigned kFrom = 22;  ///< columns of where calls are made

/// Cut to its column where room is short.
std::string from_cell(const Style& style, const CallRow& row) {
  const std::string text = call_from_words(style, row);
  if (style.width == 0 || columns_of(text) <= kFrom) return text;
  const std::string_view mark = style.utf8 ? "…" : "..";
  return text.substr(0, bytes_within(text, kFrom - columns_of(mark))) + std::string(mark);
}

class Text final : public session::CallsSink {
 public:
  Text(Output& out, Style style, TakeOutput take_output)
      : out_(out), style_(std::move(style)), take_output_(std::move(take_output)) {}

  void begin(const CallsStart& start) override {
    line(fmt::format("{}   {}", look(style_, Role::heading, shown_path(style_, start.program)),
                     start.attached     ? "attached"
                     : start.randomised ? "address randomisation as usual"
                                        : "address randomisation switched off"));
    line(look(style_, Role::faint,
              fmt::format("{:>6}  {:<22} {}", "n", "called at", "function, what it is given, what comes back, time")));
    children_ = start.children;
    checked_ = start.checked;
  }

  void entered(const CallRow& row) override {
    Thread& thread = thread_of(row);
    write_pending();
    const bool recurs = !thread.open.empty() && thread.open.back().callee == row.callee;
    Open open{row.number, row.callee, recurs ? thread.open.back().again + 1 : 0};
    const bool hidden = folding() && (thread.hides > 0 || open.again >= kLevels);
    thread.open.push_back(open);
    if (hidden) {
      ++thread.hides;
      ++thread.hidden;
      thread.deepest = std::max(thread.deepest, thread.hides);
      return;
    }
    show_output();
    pending_ = Pending{row.number,           Key{row.callee, row.from, row.depth, row.thread, row.process},
                       head_of(row),         call_argument_words(style_, row),
                       row.callee->inferred, row.callee->own};
  }

  void over(const CallRow& row) override {
    Thread& thread = thread_of(row);
    if (!thread.open.empty() && thread.open.back().number == row.number) thread.open.pop_back();
    if (thread.hides > 0) {
      if (--thread.hides == 0) {
        say(row.depth, fmt::format("{} more call{} inside, up to {} levels deep (--uncut lists them)", thread.hidden,
                                   thread.hidden == 1 ? "" : "s", thread.deepest));
        thread.hidden = thread.deepest = 0;
      }
      return;
    }
    const std::string cost = call_cost_words(row);
    const std::string tail = fmt::format("{} {}{}{}", style_.utf8 ? "→" : "->", call_end_words(style_, row),
                                         cost.empty() ? "" : "   ", cost) +
                             thread_words(row);
    if (pending_ && pending_->number == row.number) {
      write_leaf(row, tail);
    } else {
      write_pending();
      end_fold();
      line(fmt::format("{:>6}  {:<22} {}{} {}", row.number, "", indent(row.depth), name_of(row), tail));
    }
    for (const look::Finding& one : row.findings) finding(one, row.depth);
    show_output();
  }

  /// On a terminal alone: elsewhere the rows do not depend on how long calls took.
  void pause() override {
    if (!out_.is_terminal()) return;
    write_pending();
    show_output();
  }

  void end(const CallsSummary& summary) override {
    write_pending();
    end_fold();
    show_output();
    for (const std::string& note : summary.notes) line(look(style_, Role::attention, "note: " + printable(note)));
    if (summary.unlisted != 0)
      line(look(style_, Role::attention,
                fmt::format("note: {} more call{} not listed (--limit)", summary.unlisted,
                            summary.unlisted == 1 ? "" : "s")));
    if (summary.too_deep != 0)
      line(look(style_, Role::attention,
                fmt::format("note: {} call{} deeper than {} levels not listed", summary.too_deep,
                            summary.too_deep == 1 ? "" : "s", session::kDeepest)));
    line(look(style_, Role::faint,
              fmt::format("{} call{}; times include the cost of tracing", summary.rows, summary.rows == 1 ? "" : "s")));
    if (checked_)
      line(summary.wrong + summary.noted == 0
               ? std::string("the calling convention was kept by all of them")
               : fmt::format("the calling convention: {} wrong, {} note{}", summary.wrong, summary.noted,
                             summary.noted == 1 ? "" : "s"));
    line("the program " + report::end_words(summary.end));
    out_.flush();
  }

 private:
  static constexpr unsigned kLevels = 3;  ///< of a recursion that are shown
  static constexpr unsigned kAlike = 3;   ///< calls in a row from one place that are shown

  struct Key {
    const session::Callee* callee = nullptr;
    const session::CallOrigin* from = nullptr;
    std::uint64_t depth = 0, thread = 0, process = 0;
    friend bool operator==(const Key&, const Key&) = default;
  };
  /// A call that has begun, until it is known whether it makes others.
  struct Pending {
    std::uint64_t number = 0;
    Key key;
    std::string head;
    std::vector<std::string> arguments;
    bool inferred = false, own = false;
  };
  struct Open {
    std::uint64_t number = 0;
    const session::Callee* callee = nullptr;
    unsigned again = 0;  ///< how many calls of the same function are directly around it
  };
  struct Thread {
    std::vector<Open> open;
    std::uint64_t hides = 0, hidden = 0, deepest = 0;  ///< rows that are not shown, open now and in all
  };

  Thread& thread_of(const CallRow& row) { return threads_[{row.process, row.thread}]; }

  static std::string indent(std::uint64_t depth) {
    constexpr std::uint64_t kDeep = 40;
    return std::string(2 * std::min(depth, kDeep), ' ');
  }
  std::string name_of(const CallRow& row) const { return shown_name(style_, row.callee->function); }
  std::string head_of(const CallRow& row) const {
    std::string text =
        fmt::format("{:>6}  {:<22} {}{}", row.number, from_cell(style_, row), indent(row.depth), name_of(row));
    if (row.by == By::indirect)
      text += row.object.empty() ? " (through a pointer)" : fmt::format(" (through a pointer, of a {})", row.object);
    if (row.by == By::jump) text += " (by a jump)";
    if (row.by == By::inlined) text += " (inlined)";
    return text;
  }
  std::string thread_words(const CallRow& row) {
    several_threads_ |= row.thread > 1;
    std::string text = several_threads_ ? fmt::format("   thread {}", row.thread) : "";
    if (row.process > 1 || children_) text += fmt::format("   process {}", row.process);
    return text;
  }

  void write_leaf(const CallRow& row, const std::string& tail) {
    Pending pending = std::move(*pending_);
    pending_.reset();
    if (row.findings.empty() && folding() && pending.key == fold_.key) {
      if (++fold_.count > kAlike) {
        fold_.duration += row.duration;
        return;
      }
    } else {
      end_fold();
      fold_ = {pending.key, name_of(row), 1, 0};
    }
    write(pending, tail);
  }

  void write_pending() {
    if (!pending_) return;
    const Pending pending = std::move(*pending_);
    pending_.reset();
    end_fold();
    write(pending, "");
  }

  void write(const Pending& pending, const std::string& tail) {
    std::string all;
    for (const std::string& one : pending.arguments) all += (all.empty() ? "" : ", ") + one;
    if (pending.inferred && !all.empty()) all = "takes (by its code) " + all;
    const Role role = pending.own ? Role::plain : Role::faint;
    std::string text = pending.head + (all.empty() ? "" : "   " + all) + (tail.empty() ? "" : "   " + tail);
    if (style_.width == 0 || columns_of(text) <= style_.width) return line(look(style_, role, text));
    line(look(style_, role, pending.head + (tail.empty() ? "" : "   " + tail)));
    const std::string below(31 + indent(pending.key.depth).size() + 2, ' ');
    if (pending.inferred && !pending.arguments.empty()) line(look(style_, role, below + "takes (by its code)"));
    for (const std::string& one : pending.arguments) line(look(style_, role, below + one));
  }

  void end_fold() {
    const Fold fold = std::exchange(fold_, {});
    if (fold.count <= kAlike) return;
    say(fold.key.depth, fmt::format("{} more call{} of {} from there, {} together", fold.count - kAlike,
                                    fold.count - kAlike == 1 ? "" : "s", fold.name, duration_words(fold.duration)));
  }

  void say(std::uint64_t depth, const std::string& text) {
    line(look(style_, Role::faint, std::string(31, ' ') + indent(depth) + text));
  }
  void finding(const look::Finding& one, std::uint64_t depth) {
    end_fold();
    const std::string before = std::string(31, ' ') + indent(depth);
    add_prose(out_, style_, (one.note ? "note: " : "wrong: ") + printable(one.text), before,
              one.note ? Role::attention : Role::broken);
    for (const std::string& evidence : one.evidence)
      add_prose(out_, style_, printable(evidence), before + "       ", Role::plain);
  }
  [[nodiscard]] bool folding() const { return style_.width != 0; }

  void show_output() {
    if (!take_output_) return;
    const std::string text = take_output_();
    if (text.empty()) return;
    write_pending();
    end_fold();
    line(look(style_, Role::faint, "the program wrote: ") + "\"" + escaped(text) + "\"");
  }
  void line(std::string_view text) { add_line(out_, style_, text); }

  struct Fold {
    Key key;
    std::string name;
    std::uint64_t count = 0, duration = 0;
  };

  Output& out_;
  Style style_;
  TakeOutput take_output_;
  bool children_ = false, several_threads_ = false, checked_ = false;
  std::map<std::pair<std::uint64_t, std::uint64_t>, Thread> threads_;
  std::optional<Pending> pending_;
  Fold fold_;  ///< calls that follow each other, alike
};

constexpr Column<CallRow> kColumns[] = {
    {"n", [](const CallRow& row) { return Cell::number(row.number); }},
    {"parent", [](const CallRow& row) { return row.parent != 0 ? Cell::number(row.parent) : Cell::text(""); }},
    {"process", [](const CallRow& row) { return Cell::number(row.process); }},
    {"thread", [](const CallRow& row) { return Cell::number(row.thread); }},
    {"depth", [](const CallRow& row) { return Cell::number(row.depth); }},
    {"function", [](const CallRow& row) { return Cell::string(row.callee->function); }},
    {"address", [](const CallRow& row) { return Cell::address(row.callee->address); }},
    {"own", [](const CallRow& row) { return Cell::boolean(row.callee->own); }},
    {"by", [](const CallRow& row) { return Cell::string(call_by_word(row.by)); }},
    {"object", [](const CallRow& row) { return Cell::text(row.object); }},
    {"inferred", [](const CallRow& row) { return Cell::boolean(row.callee->inferred); }},
    {"start_ns", [](const CallRow& row) { return Cell::number(row.start); }},
    {"duration_ns", [](const CallRow& row) { return Cell::number(row.duration); }},
    {"instructions",
     [](const CallRow& row) { return row.instructions ? Cell::number(*row.instructions) : Cell::text(""); }},
    {"end", [](const CallRow& row) { return Cell::string(call_end_word(row.end)); }},
};

constexpr Column<session::CallOrigin> kOrigin[] = {
    {"function", [](const session::CallOrigin& from) { return Cell::text(from.where.place); }},
    {"file", [](const session::CallOrigin& from) { return Cell::text(from.where.file); }},
    {"line", [](const session::CallOrigin& from) { return Cell::line(from.where.line); }},
    {"address",
     [](const session::CallOrigin& from) { return from.address != 0 ? Cell::address(from.address) : Cell::text(""); }},
};

class Json final : public session::CallsSink {
 public:
  explicit Json(Output& out) : out_(out), json_(out) {}

  void begin(const CallsStart& start) override {
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("calls");
    json_.key("program").string(start.program);
    json_.key("attached").boolean(start.attached);
    json_.key("randomised").boolean(start.randomised);
    json_.key("checked").boolean(start.checked);
    json_.key("calls").begin_array();
  }
  void entered(const CallRow& /*row*/) override {}
  void over(const CallRow& row) override {
    json_.new_line();
    json_.begin_object();
    put_members(json_, std::span<const Column<CallRow>>(kColumns), row);
    json_.key("from").begin_object();
    put_members(json_, std::span<const Column<session::CallOrigin>>(kOrigin), *row.from);
    json_.end();
    json_.key("arguments").begin_array();
    for (const look::Argument& one : row.arguments) argument_json(json_, one);
    json_.end();
    json_.key("result").begin_object();
    json_.key("where");
    row.result_where.empty() ? json_.null() : json_.string(row.result_where);
    json_.key("value");
    row.result ? value_json(json_, *row.result) : json_.null();
    json_.end();
    json_.end();
    constexpr std::size_t kMost = 10000;  // a place that goes wrong again and again fills no memory
    for (const look::Finding& one : row.findings) {
      if (findings_.size() < kMost) findings_.push_back(one);
    }
  }
  void end(const CallsSummary& summary) override {
    json_.end();
    json_.new_line();
    json_.key("rows").number(summary.rows);
    json_.key("unlisted").number(summary.unlisted);
    json_.key("too_deep").number(summary.too_deep);
    json_.key("wrong").number(summary.wrong);
    json_.key("notes").begin_array();
    for (const std::string& note : summary.notes) json_.string(note);
    json_.end();
    json_.key("findings").begin_array();
    for (const look::Finding& one : findings_) finding_json(json_, one);
    json_.end();
    json_.key("exit");
    end_json(json_, summary.end);
    json_.close_all();
    out_.flush();
  }

 private:
  Output& out_;
  JsonWriter json_;
  std::vector<look::Finding> findings_;
};

class Csv final : public session::CallsSink {
 public:
  explicit Csv(Output& out) : out_(out), csv_(out) {}

  void begin(const CallsStart& /*start*/) override {
    for (const auto& column : kColumns) csv_.cell(column.name);
    csv_.cell("from_function").cell("from_file").cell("from_line").cell("from_address");
    csv_.cell("arguments").cell("result").cell("result_where");
    csv_.end_row();
  }
  void entered(const CallRow& /*row*/) override {}
  void over(const CallRow& row) override {
    const Style plain{.utf8 = true};
    for (const auto& column : kColumns) column.of(row).write(csv_);
    for (const auto& column : kOrigin) column.of(*row.from).write(csv_);
    std::string arguments;
    for (const std::string& one : call_argument_words(plain, row)) arguments += (arguments.empty() ? "" : ", ") + one;
    csv_.cell(arguments).cell(row.result ? call_value_words(plain, *row.result) : "").cell(row.result_where);
    csv_.end_row();
  }
  void end(const CallsSummary& /*summary*/) override { out_.flush(); }

 private:
  Output& out_;
  CsvWriter csv_;
};

}  // namespace

std::unique_ptr<session::CallsSink> calls_text(Output& out, Style style, TakeOutput take_output) {
  return std::make_unique<Text>(out, std::move(style), std::move(take_output));
}
std::unique_ptr<session::CallsSink> calls_json(Output& out) { return std::make_unique<Json>(out); }
std::unique_ptr<session::CallsSink> calls_csv(Output& out) { return std::make_unique<Csv>(out); }

}  // namespace deeptrace::report
