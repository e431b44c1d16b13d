// The kernel's filter: without a tracer the calls that would stop a program fail with ENOSYS (seccomp(2)), so a child
// process tells which they are. And what a program itself sees of being followed by one.
#include "process/call_filter.h"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <nlohmann/json.hpp>

#include "live_support.h"

namespace deeptrace::tests {
namespace {

using Json = nlohmann::json;
using process::CallFilter;

long by_gate(long number) {
  long result = 0;
  asm volatile("int $0x80" : "=a"(result) : "a"(number) : "memory", "r8", "r9", "r10", "r11");
  return result;
}

enum Passes : int { kParent = 1, kUser = 2, kGateParent = 4, kGateUser = 8, kMemory = 16, kFile = 32 };

/// Which of some calls a process with the filter can make.
int passes(const CallFilter& filter) {
  const int file = ::open("/proc/self/exe", O_RDONLY);
  const pid_t child = ::fork();
  if (child == 0) {
    if (!process::install(filter)) ::_exit(255);
    int result = 0;
    if (::syscall(SYS_getppid) > 0) result |= kParent;
    if (::syscall(SYS_getuid) >= 0) result |= kUser;
    if (by_gate(64) > 0) result |= kGateParent;  // getppid of the 32-bit numbering
    if (by_gate(199) >= 0) result |= kGateUser;  // getuid32
    if (::mmap(nullptr, 4096, PROT_READ, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0) != MAP_FAILED) result |= kMemory;
    if (::mmap(nullptr, 4096, PROT_READ, MAP_PRIVATE, file, 0) != MAP_FAILED) result |= kFile;
    ::syscall(SYS_exit, result);
  }
  ::close(file);
  int status = 0;
  ::waitpid(child, &status, 0);
  return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}

TEST(CallFilter, ListedCallsStopByTheirNumbering) {
  CallFilter filter;
  EXPECT_EQ(passes(filter), kParent | kUser | kGateParent | kGateUser | kMemory | kFile);
  filter.x86_64.listed = {SYS_getppid, SYS_listen};
  EXPECT_EQ(passes(filter), kUser | kGateParent | kGateUser | kMemory | kFile);
  filter.i386.listed = {199};
  EXPECT_EQ(passes(filter), kUser | kGateParent | kMemory | kFile);
  filter.x86_64.with_file = {SYS_mmap};
  EXPECT_EQ(passes(filter), kUser | kGateParent | kMemory);
  filter.x86_64.listed.insert(SYS_mmap);
  EXPECT_EQ(passes(filter), kUser | kGateParent);
}

TEST(CallFilter, OrAllOthersDo) {
  CallFilter filter;
  filter.others = true;
  filter.x86_64.listed = {SYS_exit, SYS_getuid, SYS_mmap};
  filter.i386.listed = {64};
  EXPECT_EQ(passes(filter), kUser | kGateParent | kMemory | kFile);
  filter.x86_64.with_file = {SYS_mmap};
  EXPECT_EQ(passes(filter), kUser | kGateParent | kMemory);
}

/// Calls a thousand times for its parent's number, and prints how often it had to wait meanwhile and what a filter it
/// has.
constexpr const char* kLoop = R"(
#define _GNU_SOURCE
#include <stdio.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>
static int filters(void) {
  char line[256];
  int mode = -1;
  FILE *file = fopen("/proc/self/status", "r");
  while (fgets(line, sizeof line, file)) sscanf(line, "Seccomp: %d", &mode);
  fclose(file);
  return mode;
}
int main(void) {
  struct rusage before, after;
  getrusage(RUSAGE_SELF, &before);
  for (int i = 0; i < 1000; i++) syscall(SYS_getppid);
  getrusage(RUSAGE_SELF, &after);
  printf("%ld %d\n", after.ru_nvcsw - before.ru_nvcsw, filters());
  fflush(stdout);
  if (fork() == 0) {
    rmdir("/nowhere/child");
    _exit(3);
  }
  wait(0);
  return rmdir("/nowhere/parent") == -1 ? 0 : 1;
}
)";

struct Followed {
  Json said;
  long waits = -1, filter = -1;
};
Followed followed(const TempFolder& folder, const std::string& program, std::vector<std::string> options) {
  options.insert(options.begin(), {"syscalls", "--format", "json", "--program-output", folder / "out"});
  options.push_back(program);
  const Outcome outcome = deeptrace(options);
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  Followed result{Json::parse(outcome.out)};
  std::sscanf(read_file(folder / "out").c_str(), "%ld %ld", &result.waits, &result.filter);
  return result;
}

TEST(CallFilter, OtherCallsRunWithoutAStop) {
  const TempFolder folder;
  const std::string program = built(folder, "loop", kLoop);
  const Followed all = followed(folder, program, {"--only", "rmdir"});
  EXPECT_GE(all.waits, 2000);
  EXPECT_EQ(all.filter, 0);
  EXPECT_EQ(all.said["stops_at"], "every call");
  const Followed few = followed(folder, program, {"--only", "rmdir", "--children", "trace"});
  EXPECT_LT(few.waits, 100);
  EXPECT_EQ(few.filter, 2) << "SECCOMP_MODE_FILTER";
  EXPECT_EQ(few.said["stops_at"], "chosen calls");
  ASSERT_EQ(few.said["calls"].size(), 2);
  const Json &child = few.said["calls"][0], &parent = few.said["calls"][1];
  EXPECT_EQ(child["process"], 2);
  EXPECT_EQ(child["error"], "ENOENT");
  EXPECT_EQ(child["line"], 25);
  EXPECT_EQ(parent["process"], 1);
  EXPECT_EQ(parent["line"], 29);
  EXPECT_EQ(few.said["exit"]["status"], 0);
}

TEST(CallFilter, AllButSomeStop) {
  const TempFolder folder;
  const std::string program = built(folder, "loop", kLoop);
  const Followed few = followed(folder, program, {"--except", "getppid", "--children", "trace"});
  EXPECT_LT(few.waits, 100);
  const Followed all = followed(folder, program, {"--except", "getppid"});
  std::map<std::string, int> by_filter, by_stops;
  for (const Json& call : few.said["calls"]) {
    if (call["process"] == 1) ++by_filter[call["name"]];
  }
  for (const Json& call : all.said["calls"]) ++by_stops[call["name"]];
  EXPECT_EQ(by_filter, by_stops);
  EXPECT_GE(by_stops["rmdir"], 1);
}

TEST(CallFilter, TheCallThatExecutesTheProgramPasses) {
  const TempFolder folder;
  const std::string program = built(folder, "again", R"(
#include <unistd.h>
int main(int count, char **words) {
  if (count == 1) execl(words[0], words[0], "again", (char *)0);
  return 7;
}
)");
  const Followed few = followed(folder, program, {"--only", "execve,exit_group", "--all", "--children", "trace"});
  ASSERT_EQ(few.said["calls"].size(), 2);
  EXPECT_EQ(few.said["calls"][0]["name"], "execve");
  EXPECT_EQ(few.said["exit"]["status"], 7);
}

/// 32-bit glibc asks socketcall(2) for some calls of sockets.
TEST(CallFilter, SocketcallStopsForWhatItIsAsked) {
  const TempFolder folder;
  const std::string program = built(folder, "by_number", R"(
#include <sys/syscall.h>
#include <unistd.h>
int main(void) {
  long words[3] = {2, 1, 0};  // AF_INET, SOCK_STREAM
  int by_number = syscall(SYS_socketcall, 1, words);
  close(by_number);
  return 0;
}
)",
                                    {"gcc", "-g", "-m32"});
  const Followed few = followed(folder, program, {"--only", "socket", "--children", "trace"});
  ASSERT_EQ(few.said["calls"].size(), 1);
  EXPECT_EQ(few.said["calls"][0]["line"], 6);
}

}  // namespace
}  // namespace deeptrace::tests
