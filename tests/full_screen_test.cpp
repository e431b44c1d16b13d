// The console on a whole screen, through a pseudo-terminal: what stands where after each word and key.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <pty.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <functional>

#include "live_support.h"
#include "report/output.h"
#include "screen.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

class FullScreen {
 public:
  FullScreen(unsigned short rows, unsigned short columns, std::vector<std::string> words)
      : screen_(rows, columns), columns_(columns) {
    winsize size{rows, columns, 0, 0};
    pid_ = ::forkpty(&master_, nullptr, nullptr, &size);
    if (pid_ == 0) {
      for (const auto& [name, value] : {std::pair{"TERM", "xterm"}, {"LC_ALL", "C.UTF-8"}, {"HOME", "/nonexistent"}})
        ::setenv(name, value, 1);
      words.insert(words.begin(), {DEEPTRACE_PROGRAM, "console", "--full-screen"});
      std::vector<char*> arguments;
      for (std::string& word : words) arguments.push_back(word.data());
      arguments.push_back(nullptr);
      ::execv(arguments[0], arguments.data());
      ::_exit(126);
    }
    ::fcntl(master_, F_SETFL, O_NONBLOCK);
  }
  ~FullScreen() {
    ::kill(pid_, SIGKILL);
    int status = 0;
    ::waitpid(pid_, &status, 0);
    ::close(master_);
  }
  FullScreen(const FullScreen&) = delete;
  FullScreen& operator=(const FullScreen&) = delete;

  void type(const std::string& text) { (void)!::write(master_, text.data(), text.size()); }
  void resize(unsigned short rows, unsigned short columns) {
    winsize size{rows, columns, 0, 0};
    look();
    screen_.resize(rows, columns);
    columns_ = columns;
    ::ioctl(master_, TIOCSWINSZ, &size);
  }
  bool until(const std::function<bool()>& holds) {
    return wait_until(
        [&] {
          look();
          return holds();
        },
        8000);
  }
  bool shows(const std::string& text) {
    return until([&] { return screen_.text().find(text) != std::string::npos; });
  }
  bool shows_no(const std::string& text) {
    return until([&] { return screen_.text().find(text) == std::string::npos; });
  }
  /// The exit status, once it has ended.
  int end() {
    int status = -1;
    EXPECT_TRUE(wait_until([&] {
      look();
      return ::waitpid(pid_, &status, WNOHANG) == pid_;
    }));
    return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
  }
  [[nodiscard]] const Screen& screen() const { return screen_; }
  [[nodiscard]] unsigned columns() const { return columns_; }

 private:
  void look() {
    char buffer[65536];
    for (ssize_t size = 0; (size = ::read(master_, buffer, sizeof buffer)) > 0;)
      screen_.feed(std::string(buffer, static_cast<std::size_t>(size)));
  }

  Screen screen_;
  unsigned columns_;
  int master_ = -1;
  pid_t pid_ = 0;
};

std::vector<std::string> tidelog() { return {demo("tidelog"), demo("readings.txt")}; }

/// Which row has a text; none: one past the last.
std::size_t row_of(const FullScreen& full, std::size_t rows, const std::string& text) {
  for (std::size_t i = 0; i < rows; ++i) {
    if (full.screen().row(i).find(text) != std::string::npos) return i;
  }
  return rows;
}

TEST(FullScreens, HavePanesAndKeysAtAnySize) {
  FullScreen full(30, 100, tidelog());
  for (const std::pair<unsigned short, unsigned short> size : {std::pair(30, 100), {50, 200}, {24, 80}}) {
    const unsigned short rows = size.first, columns = size.second;
    SCOPED_TRACE(columns);
    if (columns != 100) full.resize(rows, columns);
    for (const char* pane : {"source tidelog.c", "instructions main+", "registers", "flags", "stack",
                             "memory rsp as u64", "values", "program", "conversation"})
      EXPECT_TRUE(full.shows(pane)) << pane << "\n" << full.screen().text();
    ASSERT_TRUE(full.until([&] { return full.screen().row(rows - 1U).find("Tab") != std::string::npos; }))
        << full.screen().text();
    EXPECT_NE(full.screen().row(rows - 2U).find("tidelog main+0xf:"), std::string::npos) << full.screen().text();
    EXPECT_LT(row_of(full, rows, "source tidelog.c"), row_of(full, rows, "conversation"));
    // Three panes side by side where there is room, two where there is not.
    const std::string top = full.screen().row(0);
    EXPECT_EQ(top.find("registers") != std::string::npos && top.find("instructions") != std::string::npos,
              columns >= 150)
        << top;
  }
  full.type("quit\r");
  EXPECT_EQ(full.end(), 0);
}

TEST(FullScreens, MarkWhereTheProgramIsAndWhatChanged) {
  FullScreen full(40, 160, tidelog());
  ASSERT_TRUE(full.shows("instructions main+0xf"));
  const auto is_next = [&](const std::string& text) {
    return full.until([&] {
      return std::ranges::any_of(full.screen().reversed(), [&](const std::string& row) {
        return row.find("next") != std::string::npos && row.find(text) != std::string::npos;
      });
    });
  };
  EXPECT_TRUE(is_next("cmp dword ptr [rbp-0x14], 1")) << full.screen().text();
  full.type("to level_sum\r");
  EXPECT_TRUE(is_next("long sum = 0;")) << full.screen().text();
  EXPECT_TRUE(is_next("mov qword ptr [rbp-8], 0")) << full.screen().text();
  full.type("over\r");
  EXPECT_TRUE(is_next("mov dword ptr [rbp-0xc], 0")) << full.screen().text();
  EXPECT_TRUE(full.shows_no("~ rax")) << "nothing but rip and memory changed:\n" << full.screen().text();
  EXPECT_TRUE(full.shows("registers   ~ 1 below")) << "rip:\n" << full.screen().text();
  full.type("halt at levels.c:34\r");
  ASSERT_TRUE(full.shows("h1 at levels.c:34"));
  full.type("follow sum, i\rresume\rresume\r");
  ASSERT_TRUE(full.shows("h1 at levels.c:34, hit 2")) << full.screen().text();
  EXPECT_TRUE(full.shows("~ i 0x1 \xc2\xb7 1")) << full.screen().text();
  EXPECT_TRUE(full.shows("~ sum 0x4d8 \xc2\xb7 1240")) << full.screen().text();
  full.type("remove h1\rresume\r");
  EXPECT_TRUE(full.shows("the program has ended")) << full.screen().text();
  EXPECT_TRUE(full.shows("station 17, Grayling Sound: 12 readings")) << full.screen().text();
}

/// At a system call the processor has overwritten two registers: no value is shown for them.
TEST(FullScreens, ShowNoValueThatIsNotKnown) {
  FullScreen full(50, 200, {demo("beacon")});
  ASSERT_TRUE(full.shows("registers"));
  EXPECT_TRUE(full.shows_no("unknown")) << full.screen().text();
  full.type("halt on syscall write\rresume\r");
  EXPECT_TRUE(full.shows("rcx unknown")) << full.screen().text();
  EXPECT_TRUE(full.shows("r11 unknown")) << full.screen().text();
}

/// What changed where a pane does not show it is said at its head.
TEST(FullScreens, SayWhatChangedOutOfView) {
  FullScreen full(24, 80, tidelog());
  ASSERT_TRUE(full.shows("registers")) << full.screen().text();
  full.type("to level_sum\r");
  EXPECT_TRUE(full.until([&] {
    const std::string text = full.screen().text();
    const std::size_t at = text.find("registers");
    return at != std::string::npos && text.substr(at, 40).find("below") != std::string::npos;
  })) << full.screen().text();
}

TEST(FullScreens, ScrollTheConversationAndTheOtherPanes) {
  FullScreen full(30, 100, tidelog());
  ASSERT_TRUE(full.shows("conversation"));
  full.type("help\r");
  ASSERT_TRUE(full.shows("quit")) << full.screen().text();
  const std::string end = full.screen().text();
  EXPECT_EQ(end.find("  into "), std::string::npos) << "the beginning of the help is out of view:\n" << end;
  for (int i = 0; i < 20 && full.screen().text().find("into [N]") == std::string::npos; ++i) {
    full.type("\x1b[5~");  // page up
    (void)full.until([&] { return full.screen().text() != end; });
  }
  EXPECT_TRUE(full.shows("into [N]")) << full.screen().text();
  for (int i = 0; i < 20; ++i) full.type("\x1b[6~");
  EXPECT_TRUE(full.until([&] { return full.screen().text().find("quit") != std::string::npos; }))
      << full.screen().text();
  // The next word leads back to the end; Tab goes round the panes.
  full.type("\x1b[5~\x1b[5~show 6 * 7\r");
  EXPECT_TRUE(full.shows("0x2a")) << full.screen().text();
  full.type("\t\x1b[6~");
  EXPECT_TRUE(full.shows_no("    1 ")) << "the source has moved on:\n" << full.screen().text();
  full.type("over\r");
  EXPECT_TRUE(full.until([&] { return !full.screen().reversed().empty(); })) << full.screen().text();
}

TEST(FullScreens, TakeCharactersOfAllWidthsAndSmallWindows) {
  FullScreen full(30, 100, tidelog());
  ASSERT_TRUE(full.shows("conversation"));
  full.type("show \"gr\xc3\xbc\xc3\x9f\xc3\xa9\"");
  EXPECT_TRUE(full.shows("show \"gr\xc3\xbc\xc3\x9f\xc3\xa9\"")) << full.screen().text();
  full.type("\x7f\x7f\x7f\x7f");
  EXPECT_TRUE(full.shows_no("\xc3\xbc")) << full.screen().text();
  full.type("\x15show 0x10\r");
  EXPECT_TRUE(full.shows("16")) << full.screen().text();
  for (const auto& [rows, columns] : {std::pair<unsigned short, unsigned short>{6, 20}, {3, 10}, {40, 120}}) {
    full.resize(rows, columns);
    full.type("flags\r");
  }
  EXPECT_TRUE(full.shows("registers")) << full.screen().text();
  full.type("\x04");
  EXPECT_EQ(full.end(), 0);
}

}  // namespace
}  // namespace deeptrace::tests
