// System calls as a drawing: a lane for each thread, time from left to right, a bar for each call as long as it took.
// Of very many calls how busy each moment was takes the bars' place; memory grows with threads, not with calls.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <vector>

#include "base/path.h"
#include "report/canvas.h"
#include "report/syscalls.h"

namespace deeptrace::report {
namespace {

using session::SyscallRow;

/// A part of the time, of one thread.
struct Moment {
  std::uint64_t busy = 0, calls = 0, errors = 0;  ///< nanoseconds, counts
};

/// How busy a thread was: a fixed number of moments, which become twice as long when time outgrows them.
class Busy {
 public:
  static constexpr std::size_t kMoments = 1024;

  void add(std::uint64_t from, std::uint64_t to, bool failed) {
    while (to / length_ >= kMoments) join();
    ++moments_[from / length_].calls;
    if (failed) ++moments_[to / length_].errors;
    for (std::uint64_t at = from; at < to;) {
      const std::uint64_t end = std::min(to, (at / length_ + 1) * length_);
      moments_[at / length_].busy += end - at;
      at = end;
    }
  }
  [[nodiscard]] std::uint64_t length() const { return length_; }
  [[nodiscard]] const Moment& operator[](std::size_t index) const { return moments_[index]; }

 private:
  void join() {
    for (std::size_t i = 0; i < kMoments / 2; ++i) {
      const Moment &a = moments_[2 * i], &b = moments_[2 * i + 1];
      moments_[i] = {a.busy + b.busy, a.calls + b.calls, a.errors + b.errors};
    }
    std::fill(moments_.begin() + kMoments / 2, moments_.end(), Moment{});
    length_ *= 2;
  }

  std::uint64_t length_ = 1000;  ///< nanoseconds
  std::array<Moment, kMoments> moments_{};
};

struct Bar {
  std::uint64_t number = 0, from = 0, to = 0;
  std::string name, error, place;
};

struct Lane {
  std::vector<Bar> bars;  ///< the first ones
  Busy busy;
  std::uint64_t calls = 0;
};

std::string time_words(double nanoseconds) {
  if (nanoseconds >= 1e9) return fmt::format("{:g} s", nanoseconds / 1e9);
  if (nanoseconds >= 1e6) return fmt::format("{:g} ms", nanoseconds / 1e6);
  return fmt::format("{:g} us", nanoseconds / 1e3);
}

class SyscallsFigure final : public session::SyscallsSink {
 public:
  SyscallsFigure(std::string path, Canvas::Form form) : path_(std::move(path)), form_(form) {}

  void begin(const session::SyscallsStart& start) override {
    title_ = fmt::format("{}: system calls over time", base_name(start.program));
  }

  void row(const SyscallRow& row) override {
    const std::uint64_t to = row.start + row.duration;
    first_ = std::min(first_, row.start);
    last_ = std::max(last_, to);
    ++calls_;
    Lane& lane = lanes_[{row.process, row.thread}];
    ++lane.calls;
    lane.busy.add(row.start, to, row.call.failed);
    Bar bar{row.number, row.start, to, row.call.name, row.call.error, place_of(row)};
    if (calls_ <= kMostBars) lane.bars.push_back(bar);
    longest_.push_back(std::move(bar));
    std::ranges::sort(longest_, std::ranges::greater{}, [](const Bar& one) { return one.to - one.from; });
    if (longest_.size() > kLongest) longest_.pop_back();
    if (row.call.failed) ++errors_[row.call.error];
  }

  void end(const session::SyscallsSummary& /*summary*/) override {
    if (calls_ != 0) draw();
  }

 private:
  static constexpr std::size_t kMostBars = 2000, kLongest = 8, kMostLanes = 64;
  static constexpr double kWidth = 1280, kLeft = 160, kRight = 30, kTop = 84, kBar = 22, kNames = 3, kNameRow = 14;
  static constexpr double kPlot = kWidth - kLeft - kRight;

  static std::string place_of(const SyscallRow& row) {
    if (row.own.line != 0) return fmt::format("{}:{}", base_name(row.own.file), row.own.line);
    return row.own.place.empty() ? row.made_by : row.own.place;
  }

  [[nodiscard]] bool in_bars() const { return calls_ <= kMostBars; }
  [[nodiscard]] double at(std::uint64_t time) const {
    const double span = std::max<double>(1, static_cast<double>(last_ - first_));
    return kLeft + kPlot * static_cast<double>(time - std::min(time, first_)) / span;
  }
  [[nodiscard]] double lane_height() const { return kBar + (in_bars() ? kNames * kNameRow : 8) + 10; }

  void draw() {
    const std::size_t shown = std::min(lanes_.size(), kMostLanes);
    const double lists = kTop + static_cast<double>(shown) * lane_height() + 24;
    const double height = lists + 30 + static_cast<double>(std::max(longest_.size(), errors_.size())) * 18 + 40;
    Canvas canvas(path_, form_, kWidth, height);
    canvas.box(0, 0, kWidth, height, colours::kPaper, colours::kPaper);
    canvas.text(30, 18, printable(title_), 16, colours::kInk, true, kWidth - 60);
    canvas.text(30, 42,
                fmt::format("{} call{} in {}; times include the cost of tracing", calls_, calls_ == 1 ? "" : "s",
                            rounded(last_ - first_)),
                11, colours::kFaint);
    draw_axis(canvas, kTop + static_cast<double>(shown) * lane_height());
    double y = kTop;
    std::size_t count = 0;
    for (const auto& [who, lane] : lanes_) {
      if (count++ == shown) break;
      std::string label = fmt::format("thread {}", who.second);
      if (lanes_.rbegin()->first.first > 1) label = fmt::format("process {}, thread {}", who.first, who.second);
      canvas.text(20, y + 4, label, 11, colours::kInk, false, kLeft - 30);
      in_bars() ? draw_bars(canvas, lane, y) : draw_busy(canvas, lane, y);
      y += lane_height();
    }
    draw_lists(canvas, lists, lanes_.size() - shown);
    canvas.finish();
  }

  /// Ticks at 1, 2 or 5 of a power of ten, some ten of them.
  void draw_axis(Canvas& canvas, double bottom) const {
    const double span = std::max<double>(1, static_cast<double>(last_ - first_));
    double step = std::pow(10, std::floor(std::log10(span / 10)));
    for (const double more : {2.0, 2.5, 2.0}) {
      if (span / step <= 12) break;
      step *= more;
    }
    for (double time = 0; time <= span; time += step) {
      const double x = kLeft + kPlot * time / span;
      canvas.line(x, kTop - 8, x, bottom, colours::kLine);
      canvas.text(x + 3, kTop - 22, time == 0 ? "0" : time_words(time), 10, colours::kFaint);
    }
  }

  void draw_bars(Canvas& canvas, const Lane& lane, double y) {
    std::array<double, static_cast<std::size_t>(kNames)> taken{};
    for (const Bar& bar : lane.bars) {
      const bool failed = !bar.error.empty();
      const double x = at(bar.from), width = std::max(1.5, at(bar.to) - x);
      const Colour colour = failed ? colours::kMagenta : colours::kTeal;
      canvas.box(x, y, width, kBar, {colour.red, colour.green, colour.blue, 0.55}, colour, 0.5);
      const std::string name = failed ? bar.name + " " + bar.error : bar.name;
      const double room = canvas.width_of(name, 10);
      // Below the bars, in the first row where there is room; where there is none, the bar stays without its name.
      const auto free = std::ranges::find_if(taken, [&](double end) { return end <= x && x + room < kWidth - 4; });
      if (free == taken.end()) continue;
      const double row = static_cast<double>(free - taken.begin());
      canvas.text(x, y + kBar + 2 + row * kNameRow, printable(name), 10, failed ? colours::kMagenta : colours::kInk);
      *free = x + room + 6;
    }
  }

  void draw_busy(Canvas& canvas, const Lane& lane, double y) const {
    canvas.line(kLeft, y + kBar, kLeft + kPlot, y + kBar, colours::kLine);
    const std::uint64_t length = lane.busy.length();
    for (std::size_t i = 0; i < Busy::kMoments; ++i) {
      const Moment& moment = lane.busy[i];
      if (moment.busy == 0 && moment.calls == 0) continue;
      const double x = at(i * length), width = std::max(1.0, at((i + 1) * length) - x);
      const double share = std::min(1.0, static_cast<double>(moment.busy) / static_cast<double>(length));
      const double high = std::max(1.5, share * kBar);
      canvas.box(x, y + kBar - high, width, high, colours::kTeal, colours::kTeal, 0);
      if (moment.errors != 0)
        canvas.box(x, y + kBar + 2, std::max(1.5, width), 5, colours::kMagenta, colours::kMagenta, 0);
    }
  }

  void draw_lists(Canvas& canvas, double y, std::size_t more_lanes) const {
    if (!in_bars())
      canvas.text(kLeft, y - 14, "height: how much of the time was spent in calls; below the line: errors", 10,
                  colours::kFaint);
    if (more_lanes != 0)
      canvas.text(kLeft + 480, y - 14, fmt::format("{} more threads are not drawn", more_lanes), 10, colours::kAmber);
    y += 8;
    canvas.text(30, y, "took longest", 12, colours::kInk, true);
    canvas.text(760, y, "errors", 12, colours::kInk, true);
    double row = y + 20;
    for (const Bar& bar : longest_) {
      canvas.text(30, row, rounded(bar.to - bar.from), 11, colours::kInk);
      canvas.text(110, row, std::to_string(bar.number), 11, colours::kFaint);
      canvas.text(170, row, printable(bar.name), 11, colours::kInk, false, 170);
      canvas.text(350, row, printable(bar.place), 11, colours::kFaint, false, 390);
      row += 18;
    }
    row = y + 20;
    if (errors_.empty()) canvas.text(760, row, "none", 11, colours::kFaint);
    for (const auto& [name, count] : errors_) {
      canvas.text(760, row, fmt::format("{} {}", count, printable(name)), 11, colours::kMagenta);
      row += 18;
    }
  }

  static std::string rounded(std::uint64_t nanoseconds) {
    const auto value = static_cast<double>(nanoseconds);
    if (value >= 1e9) return fmt::format("{:.2f} s", value / 1e9);
    if (value >= 1e6) return fmt::format("{:.1f} ms", value / 1e6);
    return fmt::format("{:.0f} us", value / 1e3);
  }

  std::string path_, title_;
  Canvas::Form form_;
  std::map<std::pair<std::uint64_t, std::uint64_t>, Lane> lanes_;  ///< by process and thread
  std::vector<Bar> longest_;
  std::map<std::string, std::uint64_t> errors_;
  std::uint64_t first_ = ~std::uint64_t(0), last_ = 0, calls_ = 0;
};

}  // namespace

std::unique_ptr<session::SyscallsSink> syscalls_figure(const std::string& path, Canvas::Form form) {
  return std::make_unique<SyscallsFigure>(path, form);
}

}  // namespace deeptrace::report
