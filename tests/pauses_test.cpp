// Rows are there while the program that they are of sleeps: in files, and what is kept back for its layout on
// terminals.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <pty.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>

#include "live_support.h"
#include "support.h"
#include "terminal.h"

namespace deeptrace::tests {
namespace {

/// Sleeps in `settle` after a few rows; nobody waits for its end.
constexpr const char* kSleeper = R"(#include <stdio.h>
#include <unistd.h>
__attribute__((noinline)) void settle(int seconds) { sleep(seconds); }
__attribute__((noinline)) int measure(int level) { return level + 1; }
int main(void) {
  int level = 17;
  write(2, "low\n", 4);
  level = measure(level);
  settle(600);
  return level;
}
)";

void end(pid_t user) {
  ::kill(user, SIGTERM);
  int status = 0;
  ::waitpid(user, &status, 0);
}

struct Case {
  std::string name;
  std::vector<std::string> words;
  std::string row;  ///< a part of what is written before the sleep
};

class Pauses : public testing::TestWithParam<Case> {};

TEST_P(Pauses, RowsAreInFilesWhileTheProgramSleeps) {
  const TempFolder folder;
  const std::string program = built(folder, "sleeper", kSleeper, {"gcc", "-g", "-O0", "-w"});
  std::vector<std::string> words = GetParam().words;
  write_file(folder / "plan", "at measure: keep level\n");
  std::ranges::replace(words, "PLAN", (folder / "plan").string());
  words.push_back(program);
  const pid_t user = start_deeptrace(words, folder.path());
  EXPECT_TRUE(wait_until([&] { return read_file(folder / "out").find(GetParam().row) != std::string::npos; }))
      << read_file(folder / "out") << read_file(folder / "err");
  end(user);
}

INSTANTIATE_TEST_SUITE_P(Forms, Pauses,
                         testing::Values(Case{"SyscallsText", {"syscalls"}, "sleeper.c:7"},
                                         Case{"SyscallsJson", {"syscalls", "--format", "json"}, "\"line\":7"},
                                         Case{"SyscallsCsv", {"syscalls", "--format", "csv"}, "sleeper.c,7"},
                                         Case{"CallsText", {"calls"}, "measure"},
                                         Case{"CallsCsv", {"calls", "--format", "csv"}, "measure"},
                                         Case{"HitsJson", {"hits", "--at", "measure", "--format", "json"}, "\"hit\":1"},
                                         Case{"HitsCsv", {"hits", "--at", "measure", "--format", "csv"}, "measure"},
                                         Case{"Plan", {"plan", "--format", "json", "PLAN"}, "\"17\""},
                                         Case{"StepsCsv", {"steps", "--count", "all", "--format", "csv"}, "measure"}),
                         [](const auto& one) { return one.param.name; });

/// Waits until the tool has written `text` on a terminal.
void expect_on_terminal(std::vector<std::string> words, const std::string& text) {
  int master = -1;
  const pid_t user = ::forkpty(&master, nullptr, nullptr, nullptr);
  if (user == 0) {
    words.insert(words.begin(), DEEPTRACE_PROGRAM);
    std::vector<char*> arguments;
    for (std::string& word : words) arguments.push_back(word.data());
    arguments.push_back(nullptr);
    ::setenv("LC_ALL", "C", 1);
    ::execv(arguments[0], arguments.data());
    ::_exit(126);
  }
  ::fcntl(master, F_SETFL, O_NONBLOCK);
  std::string seen;
  EXPECT_TRUE(wait_until([&] {
    char buffer[4096];
    for (ssize_t got = 0; (got = ::read(master, buffer, sizeof buffer)) > 0;)
      seen.append(buffer, static_cast<std::size_t>(got));
    return without_colours(seen).find(text) != std::string::npos;
  })) << seen;
  end(user);
  ::close(master);
}

TEST(Pauses, TerminalsShowWhatIsKeptBackForItsLayout) {
  const TempFolder folder;
  const std::string program = built(folder, "sleeper", kSleeper, {"gcc", "-g", "-O0", "-w"});
  expect_on_terminal({"hits", "--at", "settle", "--keep", "seconds", program}, "0x258 / 600");
  expect_on_terminal({"calls", program}, "settle");
}

}  // namespace
}  // namespace deeptrace::tests
