// The stack as a drawing: columns for moments of a run, from left to right, addresses from the highest down, so that
// each word stands at the same height in all of them.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/path.h"
#include "report/canvas.h"
#include "report/names.h"
#include "report/stack.h"
#include "report/steps.h"

namespace deeptrace::report {
namespace {

using look::StackWord;
using session::StepRow;

Colour colour_of(StackWord::Kind kind) {
  switch (kind) {
    case StackWord::Kind::return_address: return {0.95, 0.86, 0.66, 1};
    case StackWord::Kind::kept: return {0.86, 0.86, 0.92, 1};
    case StackWord::Kind::variable: return {0.80, 0.91, 0.88, 1};
    case StackWord::Kind::argument:
    case StackWord::Kind::outgoing: return {0.84, 0.89, 0.96, 1};
    case StackWord::Kind::protector: return {0.95, 0.82, 0.90, 1};
    default: return colours::kPaper;
  }
}

struct Moment {
  std::string label, function;
  std::map<std::uint64_t, StackWord> words;
  std::uint64_t top = 0, frame_pointer = 0;
  unsigned bytes = 8;  ///< of a word
};

class StackFigure final : public session::StepsSink {
 public:
  StackFigure(std::string path, Canvas::Form form) : path_(std::move(path)), form_(form) {}

  void begin(const session::StepsStart& start) override {
    title_ = fmt::format("{}: the stack from {} on", base_name(start.program), start.place);
  }

  void row(const StepRow& row) override {
    if (row.stack == nullptr || row.after == nullptr) return;
    now_.top = (*row.after)[state::Reg::rsp];
    now_.frame_pointer = (*row.after)[state::Reg::rbp];
    now_.bytes = arch::machine_of(row.mode).word;
    std::erase_if(now_.words, [&](const auto& one) { return one.first < now_.top && !one.second.below; });
    for (const StackWord& word : *row.stack) {
      const auto [known, added] = now_.words.try_emplace(word.address, word);
      const bool says_more = !word.meaning.empty() || known->second.value != word.value;
      if (!added && says_more) known->second = word;
      known->second.changed = word.changed;
    }
    now_.function = row.stack->empty() ? std::string(row.function) : row.stack->front().function;
    now_.label = fmt::format("{}  {}", row.number, row.text);
    // Moments that people look for: a frame is entered or left.
    const bool turn = row.flow == isa::ControlFlow::call || row.flow == isa::ControlFlow::return_;
    if (moments_.empty() || turn || now_.function != moments_.back().function) {
      moments_.push_back(now_);
    } else {
      moments_.back() = now_;  // a frame is shown as it is when it is complete
    }
    if (moments_.size() > kMost) moments_.erase(moments_.end() - 2);
    for (auto& [address, word] : now_.words) word.changed = false;
  }

  void end(const session::StepsSummary& /*summary*/) override {
    if (!moments_.empty()) draw();
  }

 private:
  static constexpr std::size_t kMost = 5;         // columns
  static constexpr std::size_t kMostWords = 120;  // rows
  static constexpr double kRow = 22, kLeft = 130, kColumn = 380, kGap = 16, kTop = 96;

  void draw() {
    std::set<std::uint64_t, std::greater<>> addresses;
    for (const Moment& moment : moments_) {
      for (const auto& [address, word] : moment.words) addresses.insert(address);
    }
    while (addresses.size() > kMostWords) addresses.erase(addresses.begin());
    const double width = kLeft + static_cast<double>(moments_.size()) * (kColumn + kGap) + 30;
    const double height = kTop + static_cast<double>(addresses.size()) * kRow + 60;
    Canvas canvas(path_, form_, std::max(width, 640.0), height);
    canvas.box(0, 0, std::max(width, 640.0), height, colours::kPaper, colours::kPaper);
    canvas.text(30, 18, printable(title_), 16, colours::kInk, true, width - 60);
    for (std::size_t i = 0; i < moments_.size(); ++i) {
      const double x = kLeft + static_cast<double>(i) * (kColumn + kGap);
      canvas.text(x, 48, printable(moments_[i].function), 13, colours::kInk, true, kColumn);
      canvas.text(x, 68, printable(moments_[i].label), 11, colours::kFaint, false, kColumn);
    }
    double y = kTop;
    for (const std::uint64_t address : addresses) {
      canvas.text(20, y + 4, fmt::format("{:#x}", address), 10, colours::kFaint);
      for (std::size_t i = 0; i < moments_.size(); ++i)
        draw_word(canvas, moments_[i], address, kLeft + static_cast<double>(i) * (kColumn + kGap), y);
      y += kRow;
    }
    draw_legend(canvas, y + 20);
    canvas.finish();
  }

  static void draw_word(Canvas& canvas, const Moment& moment, std::uint64_t address, double x, double y) {
    const auto found = moment.words.find(address);
    if (found == moment.words.end()) return;
    const StackWord& word = found->second;
    canvas.box(x, y, kColumn, kRow, colour_of(word.kind), word.changed ? colours::kTeal : colours::kLine,
               word.changed ? 2 : 1);
    constexpr double kOffset = 124, kValue = 96;
    canvas.text(x + 4, y + 4, fmt::format("{:#x}", word.value), 10, colours::kInk, false, kValue);
    canvas.text(x + 4 + kValue + 6, y + 4, printable(short_meaning(word)), 10, colours::kInk, word.changed,
                kColumn - kValue - kOffset - 20);
    canvas.text(x + kColumn - kOffset, y + 4, offsets(moment, address), 9, colours::kFaint, false, kOffset - 4);
  }

  /// The colour says what a return address is.
  static std::string short_meaning(const StackWord& word) {
    constexpr std::string_view kBack = "return address: ";
    return word.meaning.starts_with(kBack) ? "to " + word.meaning.substr(kBack.size()) : word.meaning;
  }

  /// "rsp+0x8 rbp-0x10": from the stack pointer, and from the frame pointer where it lies near.
  static std::string offsets(const Moment& moment, std::uint64_t address) {
    const bool wide = moment.bytes == 8;
    const auto from = [&](const char* name, std::uint64_t base) {
      if (address == base) return std::string(name);
      return address > base ? fmt::format("{}+{:#x}", name, address - base)
                            : fmt::format("{}-{:#x}", name, base - address);
    };
    std::string text = from(wide ? "rsp" : "esp", moment.top);
    constexpr std::uint64_t kNear = 4096;
    const std::uint64_t pointer = moment.frame_pointer;
    const bool near = pointer >= moment.top && pointer - moment.top < kNear;
    if (near) text += " " + from(wide ? "rbp" : "ebp", pointer);
    return text;
  }

  static void draw_legend(Canvas& canvas, double y) {
    double x = kLeft;
    for (const StackWord::Kind kind :
         {StackWord::Kind::return_address, StackWord::Kind::kept, StackWord::Kind::variable, StackWord::Kind::argument,
          StackWord::Kind::protector}) {
      canvas.box(x, y, 14, 14, colour_of(kind), colours::kLine);
      x += 20;
      x += canvas.text(x, y, kind_name(kind), 11, colours::kFaint) + 24;
    }
  }

  std::string path_, title_;
  Canvas::Form form_;
  Moment now_;
  std::vector<Moment> moments_;
};

}  // namespace

std::unique_ptr<session::StepsSink> stack_figure(const std::string& path, Canvas::Form form) {
  return std::make_unique<StackFigure>(path, form);
}

}  // namespace deeptrace::report
