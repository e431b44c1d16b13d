// Function calls as a drawing: a lane for each thread, time from left to right, a bar for each call as long as it took,
// below the call that made it; and who called whom how often.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <vector>

#include "base/path.h"
#include "report/calls.h"
#include "report/canvas.h"
#include "report/syscall_words.h"

namespace deeptrace::report {
namespace {

using session::CallRow;

struct Bar {
  std::uint64_t from = 0, to = 0, depth = 0;
  std::string name;
  bool own = false, bad = false;
};

struct Edge {
  std::uint64_t calls = 0, time = 0;
};

class CallsFigure final : public session::CallsSink {
 public:
  CallsFigure(std::string path, Canvas::Form form) : path_(std::move(path)), form_(form) {}

  void begin(const session::CallsStart& start) override {
    title_ = fmt::format("{}: calls over time", base_name(start.program));
  }

  void entered(const CallRow& row) override { callers_[{row.process, row.thread}].push_back(row.callee); }

  void over(const CallRow& row) override {
    ++calls_;
    std::vector<const session::Callee*>& around = callers_[{row.process, row.thread}];
    if (!around.empty()) around.pop_back();
    Edge& edge = edges_[{around.empty() ? "" : around.back()->function, row.callee->function}];
    ++edge.calls;
    edge.time += row.duration;
    const std::uint64_t to = row.start + row.duration;
    first_ = std::min(first_, row.start);
    last_ = std::max(last_, to);
    if (row.depth >= kMostLevels) return;
    std::vector<Bar>& bars = lanes_[{row.process, row.thread}];
    Bar bar{row.start, to, row.depth, row.callee->function, row.callee->own, !row.findings.empty()};
    // Of very many the longest ones stay: the others would be thinner than a pixel.
    const auto shorter = [](const Bar& a, const Bar& b) { return a.to - a.from > b.to - b.from; };
    bars.push_back(std::move(bar));
    std::ranges::push_heap(bars, shorter);
    if (bars.size() <= kMostBars) return;
    std::ranges::pop_heap(bars, shorter);
    bars.pop_back();
    ++left_out_;
  }

  void end(const session::CallsSummary& /*summary*/) override {
    if (calls_ != 0) draw();
  }

 private:
  static constexpr std::size_t kMostBars = 4000, kMostLanes = 32, kMostEdges = 16;
  static constexpr std::uint64_t kMostLevels = 40;
  static constexpr double kWidth = 1280, kLeft = 130, kRight = 30, kTop = 84, kBar = 17;
  static constexpr double kPlot = kWidth - kLeft - kRight;

  [[nodiscard]] double at(std::uint64_t time) const {
    const double span = std::max<double>(1, static_cast<double>(last_ - first_));
    return kLeft + kPlot * static_cast<double>(time - std::min(time, first_)) / span;
  }
  static double height_of(const std::vector<Bar>& bars) {
    std::uint64_t deepest = 0;
    for (const Bar& one : bars) deepest = std::max(deepest, one.depth);
    return static_cast<double>(deepest + 1) * kBar + 16;
  }

  void draw() {
    double lanes = 0;
    std::size_t shown = 0;
    for (const auto& [who, bars] : lanes_) {
      if (shown++ < kMostLanes) lanes += height_of(bars);
    }
    std::vector<std::pair<std::pair<std::string, std::string>, Edge>> edges(edges_.begin(), edges_.end());
    std::ranges::sort(edges, std::ranges::greater{}, [](const auto& one) { return one.second.calls; });
    const std::size_t rows = std::min(kMostEdges, edges.size());
    Canvas canvas(path_, form_, kWidth, kTop + lanes + 70 + static_cast<double>(rows) * 18);
    canvas.box(0, 0, kWidth, 4000, colours::kPaper, colours::kPaper);
    canvas.text(30, 18, printable(title_), 16, colours::kInk, true, kWidth - 60);
    canvas.text(30, 42,
                fmt::format("{} call{} in {}; times include the cost of tracing{}", calls_, calls_ == 1 ? "" : "s",
                            duration_words(last_ - first_),
                            left_out_ == 0 ? "" : fmt::format("; the {} shortest are not drawn", left_out_)),
                11, colours::kFaint);
    for (int i = 0; i < 10; ++i) {
      const double x = kLeft + kPlot * i / 10;
      canvas.line(x, kTop - 8, x, kTop + lanes, colours::kLine);
      canvas.text(x + 3, kTop - 22, duration_words((last_ - first_) * static_cast<std::uint64_t>(i) / 10), 10,
                  colours::kFaint);
    }
    double y = kTop;
    shown = 0;
    for (const auto& [who, bars] : lanes_) {
      if (shown++ == kMostLanes) break;
      std::string label = fmt::format("thread {}", who.second);
      if (lanes_.rbegin()->first.first > 1) label = fmt::format("process {}, thread {}", who.first, who.second);
      canvas.text(20, y + 2, label, 11, colours::kInk, false, kLeft - 30);
      for (const Bar& bar : bars) draw_bar(canvas, bar, y);
      y += height_of(bars);
    }
    draw_edges(canvas, std::span(edges).first(rows), y + 14, edges.size() - rows);
    canvas.finish();
  }

  void draw_bar(Canvas& canvas, const Bar& bar, double y) const {
    const double x = at(bar.from), width = std::max(1.0, at(bar.to) - x);
    const double top = y + static_cast<double>(bar.depth) * kBar;
    const Colour colour = bar.bad ? colours::kMagenta : bar.own ? colours::kTeal : colours::kFaint;
    canvas.box(x, top, width, kBar - 2, {colour.red, colour.green, colour.blue, bar.own ? 0.28 : 0.16}, colour, 0.5);
    constexpr double kLeast = 24;  // pixels that a name needs
    if (width > kLeast) canvas.text(x + 3, top + 1, printable(bar.name), 10, colours::kInk, false, width - 6);
  }

  void draw_edges(Canvas& canvas, std::span<const std::pair<std::pair<std::string, std::string>, Edge>> edges, double y,
                  std::size_t more) const {
    canvas.text(30, y, more == 0 ? "who called whom" : fmt::format("who called whom, most often ({} more)", more), 12,
                colours::kInk, true);
    double row = y + 22;
    for (const auto& [who, edge] : edges) {
      canvas.text(30, row, fmt::format("{} call{}", edge.calls, edge.calls == 1 ? "" : "s"), 11, colours::kInk);
      canvas.text(130, row, duration_words(edge.time), 11, colours::kFaint);
      canvas.text(230, row, who.first.empty() ? "(the start)" : printable(who.first), 11, colours::kInk, false, 380);
      canvas.text(620, row, "→", 11, colours::kFaint);
      canvas.text(645, row, printable(who.second), 11, colours::kInk, false, 600);
      row += 18;
    }
  }

  std::string path_, title_;
  Canvas::Form form_;
  std::map<std::pair<std::uint64_t, std::uint64_t>, std::vector<Bar>> lanes_;  ///< by process and thread
  std::map<std::pair<std::uint64_t, std::uint64_t>, std::vector<const session::Callee*>> callers_;  ///< under way
  std::map<std::pair<std::string, std::string>, Edge> edges_;  ///< caller and callee
  std::uint64_t first_ = ~std::uint64_t(0), last_ = 0, calls_ = 0, left_out_ = 0;
};

}  // namespace

std::unique_ptr<session::CallsSink> calls_figure(const std::string& path, Canvas::Form form) {
  return std::make_unique<CallsFigure>(path, form);
}

}  // namespace deeptrace::report
