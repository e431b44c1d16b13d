#include "session/hits.h"

#include "process/attention.h"

namespace deeptrace::session {
namespace {

using process::Attention;

class Run {
 public:
  Run(HitsRequest request, HitsSink& sink) : request_(std::move(request)), sink_(sink) {}

  Result<HitsSummary> run() {
    if (auto error = parse()) return *error;
    Result<std::unique_ptr<Control>> started = Control::start(request_.control);
    if (!started) return started.error();
    control_ = std::move(*started);
    if (auto error = parse()) return *error;  // once more: now types are known
    for (const HaltRule& rule : request_.rules) {
      if (const Result<unsigned> number = control_->add(rule); !number) return number.error();
    }
    sink_.begin({control_->path(), request_.control.attach != 0, request_.control.launch.randomise, control_->halts(),
                 request_.keep});
    follow();
    summary_.halts = control_->halts();
    sink_.end(summary_);
    return summary_;
  }

 private:
  std::optional<Error> parse() {
    expressions_.clear();
    std::optional<Scope> scope;
    if (control_) scope.emplace(control_->modules(), control_->view());
    const auto is_type = [&](std::string_view name) { return scope && scope->type_named(name).has_value(); };
    for (const std::string& text : request_.keep) {
      Result<inspect::Expression> expression = inspect::Expression::parse(text, is_type);
      if (!expression && control_) return expression.error();
      // A cast to a type of the program's own cannot be told from other parentheses yet.
      if (expression) expressions_.push_back(std::move(*expression));
    }
    return std::nullopt;
  }

  void follow() {
    for (;;) {
      const Result<Stopped> stopped = control_->go({Motion::Kind::resume, {}, 1});
      if (!stopped) return;
      summary_.notes.insert(summary_.notes.end(), stopped->notes.begin(), stopped->notes.end());
      if (stopped->program_is_gone()) {
        summary_.end = {stopped->why == Stopped::Why::exited ? RunEnd::How::exited : RunEnd::How::killed,
                        stopped->number};
        return;
      }
      if (stopped->why == Stopped::Why::attention) {
        summary_.end = {control_->process().attached() ? RunEnd::How::detached : RunEnd::How::interrupted, 0};
        return;
      }
      for (const HaltHit& hit : stopped->hits) {
        if (request_.count && summary_.rows == *request_.count) break;
        send(*stopped, hit);
      }
      if (request_.count && summary_.rows == *request_.count) {
        for (const HaltInfo& halt : control_->halts()) control_->lift(halt.number);
        if (control_->process().attached()) {
          control_->detach();
          summary_.end = {RunEnd::How::detached, 0};
          return;
        }
        request_.count.reset();  // nothing stops it now
      }
    }
  }

  /// In a library the own function that it works for is what people look for.
  std::string own_caller(std::uint64_t address) {
    if (control_->modules().is_own(address)) return {};
    constexpr std::size_t kMost = 64;
    for (const inspect::Frame& frame : frames_of(control_->modules(), control_->view(), kMost)) {
      if (frame.how == inspect::Frame::How::innermost || !control_->modules().is_own(frame.inside())) continue;
      const auto [file, line] = control_->modules().line_of(frame.inside());
      std::string text = control_->modules().place_name(frame.address());
      if (line != 0) text += "  " + std::string(file.substr(file.rfind('/') + 1)) + ":" + std::to_string(line);
      return text;
    }
    return {};
  }

  void send(const Stopped& stopped, const HaltHit& hit) {
    HitRow row;
    row.halt = hit.halt;
    row.hit = hit.hit;
    row.thread = control_->number_of(stopped.thread);
    row.address = hit.writer != 0 ? hit.writer : control_->view().registers()[state::Reg::rip];
    const std::string place = control_->modules().place_name(row.address);
    const auto [file, line] = control_->modules().line_of(row.address);
    row.function = place;
    row.file = file;
    row.line = line;
    const std::string own = own_caller(row.address);
    row.called_from = own;
    Scope scope(control_->modules(), control_->view());
    if (stopped.returned_from) scope.returned_from(*stopped.returned_from);
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
    if (!hit.before.empty()) row.before = control_->watched_value(hit.halt, hit.before);
    if (!hit.after.empty()) row.after = control_->watched_value(hit.halt, hit.after);
    row.by = hit.by;
    row.notes = &summary_.notes;
    ++summary_.rows;
    sink_.row(row, *control_, stopped);
    summary_.notes.clear();
  }

  HitsRequest request_;
  HitsSink& sink_;
  std::unique_ptr<Control> control_;
  std::vector<inspect::Expression> expressions_;
  HitsSummary summary_;
};

}  // namespace

Result<HitsSummary> hits(HitsRequest request, HitsSink& sink) { return Run(std::move(request), sink).run(); }

}  // namespace deeptrace::session
