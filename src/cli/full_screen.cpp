#include "cli/full_screen.h"

#define NCURSES_NOMACROS
#define NCURSES_WIDECHAR 1
#include <curses.h>
#include <fmt/format.h>

#include <algorithm>
#include <climits>
#include <clocale>
#include <cwchar>
#include <map>

#include "base/path.h"
#include "cli/command.h"
#include "cli/line_editor.h"
#include "isa/text.h"
#include "look/rows.h"
#include "look/stack_words.h"
#include "process/attention.h"
#include "report/card.h"
#include "report/changes.h"
#include "report/names.h"
#include "report/source_words.h"
#include "report/value.h"

namespace deeptrace::cli {
namespace {

using report::printable;
using state::Reg;

enum Look : short { kPlain = 0, kChanged = 1, kAttention = 2, kBroken = 3, kFaint = 4, kTitle = 5 };

struct Line {
  std::string text;
  Look look = kPlain;
  bool next = false;  ///< where the thread stands
};

/// A part of the screen with a name; it keeps its place from stop to stop.
struct Pane {
  std::string name;
  int row = 0, column = 0, height = 0, width = 0;
  int first = 0;  ///< the line that stands at the top
  std::vector<Line> lines;
};

/// What a line of the conversation means, by how it begins.
Look look_of(std::string_view text) {
  const std::size_t first = text.find_first_not_of(' ');
  if (first == std::string_view::npos) return kPlain;
  text.remove_prefix(first);
  if (text.starts_with("~")) return kChanged;
  if (text.starts_with("note:")) return kAttention;
  if (text.starts_with("wrong:")) return kBroken;
  return kPlain;
}

class Screen {
 public:
  Screen(Talk& talk, program::SourceText& sources) : talk_(talk), sources_(sources) {
    std::setlocale(LC_ALL, "");
    ::initscr();
    ::raw();
    ::noecho();
    ::keypad(stdscr, TRUE);
    ::set_escdelay(25);
    ::timeout(100);
    style_ = report::Style::for_descriptor(-1, "never", true);
    if (::has_colors() && !report::colours_refused()) {
      ::start_color();
      ::use_default_colors();
      ::init_pair(kChanged, COLOR_CYAN, -1);
      ::init_pair(kAttention, COLOR_YELLOW, -1);
      ::init_pair(kBroken, COLOR_MAGENTA, -1);
      ::init_pair(kFaint, COLORS > 8 ? 8 : -1, -1);
      ::init_pair(kTitle, COLOR_CYAN, -1);
      colours_ = true;
    }
    talk_.style(style_);
    talk_.without_cards();
  }
  ~Screen() { ::endwin(); }
  Screen(const Screen&) = delete;
  Screen& operator=(const Screen&) = delete;

  int run() {
    answer(talk_.first());
    for (;;) {
      draw();
      wint_t key = 0;
      const int kind = ::get_wch(&key);
      if (process::Attention::asked() == process::Attention::Why::end) return kInterrupted;
      process::Attention::answer();
      if (kind == ERR) {
        show_output();
        continue;
      }
      constexpr wint_t kCtrlD = 4;
      if (kind == OK && key == kCtrlD && line_.text().empty()) return kFine;  // the end of input
      if (!(kind == KEY_CODE_YES ? take_special(static_cast<int>(key)) : take_character(key))) return kFine;
    }
  }

 private:
  // ---- keys -------------------------------------------------------------------------------------------------------

  /// A key that sends no character: those of panes, and those that readline knows by what terminals send for them.
  bool take_special(int key) {
    switch (key) {
      case KEY_ENTER: return enter();
      case KEY_BACKSPACE: line_.type("\x7f"); break;
      case KEY_DC: line_.type("\x1b[3~"); break;
      case KEY_LEFT: line_.type("\x1b[D"); break;
      case KEY_RIGHT: line_.type("\x1b[C"); break;
      case KEY_HOME: line_.type("\x1b[H"); break;
      case KEY_END: line_.type("\x1b[F"); break;
      case KEY_UP: line_.type("\x1b[A"); break;
      case KEY_DOWN: line_.type("\x1b[B"); break;
      case KEY_PPAGE:
      case KEY_NPAGE: scroll(key == KEY_PPAGE ? -1 : 1); break;
      default: break;
    }
    return true;
  }

  bool take_character(wint_t key) {
    constexpr wint_t kCtrlC = 3;
    switch (key) {
      case '\n':
      case '\r': return enter();
      case '\t': line_.text().empty() ? void(focus_ = (focus_ + 1) % kPanes) : complete(); return true;
      case kCtrlC: line_.clear(); return true;
      default: break;
    }
    char bytes[MB_LEN_MAX] = {};
    std::mbstate_t state{};
    const std::size_t size = std::wcrtomb(bytes, static_cast<wchar_t>(key), &state);
    if (size != static_cast<std::size_t>(-1)) line_.type({bytes, size});
    return true;
  }

  /// By pages of the pane that has the focus.
  void scroll(int pages) {
    Pane& pane = panes_[focus_];
    const int step = std::max(1, pane.height - 2);
    pane.first =
        std::clamp(pane.first + pages * step, 0, std::max(0, static_cast<int>(pane.lines.size()) - pane.height + 1));
    scrolled_ = true;
  }

  void complete() {
    const std::string before = line_.text().substr(0, line_.cursor());
    const std::size_t start = before.rfind(' ') + 1;
    const std::vector<std::string> found = talk_.completions(before.substr(start), start == 0);
    if (found.empty()) return;
    std::string common = found.front();
    for (const std::string& one : found) {
      while (!one.starts_with(common)) common.pop_back();
    }
    line_.replace(start, common + (found.size() == 1 ? " " : ""));
    if (found.size() == 1) return;
    std::string all;
    for (const std::string& one : found) all += one + "  ";
    said_.push_back({all, kFaint});
  }

  bool enter() {
    const std::string typed = line_.text();
    const std::string words = typed.empty() ? motion_ : typed;
    if (words.empty()) return true;
    line_.remember(words);
    said_.push_back({talk_.prompt() + words, kTitle});
    motion_ = is_motion(words) ? words : "";
    if (words.starts_with("memory ")) memory_ = words;
    if (!motion_.empty()) {
      said_.push_back({"running; Ctrl-C stops it", kFaint});
      draw();
      // While the program runs, Ctrl-C has to reach us as a signal.
      ::noraw();
      ::cbreak();
    }
    const Answer result = talk_.say(words);
    ::raw();
    line_.clear();
    if (!said_.empty() && said_.back().text.starts_with("running;")) said_.pop_back();
    answer(result);
    return !result.quit;
  }

  void answer(const Answer& result) {
    for (const std::string& text : result.lines) {
      // The program's output has a pane of its own.
      if (!text.starts_with("  program wrote")) said_.push_back({text, look_of(text)});
    }
    constexpr std::size_t kKept = 2000;
    if (said_.size() > kKept) said_.erase(said_.begin(), said_.end() - kKept);
    scrolled_ = false;
    refresh_ = true;
  }

  void show_output() { refresh_ = true; }

  // ---- panes ------------------------------------------------------------------------------------------------------

  enum Which : std::size_t { kSource, kCode, kRegisters, kStack, kMemory, kValues, kProgram, kTalk, kPanes };

  void place(Which which, const char* name, int row, int column, int height, int width) {
    Pane& pane = panes_[which];
    pane.name = name;
    pane.row = row;
    pane.column = column;
    pane.height = height;
    pane.width = width;
  }

  /// Where the panes lie: two columns, or three where there is room.
  void lay_out() {
    const int rows = LINES - 2, columns = COLS;  // the last two are for typing and for the keys
    const bool wide = columns >= 150;
    const int talk = std::max(3, rows / 5);
    const int top = rows - talk;
    if (wide) {
      const int left = columns * 38 / 100, middle = columns * 36 / 100, right = columns - left - middle;
      const int upper = std::max(8, top * 58 / 100), lower = top - upper;
      place(kSource, "source", 0, 0, upper, left);
      place(kCode, "instructions", 0, left, upper, middle);
      const int registers = std::min(19, top / 2), program = std::max(3, (top - registers) / 3);
      place(kRegisters, "registers", 0, left + middle, registers, right);
      place(kValues, "values", registers, left + middle, top - registers - program, right);
      place(kProgram, "program", top - program, left + middle, program, right);
      place(kStack, "stack", upper, 0, lower, left);
      place(kMemory, "memory", upper, left, lower, middle);
    } else {
      const int left = columns * 55 / 100, right = columns - left;
      const int upper = std::max(4, top * 40 / 100);
      const int registers = std::min(19, std::max(5, top * 55 / 100));
      place(kSource, "source", 0, 0, upper, left);
      place(kCode, "instructions", upper, 0, top - upper - std::max(3, top / 5), left);
      place(kProgram, "program", top - std::max(3, top / 5), 0, std::max(3, top / 5), left);
      place(kRegisters, "registers", 0, left, registers, right);
      const int rest = top - registers, part = rest / 3;
      place(kStack, "stack", registers, left, rest - 2 * part, right);
      place(kMemory, "memory", registers + rest - 2 * part, left, part, right);
      place(kValues, "values", registers + rest - part, left, part, right);
    }
    place(kTalk, "conversation", top, 0, talk, columns);
  }

  void fill() {
    if (talk_.has_program()) {
      fill_source();
      fill_code();
      fill_registers();
      fill_stack();
      fill_memory();
      fill_values();
    } else {
      // What was is no more.
      for (const Which which : {kSource, kCode, kRegisters, kStack, kMemory, kValues})
        panes_[which].lines = {{"the program has ended", kFaint}};
      for (const Which which : {kSource, kCode, kRegisters, kStack, kMemory, kValues}) panes_[which].first = 0;
      source_.clear();
    }
    fill_program();
    Pane& talk = panes_[kTalk];
    talk.lines = said_;
    if (!scrolled_ || focus_ != kTalk) talk.first = std::max(0, static_cast<int>(said_.size()) - (talk.height - 1));
  }

  /// The line at hand stays in view; the pane moves only when it would leave it.
  static void keep_in_view(Pane& pane, int line) {
    const int room = pane.height - 1;
    if (line < pane.first || line >= pane.first + room) pane.first = std::max(0, line - room / 3);
  }

  void fill_source() {
    Pane& pane = panes_[kSource];
    look::Subject& subject = talk_.subject();
    const std::uint64_t address = talk_.frames()[std::min(talk_.frame(), talk_.frames().size() - 1)].inside();
    const auto [file, line] = subject.modules().line_of(address);
    const std::string path(file);
    if (path != source_) {
      source_ = path;
      pane.first = 0;
    }
    pane.name = path.empty() ? "source" : "source " + base_name(path);
    pane.lines.clear();
    if (line == 0) {
      pane.lines.push_back({"no source line is known here", kFaint});
      return;
    }
    std::map<std::uint32_t, std::string> halts;
    for (const auto& [where, names] : subject.stop_names()) {
      const auto [halt_file, halt_line] = subject.modules().line_of(where);
      if (halt_file == file) halts[halt_line] += names + " ";
    }
    for (std::uint32_t number = 1;; ++number) {
      const auto text = sources_.line(path, number);
      if (!text) break;
      const auto halt = halts.find(number);
      const std::string gutter = number == line ? "next" : halt != halts.end() ? halt->second : "";
      pane.lines.push_back({fmt::format("{:>4} {:>4} {}", gutter, number, report::printable_source(*text)),
                            halt != halts.end() ? kAttention : kPlain, number == line});
    }
    if (pane.lines.empty())
      pane.lines.push_back({printable(path) + " was not found; --source-moved FROM=TO", kAttention});
    if (!scrolled_) keep_in_view(pane, static_cast<int>(line) - 1);
  }

  void fill_code() {
    Pane& pane = panes_[kCode];
    pane.lines.clear();
    look::Subject& subject = talk_.subject();
    const std::uint64_t address = talk_.frames()[std::min(talk_.frame(), talk_.frames().size() - 1)].address();
    constexpr std::size_t kAround = 60;
    int at = 0;
    for (const look::CodeLine& one :
         look::code_around(subject.modules(), subject.view(), address, kAround, kAround, subject.stop_names())) {
      const std::string gutter = one.next ? "next" : one.halts;
      const std::size_t plus = one.place.rfind('+');
      const std::string offset = plus == std::string::npos ? one.place : one.place.substr(plus);
      std::string text = fmt::format("{:>4} {:>7} {}", gutter, printable(offset), one.text);
      if (!one.target.empty()) text += (style_.utf8 ? " \u2192 " : " -> ") + report::shown_name(style_, one.target);
      if (one.address == address) at = static_cast<int>(pane.lines.size());
      pane.lines.push_back({std::move(text), one.halts.empty() ? kPlain : kAttention, one.address == address});
    }
    pane.name = "instructions " + report::shown_name(style_, subject.modules().place_name(address));
    if (!scrolled_) {
      pane.first = std::max(0, at - (pane.height - 1) / 3);
    }
  }

  void fill_registers() {
    Pane& pane = panes_[kRegisters];
    pane.lines.clear();
    look::Subject& subject = talk_.subject();
    const state::StateView& view = subject.view();
    // Flags first, so that they are always in view.
    const std::uint64_t now = view.registers()[Reg::rflags], before = subject.moved().before[Reg::rflags];
    const bool changed = ((now ^ before) & report::kShownFlags) != 0;
    const std::string names = isa::flag_names(now & report::kShownFlags);
    pane.lines.push_back(
        {fmt::format("{} flags {}", changed ? "~" : " ", names.empty() ? "none" : names), changed ? kChanged : kPlain});
    for (const look::RegisterRow& row : look::register_rows(subject.modules(), view, subject.moved().before)) {
      if (!row.known) {
        pane.lines.push_back({fmt::format("  {:<3} unknown", row.name), kFaint});
        continue;
      }
      const unsigned bytes = arch::machine_of(view.mode()).word;
      std::string text = fmt::format("{} {:<3} {}", row.before ? "~" : " ", row.name,
                                     report::reading_of(style_, row.value, bytes, row.address));
      if (row.before) text += " was " + report::old_reading_of(style_, row, bytes);
      pane.lines.push_back({std::move(text), row.before ? kChanged : kPlain});
    }
  }

  void fill_stack() {
    Pane& pane = panes_[kStack];
    pane.lines.clear();
    look::Subject& subject = talk_.subject();
    for (const look::StackWord& word :
         look::stack_words(subject.modules(), subject.view(), talk_.frames(), 64, &subject.moved().written)) {
      std::string text = fmt::format("{} {:x} {:#x}",
                                     word.top     ? "top"
                                     : word.below ? "red"
                                                  : "   ",
                                     word.address & 0xffffff, word.value);
      text += report::address_words(style_, word.points_to);
      const bool back = word.kind == look::StackWord::Kind::return_address;
      if (!word.meaning.empty()) text += (!back ? "   " : style_.utf8 ? " \u2192 " : " -> ") + printable(word.meaning);
      pane.lines.push_back({std::move(text), word.changed ? kChanged : back ? kTitle : kPlain});
    }
  }

  void fill_memory() {
    Pane& pane = panes_[kMemory];
    if (!refresh_) return;
    const bool wide = !talk_.has_program() || talk_.subject().view().mode() == isa::Mode::bits64;
    pane.name = !memory_.empty() ? memory_ : wide ? "memory rsp as u64" : "memory esp as u32";
    pane.lines.clear();
    for (const std::string& text : talk_.quietly(pane.name).lines) pane.lines.push_back({text, look_of(text)});
  }

  void fill_values() {
    Pane& pane = panes_[kValues];
    if (!refresh_) return;
    pane.lines.clear();
    for (const look::Followed& one : talk_.followed()) {
      pane.lines.push_back({fmt::format("{} {} {}", one.changed ? "~" : " ", printable(one.text),
                                        report::value_words(style_, one.value)),
                            one.changed ? kChanged : kPlain});
    }
    for (const std::string& text : talk_.quietly("vars").lines)
      pane.lines.push_back({text.substr(std::min<std::size_t>(text.size(), 12)), look_of(text)});
    for (const std::string& text : report::foresight_lines(
             style_, look::what_comes(talk_.subject().target(), talk_.subject().thread(), talk_.subject().modules())))
      pane.lines.push_back({text, look_of(text)});
    refresh_ = false;
  }

  void fill_program() {
    Pane& pane = panes_[kProgram];
    pane.lines.clear();
    std::string_view rest = talk_.program_wrote();
    while (!rest.empty()) {
      const std::size_t end = std::min(rest.find('\n'), rest.size());
      pane.lines.push_back({report::escaped(rest.substr(0, end)), kPlain});
      rest.remove_prefix(std::min(end + 1, rest.size()));
    }
    if (!scrolled_ || focus_ != kProgram)
      pane.first = std::max(0, static_cast<int>(pane.lines.size()) - (pane.height - 1));
  }

  // ---- drawing ----------------------------------------------------------------------------------------------------

  void put(int row, int column, int width, const std::string& text) const {
    if (width <= 0) return;
    report::Output out;
    report::Style style = style_;
    style.width = static_cast<unsigned>(width);
    style.wraps = false;
    report::add_line(out, style, text);
    const std::string cut(out.text().substr(0, out.text().find_last_not_of('\n') + 1));
    ::mvaddstr(row, column, cut.c_str());
  }

  [[nodiscard]] attr_t attribute(Look look) const {
    if (!colours_) return look == kTitle || look == kChanged ? A_BOLD : A_NORMAL;
    return look == kPlain ? A_NORMAL : COLOR_PAIR(look) | (look == kTitle ? A_BOLD : 0U);
  }

  /// What changed where the pane does not show it: "   ~ 2 above, 3 below".
  static std::string out_of_view(const Pane& pane) {
    std::size_t above = 0, below = 0;
    for (std::size_t i = 0; i < pane.lines.size(); ++i) {
      if (pane.lines[i].look != kChanged) continue;
      const int at = static_cast<int>(i);
      if (at < pane.first) ++above;
      if (at >= pane.first + pane.height - 1) ++below;
    }
    std::string text;
    if (above != 0) text = fmt::format("   ~ {} above", above);
    if (below != 0) text += fmt::format("{}{} below", above != 0 ? ", " : "   ~ ", below);
    return text;
  }

  void draw_pane(const Pane& pane, bool focused) const {
    if (pane.height < 2 || pane.width < 4) return;
    ::attron(attribute(kTitle) | (focused ? A_REVERSE : A_NORMAL));
    put(pane.row, pane.column, pane.width - 1, pane.name + out_of_view(pane));
    ::attroff(attribute(kTitle) | (focused ? A_REVERSE : A_NORMAL));
    for (int i = 0; i + 1 < pane.height; ++i) {
      const auto index = static_cast<std::size_t>(pane.first + i);
      if (index >= pane.lines.size()) break;
      const Line& line = pane.lines[index];
      const attr_t how = line.next ? A_REVERSE : attribute(line.look);
      ::attron(how);
      put(pane.row + 1 + i, pane.column, pane.width - 1, line.text);
      ::attroff(how);
    }
  }

  void draw() {
    lay_out();
    fill();
    ::erase();
    for (std::size_t i = 0; i < kPanes; ++i) draw_pane(panes_[i], i == focus_);
    const std::string prompt = talk_.prompt();
    const std::string line = line_.text();
    put(LINES - 2, 0, COLS, prompt + line);
    ::attron(attribute(kFaint));
    put(LINES - 1, 0, COLS,
        "Tab: next pane   Page Up, Page Down: scroll it   Up, Down: earlier words   Enter: again   help: words   "
        "Ctrl-D: end");
    ::attroff(attribute(kFaint));
    const unsigned columns = report::columns_of(prompt + line.substr(0, line_.cursor()));
    ::move(LINES - 2, std::min(COLS - 1, static_cast<int>(columns)));
    ::refresh();
  }

  Talk& talk_;
  program::SourceText& sources_;
  report::Style style_;
  bool colours_ = false, scrolled_ = false, refresh_ = true;
  Pane panes_[kPanes];
  std::size_t focus_ = kTalk;
  std::vector<Line> said_;
  LineEditor line_;
  std::string motion_, source_;
  std::string memory_;  ///< what the pane asks for; empty: the stack
};

}  // namespace

int full_screen(Talk& talk, program::SourceText& sources) { return Screen(talk, sources).run(); }

}  // namespace deeptrace::cli
