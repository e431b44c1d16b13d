// The text form of `steps`.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "report/changes.h"
#include "report/fold.h"
#include "report/frames.h"
#include "report/kernel_call.h"
#include "report/names.h"
#include "report/source_words.h"
#include "report/stack.h"
#include "report/steps.h"

namespace deeptrace::report {
namespace {

using session::StepRow;
using session::StepsEnd;
using session::StepsStart;
using session::StepsSummary;

constexpr std::size_t kShownVariations = 16;
constexpr std::size_t kShownRanges = 4;

class Text : public session::StepsSink {
 public:
  Text(Output& out, Style style, program::SourceText& sources, TakeOutput take_output)
      : out_(out),
        style_(style),
        sources_(sources),
        take_output_(std::move(take_output)),
        folder_([this](const FoldEntry& e) { emit(e); }) {}

  [[nodiscard]] bool for_people() const override { return true; }
  void begin(const StepsStart& start) override {
    all_threads_ = start.all_threads;
    names_ = start.names;
    const std::string process = start.process != 0 ? fmt::format("   process {}", start.process) : "";
    line(fmt::format("{}{}   from {} ({:#x})   {}", look(style_, Role::heading, shown_path(style_, start.program)),
                     process, shown_name(style_, start.place), start.address,
                     start.randomised ? "address randomisation as usual" : "address randomisation switched off"));
    FoldEntry before;
    add_output(before);
    for (const std::string& text : before.lines) line(text);
  }

  void row(const StepRow& row) override {
    if (!row.note.empty()) {
      // It is no part of what repeats.
      FoldEntry note;
      note.key = ~row.number;
      note.lines.push_back(look(style_, Role::attention, "note: " + printable(row.note)));
      folder_.add(std::move(note));
    }
    FoldEntry entry;
    entry.key = (row.address * 8 + static_cast<std::uint64_t>(row.kind)) * 2 + 1;
    if (all_threads_) entry.key = entry.key * 0x10001 + static_cast<std::uint64_t>(row.thread) * 2;
    entry.number = row.number;
    entry.place = row.kind == StepRow::Kind::instruction
                      ? shown_name(style_, row.function) + (row.offset == 0 ? "" : "+" + hex(row.offset))
                      : std::string(row.text);
    add_heading(entry, row);
    add_first_line(entry, row);
    add_changes(entry, row);
    if (row.call != nullptr) {
      for (const std::string& text : kernel_call_lines(style_, *row.call)) entry.lines.push_back("          " + text);
    }
    if (row.stack != nullptr) {
      for (const std::string& text : stack_lines(style_, *row.stack, arch::machine_of(row.mode).word))
        entry.lines.push_back("          " + text);
    }
    if (row.kind == StepRow::Kind::full_speed || row.kind == StepRow::Kind::kernel) add_output(entry);
    folder_.add(std::move(entry));
  }

  void end(const StepsSummary& summary) override {
    folder_.finish();
    line("");
    line(fmt::format("{} instruction{} stepped; {}", summary.instructions, summary.instructions == 1 ? "" : "s",
                     ending(summary)));
    if (summary.other_threads != 0 && !all_threads_) {
      line(look(style_, Role::attention,
                fmt::format("note: {} other threads took their turns without rows; what they wrote is not in the rows",
                            summary.other_threads)));
    }
    FoldEntry rest;
    add_output(rest);
    for (const std::string& text : rest.lines) line(text);
    line(exit_words(summary));
    for (const look::Finding& finding : summary.findings) {
      for (const std::string& text : finding_lines(style_, finding)) line(text);
    }
    out_.flush();
  }

 private:
  void line(std::string_view text) { add_line(out_, style_, text); }
  [[nodiscard]] std::string_view arrow() const { return style_.utf8 ? " \u2192 " : " -> "; }

  /// "thread 2  " where rows come from several threads.
  [[nodiscard]] std::string thread_words(const StepRow& row) const {
    return all_threads_ ? fmt::format("thread {:<4}", row.thread_number) : "";
  }

  /// The function and the source line, when they change.
  void add_heading(FoldEntry& entry, const StepRow& row) {
    if (row.kind != StepRow::Kind::instruction) return;
    // Threads are in functions of their own: each row names it.
    if (row.function != function_ && !all_threads_) {
      function_ = row.function;
      entry.lines.push_back("");
      entry.lines.push_back(look(style_, Role::heading, shown_name(style_, row.function)) +
                            (row.file.empty() ? "" : "   " + shown_path(style_, row.file)));
      lines_.clear();
    }
    std::uint32_t& line = lines_[row.thread];
    if (row.line == line || row.line == 0) return;
    line = row.line;
    const std::string path(row.file);
    if (!sources_.found(path) && missing_.insert(path).second) {
      entry.lines.push_back(
          look(style_, Role::attention,
               fmt::format("note: the source file {} was not found; --source-moved FROM=TO says where it is",
                           printable(path))));
    }
    entry.lines.push_back(look(style_, Role::source, source_line(sources_, path, row.line)));
  }

  void add_first_line(FoldEntry& entry, const StepRow& row) {
    if (row.kind != StepRow::Kind::instruction) {
      std::string text = printable(row.text);
      if (row.kind == StepRow::Kind::full_speed) text += "; memory was not followed there";
      if (row.kind != StepRow::Kind::full_speed && !row.memory_followed)
        text += "; note: too much memory to compare, its changes are unknown";
      entry.lines.push_back(
          fmt::format("{:>8}  {}{}", row.number, thread_words(row),
                      look(style_, row.kind == StepRow::Kind::full_speed ? Role::faint : Role::attention, text)));
      return;
    }
    const std::string offset = "+" + hex(row.offset);
    std::string text = all_threads_ ? fmt::format("{:>8}  {}{:#x}  {:<16} ", row.number, thread_words(row), row.address,
                                                  shown_name(style_, row.function) + offset)
                                    : fmt::format("{:>8}  {:#x}  {:<7} ", row.number, row.address, offset);
    std::string tail;
    if (!row.target_text.empty()) {
      tail = fmt::format("{}\"{}\"", arrow(), escaped(row.target_text));
    } else if (!row.target_name.empty()) {
      tail = fmt::format("{}{}", arrow(), shown_name(style_, row.target_name));
    }
    const std::string reason = names_ != nullptr ? names_->reason(row) : std::string();
    if (row.taken) tail += (*row.taken ? "   jumps" : "   does not jump") + (reason.empty() ? "" : ": " + reason);
    if (row.repetitions) tail += fmt::format("   {} times", *row.repetitions);
    text += tail.empty() ? std::string(row.text) : fmt::format("{:<32}{}", row.text, tail);
    entry.lines.push_back(text);
    if (row.signal != 0) {
      entry.lines.push_back(look(style_, Role::broken,
                                 fmt::format("   wrong: {} here, at address {:#x}: the instruction was not completed",
                                             abi::signal_name(row.signal), row.fault_address)));
    } else if (!row.completed && row.repetitions) {
      entry.lines.push_back(look(style_, Role::attention, "   note: a signal came in between; it goes on later"));
    }
    if (!row.registers_followed)
      entry.lines.push_back(look(style_, Role::attention, "   note: tiles and bound registers are not compared"));
    if (!row.memory_followed)
      entry.lines.push_back(look(style_, Role::attention, "   note: what this one wrote in memory is unknown"));
  }

  void add_changes(FoldEntry& entry, const StepRow& row) {
    const state::Delta& delta = *row.delta;
    const Names names = [&](std::uint64_t value) {
      return names_ != nullptr ? names_->address(row, value) : look::AddressName{};
    };
    if (row.kind == StepRow::Kind::full_speed) return add_full_speed_changes(entry, delta, row.mode, names);
    for (const ChangeWords& words : register_words(style_, delta, row.mode, names)) add_change(entry, words);
    for (const ChangeWords& words : wide_words(style_, delta)) add_change(entry, words);
    if (const ChangeWords flags = flag_words(delta); !flags.what.empty()) {
      add_change(entry, flags);
    } else if (row.kind == StepRow::Kind::instruction) {
      entry.values.push_back({"flags", flag_list(delta.flags_after), {}, false});  // for tables of iterations
    }
    add_memory(entry, row, names);
  }

  /// At full speed the returned value and the stack pointer count; of the rest, which registers changed.
  void add_full_speed_changes(FoldEntry& entry, const state::Delta& delta, isa::Mode mode, const Names& names) {
    std::string others;
    state::Delta shown;
    for (const state::RegisterChange& change : delta.registers) {
      if (change.reg == state::Reg::rax || change.reg == state::Reg::rsp) {
        shown.registers.push_back(change);
      } else {
        others += fmt::format(" {}", name_of(change.reg, mode));
      }
    }
    for (const ChangeWords& words : register_words(style_, shown, mode, names)) add_change(entry, words);
    for (const state::WideChange& change : delta.wide) others += fmt::format(" {}", name_of(change));
    if (others.empty()) return;
    entry.lines.push_back(fmt::format("   {}              also changed:{}", look(style_, Role::changed, "~"), others));
  }

  void add_memory(FoldEntry& entry, const StepRow& row, const Names& names) {
    const state::Delta& delta = *row.delta;
    const bool by_kernel = row.kind != StepRow::Kind::instruction;
    std::size_t shown = 0;
    for (const state::MemoryChange& change : delta.memory) {
      if (by_kernel && ++shown > kShownRanges) {
        entry.lines.push_back(fmt::format("   ~               and {} more ranges (all of them in --format json)",
                                          delta.memory.size() - kShownRanges));
        break;
      }
      const std::string name = names_ != nullptr ? names_->memory(row, change) : std::string();
      add_change(entry, words_of(style_, delta, change, name, row.mode, names));
    }
  }

  /// One changed thing, with the mark that survives without colour.
  void add_change(FoldEntry& entry, const ChangeWords& words) {
    const std::vector<std::string> values = now_and_was(style_, words);
    entry.lines.push_back(
        fmt::format("   {}              {:<26} {}", look(style_, Role::changed, "~"), words.what, values.front()));
    if (values.size() > 1) entry.lines.push_back(fmt::format("                  {:<26} {}", "", values.back()));
    entry.values.push_back({words.where.empty() ? words.what : "memory", words.now, words.where});
  }

  /// What the program wrote, quoted, in the place where it did.
  void add_output(FoldEntry& entry) {
    if (!take_output_) return;
    const std::string text = take_output_();
    std::string_view rest = text;
    while (!rest.empty()) {
      const std::size_t end = std::min(rest.find('\n'), rest.size() - 1) + 1;
      entry.lines.push_back(fmt::format("          program wrote \"{}\"", escaped(rest.substr(0, end))));
      rest.remove_prefix(end);
    }
  }

  void emit(const FoldEntry& entry) {
    if (entry.turns == 0) {
      for (const std::string& text : entry.lines) line(text);
      return;
    }
    for (const FoldEntry& inner : entry.first) emit(inner);
    if (entry.turns > 2) emit_folded(entry);
    for (const FoldEntry& inner : entry.last) emit(inner);
  }

  void emit_folded(const FoldEntry& loop) {
    const std::string_view dots = style_.utf8 ? "\u2026" : "...";
    line(look(style_, Role::attention,
              fmt::format("  {} the same {} rows {} times, from {} on: the first time above, the last below; what "
                          "varied, by iteration:",
                          dots, loop.first.size(), loop.turns, loop.place)));
    std::vector<std::vector<std::string>> table(1);
    std::vector<std::string>& heads = table.front();
    const std::size_t samples = std::min<std::size_t>(Folder::kSamples, loop.turns - 1);
    heads = {"", ""};
    for (std::size_t i = 0; i < samples; ++i) heads.push_back(fmt::format("{}", i + 1));
    if (samples + 1 < loop.turns) heads.emplace_back(dots);
    heads.push_back(fmt::format("{}", loop.turns));
    std::vector<const FoldEntry::Variation*> varied;
    for (const FoldEntry::Variation& variation : loop.variations) {
      if (variation.varied && variation.shown) varied.push_back(&variation);
    }
    std::ranges::stable_sort(varied, {}, [](const auto* variation) { return variation->entry; });
    const std::size_t shown = std::min(varied.size(), kShownVariations);
    for (std::size_t i = 0; i < shown; ++i) table.push_back(varied_cells(*varied[i], samples, loop.turns));
    write_table(table);
    if (shown < varied.size())
      line(fmt::format("                    and {} more (all of them in --format json)", varied.size() - shown));
  }

  /// A row of the table: place, what, the values of the first iterations and of the last.
  [[nodiscard]] std::vector<std::string> varied_cells(const FoldEntry::Variation& variation, std::size_t samples,
                                                      std::uint64_t turns) const {
    // A memory address that stays the same is named once, one that moves with each value.
    const bool fixed = !variation.moved && variation.last && !variation.last->where.empty();
    std::vector<std::string> cells = {variation.place, fixed ? variation.last->where : variation.what};
    const auto words = [&](const FoldValue& value) {
      return variation.moved ? value.where + " " + value.value : value.value;
    };
    const FoldValue* before = nullptr;
    for (std::size_t i = 0; i < samples; ++i) {
      const FoldValue* value = i < variation.samples.size() && variation.samples[i] ? &*variation.samples[i] : nullptr;
      const bool same = value == nullptr || (before != nullptr && words(*before) == words(*value));
      cells.emplace_back(same ? (before == nullptr ? "-" : "same") : words(*value));
      if (value != nullptr) before = value;
    }
    if (samples + 1 < turns) cells.emplace_back(style_.utf8 ? "\u2026" : "...");
    cells.push_back(variation.last ? words(*variation.last) : "-");
    return cells;
  }

  /// Columns line up; where there is no room for all, later iterations but the last are left out.
  void write_table(std::vector<std::vector<std::string>>& table) {
    std::vector<std::size_t> widths;
    const auto measure = [&] {
      widths.assign(table.front().size(), 0);
      for (const std::vector<std::string>& row : table) {
        for (std::size_t i = 0; i < row.size(); ++i) widths[i] = std::max<std::size_t>(widths[i], columns_of(row[i]));
      }
      std::size_t all = 6;
      for (const std::size_t width : widths) all += width + 3;
      return all;
    };
    constexpr std::size_t kFirstValue = 2;
    while (measure() > style_.width && style_.width != 0 && table.front().size() > kFirstValue + 3) {
      // The column before the dots, or where the dots are to be.
      const std::size_t last = table.front().size() - 1;
      const bool dotted = table.front()[last - 1] == (style_.utf8 ? "\u2026" : "...");
      for (std::vector<std::string>& row : table) {
        if (dotted) {
          row.erase(row.begin() + static_cast<std::ptrdiff_t>(last) - 2);
        } else {
          row[last - 1] = style_.utf8 ? "\u2026" : "...";
        }
      }
    }
    for (const std::vector<std::string>& row : table) {
      std::string text = &row == &table.front() ? "    " : "   " + look(style_, Role::changed, "~");
      for (std::size_t i = 0; i < row.size(); ++i) {
        text += (i == 0 ? "  " : "   ") + row[i];
        if (i + 1 < row.size()) text += std::string(widths[i] - columns_of(row[i]), ' ');
      }
      line(&row == &table.front() ? look(style_, Role::faint, text) : text);
    }
  }

  [[nodiscard]] static std::string ending(const StepsSummary& summary) {
    const bool let_go = summary.exit.how == session::RunEnd::How::detached;
    const std::string on = let_go ? "" : ", and the program ran on by itself";
    switch (summary.ended) {
      case StepsEnd::returned: return "the starting function was left" + on;
      case StepsEnd::to: return "came to the place of --to" + on;
      case StepsEnd::count: return "stopped stepping there by --count" + on + " (--count all steps on)";
      case StepsEnd::program_end: return "the program ended";
      case StepsEnd::replaced: return "the program replaced itself by another one (exec), which ran by itself";
      case StepsEnd::thread_end: return "the thread ended" + on;
      case StepsEnd::interrupt: return let_go ? "interrupted" : "interrupted, and the program was ended";
    }
    return {};
  }

  [[nodiscard]] std::string exit_words(const StepsSummary& summary) const {
    if (summary.exit.how == session::RunEnd::How::detached) return "the program was attached to, and goes on by itself";
    if (summary.ended == StepsEnd::interrupt)
      return look(style_, Role::attention, "note: interrupted; what was gathered until then stands above");
    if (summary.exit.how == session::RunEnd::How::exited)
      return fmt::format("the program ended with status {}", summary.exit.number);
    return look(style_, Role::broken,
                fmt::format("wrong: the program was ended by {}", abi::signal_name(summary.exit.number)));
  }

  Output& out_;
  Style style_;
  program::SourceText& sources_;
  TakeOutput take_output_;
  Folder folder_;
  session::RowNames* names_ = nullptr;
  bool all_threads_ = false;
  std::string function_;
  std::map<pid_t, std::uint32_t> lines_;  ///< the last source line of each thread
  std::set<std::string> missing_;
};

}  // namespace

std::unique_ptr<session::StepsSink> steps_text(Output& out, Style style, program::SourceText& sources,
                                               TakeOutput take_output) {
  return std::make_unique<Text>(out, style, sources, std::move(take_output));
}

}  // namespace deeptrace::report
