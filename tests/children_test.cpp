// Child processes that are traced too, against what the programs log themselves.
#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <map>
#include <set>
#include <sstream>

#include "live_support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

/// Every call of measure() is logged. Children come by fork, from a thread, by vfork and posix_spawn, with another
/// program and without, and have children themselves.
constexpr const char* kStation = R"(
#include <fcntl.h>
#include <pthread.h>
#include <spawn.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/wait.h>
#include <unistd.h>
extern char **environ;
static int log_file;
long wide[8];
static int level;
__attribute__((noinline)) int measure(int station, int n) {
  level = station * 100 + n;
  wide[n] = level;
  char text[40];
  write(log_file, text, sprintf(text, "%d %d %d\n", getpid(), station, n));
  return level;
}
static void sweep(int station) { for (int n = 0; n < 4; n++) measure(station, n); }
static void *from_thread(void *unused) {
  if (fork() == 0) { sweep(4); _exit(4); }
  sweep(5);
  return 0;
}
int main(int argc, char **argv) {
  log_file = open(argv[1], O_WRONLY | O_APPEND | O_CREAT, 0600);
  if (argc > 2) { sweep(atoi(argv[2])); return atoi(argv[2]); }
  for (int station = 1; station < 3; station++) {
    if (fork() != 0) continue;
    sweep(station);
    if (fork() == 0) { sweep(station + 10); _exit(1); }
    int status;
    wait(&status);
    _exit(station + WEXITSTATUS(status));
  }
  pthread_t thread;
  pthread_create(&thread, 0, from_thread, 0);
  pthread_join(thread, 0);
  pid_t pid;
  char *spawned[] = {argv[0], argv[1], "6", 0}, *executed[] = {argv[0], argv[1], "7", 0};
  posix_spawn(&pid, argv[0], 0, 0, spawned, environ);
  if (vfork() == 0) { measure(17, 0); measure(17, 1); execv(argv[0], executed); _exit(9); }
  if (fork() == 0) { measure(8, 0); executed[2] = "9"; execv(argv[0], executed); _exit(9); }
  int status, total = 0;
  while (wait(&status) > 0) total += WEXITSTATUS(status);
  measure(total, 0);
  printf("total %d\n", total);
  return 3;
})";

/// Station and n of each call, by process, however the processes are numbered.
using Calls = std::multiset<std::vector<std::string>>;

Calls logged(const std::filesystem::path& log) {
  std::map<std::string, std::vector<std::string>> by_process;
  std::istringstream lines(read_file(log));
  for (std::string pid, station, n; lines >> pid >> station >> n;) by_process[pid].push_back(station + " " + n);
  Calls result;
  for (const auto& [pid, calls] : by_process) result.insert(calls);
  return result;
}

Calls told_by(const json& told) {
  std::map<std::uint64_t, std::vector<std::string>> by_process;
  const json& rows = told["hits"];
  for (const json& row : rows) {
    const auto value = [&](const char* name) { return std::string(row["kept"][name]["signed"]); };
    by_process[row["process"]].push_back(value("station") + " " + value("n"));
  }
  Calls result;
  for (const auto& [process, calls] : by_process) result.insert(calls);
  return result;
}

TEST(Children, EveryCallInEveryProcessIsAHit) {
  const TempFolder folder;
  const std::string program = built(folder, "station", kStation);
  for (const std::vector<std::string>& stop : std::vector<std::vector<std::string>>{
           {"--at", "measure"},
           {"--at", "measure", "--stop-with", "hardware"},
           {"--on-write", "level"},
           {"--on-write", "wide"},  // more than debug registers hold: by stepping
       }) {
    SCOPED_TRACE(stop[1] + " " + stop.back());
    const std::string log = folder / ("log " + stop[1] + stop.back());
    std::vector<std::string> words = {"--children", "trace", "--keep", "station,n", "--program-output", folder / "out"};
    words.insert(words.begin(), stop.begin(), stop.end());
    words.insert(words.end(), {program, log});
    const json told = hits_of(words);
    // Data stops are on addresses, and do not go over into another program.
    Calls expected = logged(log);
    if (stop[0] == "--on-write") {
      std::erase_if(expected, [&](const auto& calls) { return calls[0] == "6 0"; });
      Calls cut;
      for (auto calls : expected) {
        if (calls[0] == "8 0") calls.resize(1);
        if (calls[0] == "17 0") calls.resize(2);
        cut.insert(calls);
      }
      expected = cut;
    }
    EXPECT_EQ(told_by(told), expected);
    EXPECT_EQ(told["counts"]["h1"], told["hits"].size());
    EXPECT_EQ(told["exit"]["status"], 3);
    EXPECT_EQ(read_file(folder / "out"), "total 31\n");
  }
}

/// The child of a vfork runs in the memory of its parent, stop bytes of both included, and comes first when all are let
/// go, as its parent waits for it.
TEST(Children, InTheirParentsMemoryAreLetGoFirst) {
  const TempFolder folder;
  const std::string text = R"(
#include <fcntl.h>
#include <stdlib.h>
#include <sys/wait.h>
#include <unistd.h>
int level;
__attribute__((noinline)) void rise(int by) { level += by; }
int main(int argc, char **argv) {
  for (int i = 0; i < 40; i++) {
    if (vfork() == 0) {
      for (int k = 0; k < 5; k++) { rise(1); usleep(500); }
      if (vfork() == 0) { rise(3); usleep(500); rise(2); _exit(0); }
      _exit(0);
    }
    int status;
    wait(&status);
    if (status != 0) return 9;
    rise(10);
  }
  return level == 40 * 20 ? 5 : 6;
})";
  for (const std::string bits : {"-m64", "-m32"}) {
    const std::string program = built(folder, "rising" + bits, text, {"gcc", bits, "-g", "-O0", "-w"});
    for (const char* count : {"2", "7", "9", "20"}) {
      SCOPED_TRACE(bits + " " + count);
      // Let go at a stop in some of the three, it behaves as alone.
      const json told = hits_of({"--at", "rise", "--children", "trace", "--count", count, "--let-finish", program});
      EXPECT_EQ(told["exit"]["status"], 5);
      const pid_t alone = ::fork();
      if (alone == 0) {
        ::execl(program.c_str(), program.c_str(), nullptr);
        ::_exit(127);
      }
      const json attached =
          hits_of({"--at", "rise", "--children", "trace", "--count", count, "--attach", std::to_string(alone)});
      EXPECT_EQ(attached["hits"].size(), std::stoul(count));
      int status = 0;
      ASSERT_EQ(::waitpid(alone, &status, 0), alone);
      EXPECT_TRUE(WIFEXITED(status) && WEXITSTATUS(status) == 5) << status;
    }
    const json told = hits_of({"--at", "rise", "--children", "trace", program});
    EXPECT_EQ(told["hits"].size(), 40U * 8);
    EXPECT_EQ(told["exit"]["status"], 5);
  }
}

TEST(Children, AreLetGoUnlessAskedFor) {
  const TempFolder folder;
  const std::string program = built(folder, "station", kStation);
  for (const std::string with : {"byte", "hardware"}) {
    const json told = hits_of({"--at", "measure", "--stop-with", with, "--keep", "station", "--program-output",
                               folder / "out", program, folder / "log"});
    EXPECT_EQ(told["hits"].size(), 5U);  // of the thread, and the last
    EXPECT_FALSE(told["hits"][0].contains("process"));
    EXPECT_EQ(read_file(folder / "out"), "total 31\n");
  }
}

/// The end of a process is a note while others are left; the program's status is that of the first.
TEST(Children, OutliveTheProgram) {
  const TempFolder folder;
  const std::string program = built(folder, "outlive", R"(
#include <unistd.h>
__attribute__((noinline)) void later(int n) {}
int main(void) {
  if (fork() == 0) { for (int n = 0; n < 3; n++) { usleep(20000); later(n); } return 7; }
  return 2;
})");
  const json told = hits_of({"--children", "trace", "--at", "later", "--keep", "n", program});
  EXPECT_EQ(told["hits"].size(), 3U);
  EXPECT_EQ(told["exit"]["status"], 2);
}

TEST(Children, OfAnAttachedProgramGoOnUnharmed) {
  const TempFolder folder;
  const std::string program = built(folder, "parent", R"(
#include <stdio.h>
#include <sys/wait.h>
#include <unistd.h>
volatile int stay = 1;
__attribute__((noinline)) int later(int n) { return n + 1; }
int main(int argc, char** argv) {
  while (access(argv[1], F_OK) != 0) usleep(1000);
  if (fork() == 0) { for (int n = 0; n < 3000; n = later(n)) usleep(1000); while (stay) usleep(1000); }
  for (int n = 0; stay; n = later(n)) usleep(1000);
})",
                                    {"gcc", "-g", "-O1", "-w", "-no-pie"});
  const std::string go = folder / "go";
  const pid_t parent = ::fork();
  if (parent == 0) {
    ::execl(program.c_str(), program.c_str(), go.c_str(), nullptr);
    ::_exit(126);
  }
  const pid_t user = start_deeptrace({"hits", "--format", "csv", "--children", "trace", "--at", "later", "--stop-with",
                                      "byte", "--attach", std::to_string(parent)},
                                     folder.path());
  EXPECT_TRUE(wait_until([&] { return status_field(parent, "TracerPid") != "0"; }));
  write_file(go, "");
  const auto child_of = [&] {
    std::istringstream list(
        read_file("/proc/" + std::to_string(parent) + "/task/" + std::to_string(parent) + "/children"));
    pid_t child = 0;
    list >> child;
    return child;
  };
  EXPECT_TRUE(wait_until([&] { return child_of() != 0; }));
  const pid_t child = child_of();
  EXPECT_TRUE(wait_until([&] { return status_field(child, "TracerPid") != "0"; }));
  ::usleep(50000);
  ::kill(user, SIGKILL);
  int status = 0;
  ::waitpid(user, &status, 0);
  for (const pid_t pid : {parent, child}) expect_untouched(pid, program);
  ::kill(child, SIGKILL);
  ::kill(parent, SIGKILL);
  ::waitpid(parent, &status, 0);
}

}  // namespace
}  // namespace deeptrace::tests
