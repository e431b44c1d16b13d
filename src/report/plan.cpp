#include "report/plan.h"

#include <fmt/format.h>

#include <set>

#include "base/path.h"
#include "report/hits.h"
#include "report/names.h"
#include "report/value.h"

namespace deeptrace::report {
namespace {

using session::Expected;
using session::HitsStart;
using session::Plan;
using session::PlanRow;
using session::PlanSummary;

class Text : public session::PlanSink {
 public:
  Text(Output& out, Style style, TakeOutput take_output, ShowWords show)
      : out_(out), style_(style), take_output_(std::move(take_output)), show_(std::move(show)) {}

  void begin(const Plan& plan, const HitsStart& start) override {
    path_ = base_name(plan.path);
    line(fmt::format("{}   {} {} of {}", look(style_, Role::heading, shown_path(style_, start.program)),
                     plan.rules.size(), plan.rules.size() == 1 ? "rule" : "rules", shown_path(style_, plan.path)));
  }

  void row(const PlanRow& row) override {
    program_output();
    const session::HitRow& hit = row.hit;
    std::string text =
        fmt::format("{}:{}  {}, hit {}", printable(path_), row.rule->line, printable(row.rule->halt.text()), hit.hit);
    text += fmt::format("   {}", shown_place(style_, hit.function, hit.inlined));
    if (hit.line != 0) text += fmt::format("  {}:{}", printable(base_name(hit.file)), hit.line);
    if (!hit.by.empty()) text += "   by " + printable(hit.by);
    line(text);
    if (hit.before && hit.after)
      line(fmt::format("      now {}   was {}", value_words(style_, *hit.after), value_words(style_, *hit.before)));
    for (std::size_t i = 0; i < hit.kept.size(); ++i)
      line(fmt::format("      {:<24} {}{}", printable(row.kept_names[i]), value_words(style_, hit.kept[i]),
                       inferred(row.kept_names[i], hit.kept[i])));
    for (const std::string& words : row.shows) {
      line(fmt::format("      show {}", printable(words)));
      if (show_) {
        for (const std::string& one : show_(*row.subject, *row.stopped, words)) line("      " + one);
      }
    }
    for (const Expected& one : row.expected) expectation(one);
    if (!row.answer.empty())
      line(look(style_, Role::attention,
                fmt::format("      note: the call is not made; it gives {}", printable(row.answer))));
  }

  void end(const PlanSummary& summary) override {
    program_output();
    for (const std::string& note : summary.notes) line(look(style_, Role::attention, "note: " + printable(note)));
    for (const auto& missed : summary.never) {
      line(look(style_, Role::broken,
                fmt::format("wrong: {}:{}: never reached: expect {}", printable(path_), missed.line,
                            printable(missed.text))));
    }
    line(fmt::format("the program {}", end_words(summary.end)));
    const std::string verdict = fmt::format("{} expectation{} held, {} failed, {} never reached", summary.held,
                                            summary.held == 1 ? "" : "s", summary.failed, summary.never.size());
    line(look(style_, summary.fine() ? Role::heading : Role::broken, verdict));
    out_.flush();
  }

 private:
  void line(std::string_view text) { add_line(out_, style_, text); }

  void expectation(const Expected& one) {
    if (one.holds) {
      line(fmt::format("      holds: {}", printable(one.text)));
      return;
    }
    line(look(style_, Role::broken, fmt::format("      wrong: expect {}", printable(one.text))));
    if (!one.unknown.empty()) line(fmt::format("             {}", printable(one.unknown)));
    if (one.left) line(fmt::format("             left   {}", value_words(style_, *one.left)));
    if (one.right) line(fmt::format("             right  {}", value_words(style_, *one.right)));
  }

  /// Said once.
  std::string inferred(const std::string& name, const inspect::Value& value) {
    if (!value.from_code || !said_.insert(name).second) return {};
    return "   " + look(style_, Role::faint, inferred_words(value));
  }

  void program_output() {
    if (!take_output_) return;
    const std::string text = take_output_();
    std::string_view rest = text;
    while (!rest.empty()) {
      const std::size_t end = std::min(rest.find('\n'), rest.size() - 1) + 1;
      line(fmt::format("  {} \"{}\"", look(style_, Role::faint, "program wrote"), escaped(rest.substr(0, end))));
      rest.remove_prefix(end);
    }
  }

  Output& out_;
  Style style_;
  TakeOutput take_output_;
  ShowWords show_;
  std::string path_;
  std::set<std::string> said_;
};

class Json : public session::PlanSink {
 public:
  Json(Output& out, ShowWords show) : out_(out), json_(out), show_(std::move(show)) {}
  void begin(const Plan& plan, const HitsStart& start) override {
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("plan");
    json_.key("program").string(start.program);
    json_.key("plan").string(plan.path);
    children_ = start.children;
    json_.new_line();
    json_.key("rows").begin_array();
  }
  void row(const PlanRow& row) override {
    json_.new_line();
    json_.begin_object();
    json_.key("rule").number(row.rule->line);
    json_.key("stop").string(fmt::format("h{}", row.hit.halt));
    json_.key("hit").number(row.hit.hit);
    if (children_) json_.key("process").number(row.hit.process);
    json_.key("thread").number(row.hit.thread);
    json_.key("address").hex(row.hit.address);
    json_.key("function").string_or_null(row.hit.function);
    json_.key("inlined").string_or_null(row.hit.inlined);
    if (!row.answer.empty()) json_.key("answer").string(row.answer);
    json_.key("kept").begin_array();
    for (std::size_t i = 0; i < row.hit.kept.size(); ++i) {
      json_.begin_object();
      json_.key("expression").string(row.kept_names[i]);
      json_.key("value");
      value_json(json_, row.hit.kept[i]);
      json_.end();
    }
    json_.end();
    json_.key("shown").begin_array();
    for (const std::string& words : row.shows) {
      json_.begin_object();
      json_.key("words").string(words);
      json_.key("lines").begin_array();
      for (const std::string& one : show_(*row.subject, *row.stopped, words)) json_.string(one);
      json_.end();
      json_.end();
    }
    json_.end();
    json_.key("expected").begin_array();
    for (const Expected& one : row.expected) {
      json_.begin_object();
      json_.key("expression").string(one.text);
      json_.key("holds").boolean(one.holds);
      if (!one.unknown.empty()) json_.key("unknown").string(one.unknown);
      if (one.left) {
        json_.key("left");
        value_json(json_, *one.left);
      }
      if (one.right) {
        json_.key("right");
        value_json(json_, *one.right);
      }
      json_.end();
    }
    json_.end();
    json_.end();
  }
  void end(const PlanSummary& summary) override {
    json_.end();
    json_.new_line();
    json_.key("held").number(summary.held);
    json_.key("failed").number(summary.failed);
    json_.key("never_reached").begin_array();
    for (const auto& missed : summary.never) {
      json_.begin_object();
      json_.key("rule").number(missed.line);
      json_.key("expression").string(missed.text);
      json_.end();
    }
    json_.end();
    json_.key("exit");
    end_json(json_, summary.end);
    json_.close_all();
    out_.flush();
  }

 private:
  Output& out_;
  JsonWriter json_;
  ShowWords show_;
  bool children_ = false;
};

}  // namespace

std::unique_ptr<session::PlanSink> plan_text(Output& out, Style style, TakeOutput take_output, ShowWords show) {
  return std::make_unique<Text>(out, style, std::move(take_output), std::move(show));
}
std::unique_ptr<session::PlanSink> plan_json(Output& out, ShowWords show) {
  return std::make_unique<Json>(out, std::move(show));
}

}  // namespace deeptrace::report
