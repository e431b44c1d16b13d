// Programs are left as if nobody had traced them: after detaching, when the user's process is killed, in every state;
// their children too.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <map>
#include <random>
#include <set>

#include "live_support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

constexpr const char* kWorker = R"(
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>
#include <unistd.h>
#include <sys/wait.h>
volatile unsigned long total;
volatile unsigned long steps[3];
__attribute__((noinline)) unsigned long step(unsigned long sum, unsigned long i) { return sum * 31 + (i ^ sum >> 7); }
static void *work(void *number) {
  unsigned long sum = 1, own = (unsigned long)number;
  for (unsigned long i = 0; i < 60000; i++) {
    sum = step(sum, i + own);
    steps[own] = i;
    if (i % 2000 == 0) { struct timespec wait = {0, 15000000}; nanosleep(&wait, 0); }
    if (i % 20000 == 0 && own == 1) { pid_t child = vfork(); if (child == 0) _exit(0); waitpid(child, 0, 0); }
  }
  return (void *)sum;
}
int main(int argc, char **argv) {
  pthread_t all[3];
  for (long i = 0; i < 3; i++) pthread_create(&all[i], 0, work, (void *)i);
  for (int i = 0; i < 3; i++) { void *sum; pthread_join(all[i], &sum); total = total * 7 + (unsigned long)sum; }
  printf("%lx\n", total);
  fflush(stdout);
  if (argc > 1) sleep(60);  // until it has been looked at
  return 0;
})";

struct Worker {
  pid_t pid = 0;
  std::filesystem::path out;
};

Worker start_worker(const std::string& program, const TempFolder& folder, const std::string& name,
                    std::vector<std::string> words = {"stay"}) {
  Worker worker;
  worker.out = folder / name;
  worker.pid = ::fork();
  if (worker.pid == 0) {
    const int out = ::open(worker.out.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
    ::dup2(out, 1);
    std::vector<char*> arguments = {const_cast<char*>(program.c_str())};
    for (std::string& word : words) arguments.push_back(word.data());
    arguments.push_back(nullptr);
    ::execv(program.c_str(), arguments.data());
    ::_exit(126);
  }
  return worker;
}

TEST(LettingGo, AnAttachedProgramGoesOnUnharmedWhenTheUsersProcessIsKilled) {
  const TempFolder folder;
  const std::string program = built(folder, "worker", kWorker, {"gcc", "-g", "-O1", "-w", "-no-pie"});
  const std::string right = run({program}).out;
  const char* wanted = std::getenv("DEEPTRACE_KILLS");
  const int kills = wanted != nullptr ? std::atoi(wanted) : 10;
  std::mt19937 random(42);
  const std::vector<std::vector<std::string>> ways = {
      {"--at", "step+0", "--stop-with", "byte"},
      {"--halt", "at step when i == 1", "--stop-with", "byte"},
      {"--on-write", "steps[1]"},
      {"--on-write", "total", "--at", "step+4"},
      {"--halt", "on syscall any"},
      {"--on-return", "step"},
  };
  for (int i = 0; i < kills; ++i) {
    const auto& way = ways[static_cast<std::size_t>(i) % ways.size()];
    SCOPED_TRACE("kill " + std::to_string(i) + " " + way[0] + " " + way[1]);
    const Worker worker = start_worker(program, folder, "out" + std::to_string(i));
    ::usleep(static_cast<useconds_t>(5000 + random() % 20000));
    std::vector<std::string> words = {"hits", "--form", "json", "--attach", std::to_string(worker.pid)};
    words.insert(words.end(), way.begin(), way.end());
    const pid_t user = start_deeptrace(words, folder.path());
    ::usleep(static_cast<useconds_t>(10000 + random() % 120000));
    ::kill(user, SIGKILL);
    int status = 0;
    ::waitpid(user, &status, 0);
    expect_untouched(worker.pid, program);
    EXPECT_TRUE(wait_until([&] { return read_file(worker.out) == right; }))
        << read_file(worker.out) << " not " << right;
    ::kill(worker.pid, SIGKILL);
    ::waitpid(worker.pid, &status, 0);
    EXPECT_TRUE(WIFSIGNALED(status));
  }
}

/// A program that is nearly always in the state its first word names.
constexpr const char* kStates = R"(
#include <pthread.h>
#include <stdio.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>
volatile long rows[8];
volatile double level = 2;
volatile int left = 400;
__attribute__((noinline)) void spread(void) { double x = level; __asm__ volatile("settle: sqrtsd %0, %0" : "+x"(x)); level = x + 1; }
__attribute__((noinline)) void after(int status) { rows[0] += status; }
static void *work(void *own) {
  for (int i = 0; i < 20000; i++) { rows[(long)own] += i; if (i % 200 == 0) usleep(5000); spread(); }
  return 0;
}
int main(int argc, char **argv) {
  if (!strcmp(argv[1], "vfork")) {
    for (int i = 0; i < 30; i++) {
      if (vfork() == 0) { usleep(30000); _exit(3); }
      int status;
      wait(&status);
      after(WEXITSTATUS(status));
    }
  } else if (!strcmp(argv[1], "call")) {
    int ends[2];
    pipe(ends);
    if (fork() == 0) { for (int i = 0; i < 30; i++) { usleep(30000); write(ends[1], "x", 1); } _exit(0); }
    char byte;
    for (int i = 0; i < 30; i++) after(read(ends[0], &byte, 1));
    wait(0);
  } else {
    pthread_t all[8];
    const long threads = !strcmp(argv[1], "threads") ? 8 : 1;
    for (long i = 0; i < threads; i++) pthread_create(&all[i], 0, work, (void *)i);
    for (long i = 0; i < threads; i++) pthread_join(all[i], 0);
  }
  printf("%ld %ld %d\n", rows[0], rows[7], level > 1);
  fflush(stdout);
  while (argc > 2) sleep(60);  // until it has been looked at
  return 0;
})";

/// Each state that a kill could find half done.
TEST(LettingGo, InEveryStateByName) {
  const TempFolder folder;
  const std::string program = built(folder, "states", kStates, {"gcc", "-g", "-O1", "-w", "-no-pie"});
  const char* wanted = std::getenv("DEEPTRACE_KILLS");
  const int kills = wanted != nullptr ? std::atoi(wanted) / 5 : 1;
  std::mt19937 random(7);
  struct State {
    std::string name;
    std::vector<std::string> stop;
    std::string mode;
  };
  const std::vector<State> states = {
      {"in the middle of a step", {"--on-write", "rows"}, "alone"},
      {"with a data stop armed", {"--on-write", "rows[1]"}, "threads"},
      {"while a stop byte is put back", {"--halt", "at settle when left == 0", "--stop-with", "byte"}, "alone"},
      {"the same with eight threads", {"--halt", "at settle when left == 0", "--stop-with", "byte"}, "threads"},
      {"with eight threads that are stepped", {"--on-write", "rows"}, "threads"},
      {"in vfork", {"--at", "after", "--stop-with", "byte"}, "vfork"},
      {"in vfork, all calls told", {"--halt", "on syscall any"}, "vfork"},
      {"in a system call", {"--at", "after", "--stop-with", "byte"}, "call"},
      {"in a system call, data watched", {"--on-write", "rows[0]"}, "call"},
  };
  std::map<std::string, std::string> right;
  for (const State& state : states) {
    if (!right.contains(state.mode)) right[state.mode] = run({program, state.mode}).out;
    for (int i = 0; i < kills; ++i) {
      SCOPED_TRACE(state.name);
      const Worker worker = start_worker(program, folder, "result", {state.mode, "stay"});
      ::usleep(static_cast<useconds_t>(8000 + random() % 10000));
      std::vector<std::string> words = {"hits", "--form", "json", "--attach", std::to_string(worker.pid)};
      words.insert(words.end(), state.stop.begin(), state.stop.end());
      const pid_t user = start_deeptrace(words, folder.path());
      EXPECT_TRUE(wait_until([&] { return status_field(worker.pid, "TracerPid") != "0"; }));
      ::usleep(static_cast<useconds_t>(150000 + random() % 100000));
      ::kill(user, SIGKILL);
      int status = 0;
      ::waitpid(user, &status, 0);
      expect_untouched(worker.pid, program);
      EXPECT_TRUE(wait_until([&] { return read_file(worker.out) == right[state.mode]; }))
          << read_file(worker.out) << " not " << right[state.mode];
      ::kill(worker.pid, SIGKILL);
      ::waitpid(worker.pid, &status, 0);
      EXPECT_TRUE(WIFSIGNALED(status));
    }
  }
}

TEST(LettingGo, ALaunchedProgramEndsWithTheUsersProcess) {
  const TempFolder folder;
  const std::string program = built(folder, "worker", kWorker, {"gcc", "-g", "-O1", "-w"});
  const std::string pid_file = folder / "pid";
  const pid_t user = start_deeptrace({"hits", "--at", "step", "--form", "csv", "/bin/sh", "-c",
                                      "echo $$ > " + pid_file + "; exec " + program + " stay"},
                                     folder.path());
  ASSERT_TRUE(wait_until([&] { return !read_file(pid_file).empty(); }));
  const pid_t traced = std::stoi(read_file(pid_file));
  ::usleep(50000);
  ::kill(user, SIGKILL);
  int status = 0;
  ::waitpid(user, &status, 0);
  EXPECT_TRUE(wait_until([&] { return ::kill(traced, 0) != 0; }));
}

TEST(LettingGo, AfterItsRowsAnAttachedProgramIsLeft) {
  const TempFolder folder;
  const std::string program = built(folder, "worker", kWorker, {"gcc", "-g", "-O1", "-w", "-no-pie"});
  const std::string right = run({program}).out;
  const Worker worker = start_worker(program, folder, "out");
  ::usleep(20000);
  const json told = hits_of({"--attach", std::to_string(worker.pid), "--at", "step", "--keep", "i", "--count", "50"});
  EXPECT_EQ(told["hits"].size(), 50U);
  EXPECT_EQ(told["exit"]["stopped"], "detached");
  expect_untouched(worker.pid, program);
  EXPECT_TRUE(wait_until([&] { return read_file(worker.out) == right; }));
  ::kill(worker.pid, SIGKILL);
  int status = 0;
  ::waitpid(worker.pid, &status, 0);
}

}  // namespace
}  // namespace deeptrace::tests
