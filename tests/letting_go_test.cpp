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
void never_called(void) {}
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
  EXPECT_TRUE(wait_until([&] {
    std::error_code none;
    return std::filesystem::read_symlink("/proc/" + std::to_string(worker.pid) + "/exe", none) == program;
  }));
  return worker;
}

/// How many kills are to be tried; DEEPTRACE_KILLS=200 for many.
int kills_wanted(int usual) {
  const char* const wanted = std::getenv("DEEPTRACE_KILLS");
  return wanted != nullptr ? std::atoi(wanted) : usual;
}

const std::vector<std::vector<std::string>> kWays = {
    {"--at", "step+0", "--stop-with", "byte"},
    {"--halt", "at step when i == 1", "--stop-with", "byte"},
    {"--on-write", "steps[1]"},
    {"--on-write", "total", "--at", "step+4"},
    {"--halt", "on syscall any"},
    {"--on-return", "step"},
};

/// A program to attach to, how it is called, and what it prints then.
struct Subject {
  std::string program;
  std::vector<std::string> words;
  std::string right;
};

/// Nothing of us is left in the attached program, and it comes to its result.
void expect_left_alone(const Worker& worker, const Subject& subject) {
  expect_untouched(worker.pid, subject.program);
  EXPECT_TRUE(wait_until([&] { return read_file(worker.out) == subject.right; }))
      << read_file(worker.out) << " not " << subject.right;
  ::kill(worker.pid, SIGKILL);
  int status = 0;
  ::waitpid(worker.pid, &status, 0);
  EXPECT_TRUE(WIFSIGNALED(status));
}

std::vector<std::string> attaching(pid_t pid, const std::vector<std::string>& way) {
  std::vector<std::string> words = {"hits", "--format", "json", "--attach", std::to_string(pid)};
  words.insert(words.end(), way.begin(), way.end());
  return words;
}

void kill_while_attached(const Subject& subject, const TempFolder& folder, const std::vector<std::string>& way,
                         std::mt19937& random, const std::string& delay = "") {
  const Worker worker = start_worker(subject.program, folder, "result", subject.words);
  ::usleep(static_cast<useconds_t>(5000 + random() % 20000));
  const pid_t user = start_deeptrace(attaching(worker.pid, way), folder.path(), delay);
  ::usleep(static_cast<useconds_t>(10000 + random() % 120000));
  ::kill(user, SIGKILL);
  int status = 0;
  ::waitpid(user, &status, 0);
  expect_left_alone(worker, subject);
}

/// The process that does the work of a user's process; 0 when it has ended.
pid_t keeper_of(pid_t user) {
  const std::string path = "/proc/" + std::to_string(user) + "/task/" + std::to_string(user) + "/children";
  return std::atoi(read_file(path).c_str());
}

/// Until the program has its result, or the user's process has ended; then that is asked to let go.
void stop_and_continue_keeper(const Subject& subject, const TempFolder& folder, std::vector<std::string> way,
                              std::mt19937& random) {
  const Worker worker = start_worker(subject.program, folder, "result", subject.words);
  ::usleep(static_cast<useconds_t>(5000 + random() % 20000));
  way.insert(way.end(), {"--count", "3000"});  // of those that come often
  const pid_t user = start_deeptrace(attaching(worker.pid, way), folder.path());
  int status = 0;
  pid_t keeper = 0, ended = 0;
  while ((ended = ::waitpid(user, &status, WNOHANG)) == 0 && read_file(worker.out) != subject.right) {
    if (keeper == 0) keeper = keeper_of(user);
    if (keeper != 0) ::kill(keeper, SIGSTOP);
    ::usleep(static_cast<useconds_t>(random() % 6000));
    if (keeper != 0) ::kill(keeper, SIGCONT);
    ::usleep(static_cast<useconds_t>(random() % 3000));
  }
  if (ended == 0) {
    ::kill(user, SIGTERM);
    ::waitpid(user, &status, 0);
  }
  expect_left_alone(worker, subject);
}

TEST(LettingGo, AnAttachedProgramGoesOnUnharmedWhenTheUsersProcessIsKilled) {
  const TempFolder folder;
  const std::string program = built(folder, "worker", kWorker, {"gcc", "-g", "-O1", "-w", "-no-pie"});
  const std::string right = run({program}).out;
  std::mt19937 random(26);
  for (int i = 0; i < kills_wanted(10); ++i) {
    const auto& way = kWays[static_cast<std::size_t>(i) % kWays.size()];
    SCOPED_TRACE("kill " + std::to_string(i) + " " + way[0] + " " + way[1]);
    kill_while_attached({program, {"stay"}, right}, folder, way, random);
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
  const int kills = std::max(kills_wanted(5) / 5, 1);
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
      const pid_t user = start_deeptrace(attaching(worker.pid, state.stop), folder.path());
      EXPECT_TRUE(wait_until([&] { return status_field(worker.pid, "TracerPid") != "0"; }));
      ::usleep(static_cast<useconds_t>(150000 + random() % 100000));
      ::kill(user, SIGKILL);
      int status = 0;
      ::waitpid(user, &status, 0);
      expect_left_alone(worker, {program, {}, right[state.mode]});
    }
  }
}

/// The tracer is slow at one place after the other, so that all that may happen meanwhile does.
TEST(LettingGo, WhereverTheTracerIsSlow) {
  const TempFolder folder;
  const std::string worker = built(folder, "worker", kWorker, {"gcc", "-g", "-O1", "-w", "-no-pie"});
  const std::string states = built(folder, "states", kStates, {"gcc", "-g", "-O1", "-w", "-no-pie"});
  const Subject threads{worker, {"stay"}, run({worker}).out},
      vfork{states, {"vfork", "stay"}, run({states, "vfork"}).out};
  std::mt19937 random(9);
  for (const char* const delay :
       {"seize:20000", "interrupt:2000", "held:2000", "status:1000", "adopt:20000", "plant:3000", "uncover:3000",
        "cover:3000", "resume:1000", "step:3000", "detach:20000"}) {
    for (int i = 0; i < kills_wanted(2); ++i) {
      const auto& way = kWays[random() % kWays.size()];
      SCOPED_TRACE(std::string(delay) + " " + way[1]);
      kill_while_attached(threads, folder, way, random, delay);
    }
    SCOPED_TRACE(delay);
    kill_while_attached(vfork, folder, {"--halt", "on syscall any"}, random, delay);
  }
}

TEST(LettingGo, AKeeperThatIsStoppedAndContinuedLosesNothing) {
  const TempFolder folder;
  const std::string program = built(folder, "worker", kWorker, {"gcc", "-g", "-O1", "-w", "-no-pie"});
  const Subject subject{program, {"stay"}, run({program}).out};
  std::mt19937 random(11);
  for (int i = 0; i < kills_wanted(6); ++i) {
    const auto& way = kWays[static_cast<std::size_t>(i) % kWays.size()];
    SCOPED_TRACE(way[1]);
    stop_and_continue_keeper(subject, folder, way, random);
  }
}

TEST(LettingGo, ALaunchedProgramEndsWithTheUsersProcess) {
  const TempFolder folder;
  const std::string program = built(folder, "worker", kWorker, {"gcc", "-g", "-O1", "-w"});
  const std::string pid_file = folder / "pid";
  const pid_t user = start_deeptrace({"hits", "--at", "step", "--format", "csv", "/bin/sh", "-c",
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

/// Nobody reads the rows any more: the run ends there and then, though no row comes.
TEST(LettingGo, AnAttachedProgramIsLeftWhenNobodyReads) {
  const TempFolder folder;
  const std::string program = built(folder, "worker", kWorker, {"gcc", "-g", "-O1", "-w", "-no-pie"});
  const Subject subject{program, {"stay"}, run({program}).out};
  const Worker worker = start_worker(program, folder, "result");
  const Outcome outcome = run({"/bin/sh", "-c",
                               std::string(DEEPTRACE_PROGRAM) + " hits --at never_called --attach " +
                                   std::to_string(worker.pid) + " 2>&1 | sleep 0.5"});
  EXPECT_EQ(outcome.status, 0);
  expect_left_alone(worker, subject);
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
