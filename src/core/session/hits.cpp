#include "session/hits.h"

#include <map>
#include <utility>

#include "look/card.h"
#include "process/attention.h"
#include "session/core_of.h"

namespace deeptrace::session {
namespace {

using process::Attention;

class Run {
 public:
  Run(HitsRequest request, HitsSink& sink) : request_(std::move(request)), sink_(sink) {}

  Result<HitsSummary> run() {
    if (auto error = parse()) return *error;
    request_.control.before_libraries = true;
    Result<std::unique_ptr<control::ProcessTree>> started = control::ProcessTree::start(request_.control);
    if (!started) return started.error();
    tree_ = std::move(*started);
    if (auto error = parse()) return *error;  // once more: now types are known
    for (const control::HaltRule& rule : request_.rules) {
      if (const Result<unsigned> number = tree_->first().add(rule); !number) return number.error();
    }
    if (auto error = unknown_kept()) return *error;
    sink_.begin({tree_->first().path(), request_.control.attach != 0, request_.control.launch.randomise,
                 request_.control.trace_children, tree_->halts(), request_.keep});
    follow();
    if (summary_.halts.empty()) summary_.halts = tree_->halts();
    count_notes(summary_.notes);
    sink_.end(summary_);
    return summary_;
  }

 private:
  /// A name that means nothing at any stop point. Where those of one kind stand is known beforehand; where others come
  /// about is not.
  std::optional<Error> unknown_kept() {
    std::vector<unsigned> halts;
    for (const control::HaltInfo& halt : tree_->first().halts()) {
      if (halt.rule.kind != control::HaltRule::Kind::at || halt.addresses.empty()) return std::nullopt;
      halts.push_back(halt.number);
    }
    for (const inspect::Expression& expression : expressions_) {
      if (auto error = tree_->first().wrong_at(expression, halts, false)) return error;
    }
    return std::nullopt;
  }

  std::optional<Error> parse() {
    expressions_.clear();
    std::optional<look::Scope> scope;
    if (tree_) scope.emplace(tree_->first().modules(), tree_->first().view());
    const auto is_type = [&](std::string_view name) { return scope && scope->type_named(name).has_value(); };
    for (const std::string& text : request_.keep) {
      Result<inspect::Expression> expression = inspect::Expression::parse(text, is_type);
      if (!expression && tree_) return expression.error();
      // A cast to a type of the program's own cannot be known apart from other parentheses yet.
      if (!expression) continue;
      if (auto error = scope ? expression->literals_fit(*scope) : std::nullopt) return error;
      expressions_.push_back(std::move(*expression));
    }
    return std::nullopt;
  }

  void follow() {
    for (;;) {
      const Result<look::Stopped> stopped = tree_->go({control::Motion::Kind::resume, {}, 1});
      if (!stopped) return;
      summary_.notes.insert(summary_.notes.end(), stopped->notes.begin(), stopped->notes.end());
      if (const auto end = end_of(tree_->first(), *stopped)) {
        summary_.end = *end;
        return;
      }
      for (const look::HaltHit& hit : stopped->hits) {
        if (request_.count && summary_.rows == *request_.count) break;
        send(*stopped, hit);
      }
      if (request_.count && summary_.rows == *request_.count) {
        summary_.halts = tree_->halts();
        if (tree_->first().attached()) {
          tree_->detach();
          summary_.end = {RunEnd::How::detached};
          return;
        }
        if (!request_.let_finish) {
          summary_.end = {RunEnd::How::counted};
          return;
        }
        tree_->remove_all();  // nothing stops it now
        request_.count.reset();
      }
    }
  }

  void send(const look::Stopped& stopped, const look::HaltHit& hit) {
    HitPlace place(*tree_, stopped, hit);
    HitRow& row = place.row;
    control::Control& control = tree_->current();
    look::Scope scope(control.modules(), control.view());
    if (hit.level) scope.at_depth(hit.level->depth);
    if (stopped.returned_from) scope.returned_from(*stopped.returned_from);
    const control::HaltRule* rule = control.rule_of(hit.halt);
    if (rule != nullptr && rule->how().by == control::HaltKind::By::system_call) scope.in_call_here();
    for (const inspect::Expression& expression : expressions_) {
      Result<inspect::Datum> datum = expression.evaluate(scope, false);
      if (datum) {
        row.kept.push_back(inspect::value_of(*datum, scope));
      } else {
        inspect::Value unknown;
        unknown.text = datum.error().message;
        row.kept.push_back(std::move(unknown));
      }
    }
    if (!request_.core_folder.empty()) write_core(control, row);
    count_notes(summary_.notes);
    row.notes = &summary_.notes;
    std::optional<look::Card> card;
    if (request_.cards) {
      row.card = &card.emplace(look::card_of(control, stopped));
      card->limits_are_news = summary_.rows == 0;
    }
    ++summary_.rows;
    sink_.row(row);
    summary_.notes.clear();
  }

  void write_core(control::Control& control, HitRow& row) {
    std::string name = "h" + std::to_string(row.halt) + "-" + std::to_string(row.hit);
    if (row.process != 1) name += "-process-" + std::to_string(row.process);
    const std::string path = request_.core_folder + "/" + name + ".core";
    const auto written = write_core_of(control, path);
    if (written) row.core = path;
    summary_.notes.push_back(written ? "the core file of the next hit is " + path : written.error().message);
  }

  HitsRequest request_;
  HitsSink& sink_;
  std::unique_ptr<control::ProcessTree> tree_;
  std::vector<inspect::Expression> expressions_;
  HitsSummary summary_;
};

}  // namespace

HitPlace::HitPlace(control::ProcessTree& tree, const look::Stopped& stopped, const look::HaltHit& hit) {
  control::Control& control = tree.current();
  row.process = tree.number();
  row.halt = hit.halt;
  row.hit = hit.hit;
  row.thread = control.number_of(stopped.thread);
  row.address = hit.writer != 0 ? hit.writer : control.view().registers()[state::Reg::rip];
  where_ = look::where_at(control.modules(), row.address, hit.writer != 0 ? std::nullopt : hit.level);
  called_from_ = look::own_caller(control.modules(), control.view(), row.address);
  row.function = where_.place;
  row.inlined = where_.inlined;
  row.called_from = called_from_;
  row.file = where_.file;
  row.line = where_.line;
  if (!hit.before.empty()) row.before = control.watched_value(hit.halt, hit.before);
  if (!hit.after.empty()) row.after = control.watched_value(hit.halt, hit.after);
  row.by = hit.by;
  row.thrown = hit.thrown;
}

std::optional<RunEnd> end_of(const control::Control& control, const look::Stopped& stopped) {
  if (stopped.why == look::Stopped::Why::exited) return RunEnd{RunEnd::How::exited, stopped.number};
  if (stopped.why == look::Stopped::Why::killed) return RunEnd{RunEnd::How::killed, stopped.number};
  if (stopped.why == look::Stopped::Why::let_go) return RunEnd{RunEnd::How::detached, 0};
  if (stopped.why == look::Stopped::Why::attention)
    return RunEnd{control.attached() ? RunEnd::How::detached : RunEnd::How::interrupted, 0, true};
  return std::nullopt;
}

void count_notes(std::vector<std::string>& notes) {
  std::map<std::string, std::size_t> counts;
  for (const std::string& note : notes) ++counts[note];
  std::vector<std::string> once;
  for (std::string& note : notes) {
    const std::size_t count = std::exchange(counts[note], 0);
    if (count == 1) once.push_back(std::move(note));
    if (count > 1) once.push_back(note + " (" + std::to_string(count) + " times)");
  }
  notes = std::move(once);
}

Result<HitsSummary> hits(HitsRequest request, HitsSink& sink) { return Run(std::move(request), sink).run(); }

}  // namespace deeptrace::session
