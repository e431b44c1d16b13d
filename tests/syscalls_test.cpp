// System calls: the tables against the headers, a run against what the program logged of its own calls.
#include "report/syscalls.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <poll.h>
#include <signal.h>
#include <sys/epoll.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/sysinfo.h>
#include <sys/time.h>
#include <sys/uio.h>
#include <sys/utsname.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>
#include <random>
#include <set>
#include <span>
#include <sstream>
#include <tuple>
#include <utility>

#include "abi/call_shapes.h"
#include "abi/constants.h"
#include "abi/kernel_types.h"
#include "arch/machine.h"
#include "fake_state.h"
#include "live_support.h"
#include "look/call_decoder.h"
#include "report/syscall_words.h"
#include "session/kept_reads.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using abi::ArgumentShape;
using abi::CallTable;
using nlohmann::json;

TEST(CallShapes, AreThereForEveryCallAndNameWhatThereIs) {
  std::map<CallTable, std::unique_ptr<abi::KernelTypes>> types;
  for (const CallTable table : {CallTable::x86_64, CallTable::i386}) {
    types[table] = std::make_unique<abi::KernelTypes>(table);
    for (const abi::SystemCall& call : abi::system_calls(table)) {
      const abi::CallShape* shape = abi::call_shape(call.name, table);
      ASSERT_NE(shape, nullptr) << call.name;
      EXPECT_LE(shape->arguments.size(), abi::kMostArguments) << call.name;
      std::set<std::string_view> names;
      for (const ArgumentShape& one : shape->arguments) {
        EXPECT_TRUE(names.insert(one.name).second) << call.name << " has " << one.name << " twice";
        if (one.kind == ArgumentShape::Kind::flags || one.kind == ArgumentShape::Kind::one)
          EXPECT_NE(abi::constant_group(one.of), nullptr) << call.name << " " << one.of;
        if (one.kind == ArgumentShape::Kind::structure)
          EXPECT_TRUE(types[table]->named(one.of)) << call.name << " " << one.of;
      }
    }
  }
}

TEST(CallShapes, DifferWhere32BitProgramsHaveOthers) {
  EXPECT_EQ(abi::call_shape("pread64", CallTable::x86_64)->arguments.size(), 4U);
  EXPECT_EQ(abi::call_shape("pread64", CallTable::i386)->arguments.size(), 5U);
  EXPECT_EQ(abi::call_shape("clone", CallTable::x86_64)->arguments[4].name, "tls");
  EXPECT_EQ(abi::call_shape("clone", CallTable::i386)->arguments[3].name, "tls");
  EXPECT_EQ(abi::call_shape("no_such_call", CallTable::x86_64), nullptr);
}

TEST(KernelTypes, HaveTheSizesOfTheCompiler) {
  const abi::KernelTypes wide(CallTable::x86_64), narrow(CallTable::i386);
  const auto size = [](const abi::KernelTypes& types, std::string_view name) {
    const auto type = types.named(name);
    return type ? types.types().size(*type) : 0;
  };
  EXPECT_EQ(size(wide, "stat"), sizeof(struct stat));
  EXPECT_EQ(size(wide, "statx"), sizeof(struct statx));
  EXPECT_EQ(size(wide, "timespec"), sizeof(timespec));
  EXPECT_EQ(size(wide, "timeval"), sizeof(timeval));
  EXPECT_EQ(size(wide, "pollfd"), sizeof(pollfd));
  EXPECT_EQ(size(wide, "epoll_event"), sizeof(epoll_event));
  EXPECT_EQ(size(wide, "iovec"), sizeof(iovec));
  EXPECT_EQ(size(wide, "msghdr"), sizeof(msghdr));
  EXPECT_EQ(size(wide, "rlimit"), sizeof(rlimit));
  EXPECT_EQ(size(wide, "rusage"), sizeof(rusage));
  EXPECT_EQ(size(wide, "new_utsname"), sizeof(utsname));
  EXPECT_EQ(size(wide, "sysinfo"), sizeof(struct sysinfo));
  EXPECT_EQ(size(wide, "siginfo"), sizeof(siginfo_t));
  EXPECT_EQ(size(wide, "sigaction"), 32U);
  EXPECT_EQ(size(wide, "linger"), sizeof(struct linger));
  EXPECT_EQ(size(wide, "ucred"), 12U);
  EXPECT_EQ(size(narrow, "timespec"), 8U);
  EXPECT_EQ(size(narrow, "timespec64"), 16U);
  EXPECT_EQ(size(narrow, "stat64"), 96U);
  EXPECT_EQ(size(narrow, "iovec"), 8U);
  EXPECT_EQ(size(narrow, "epoll_event"), 12U);
  EXPECT_FALSE(wide.named("stat64"));
}

TEST(Constants, AreSpelledAsPeopleWriteThem) {
  const auto flags = [](std::string_view group, std::uint64_t value) {
    return abi::spell_flags(*abi::constant_group(group), value).words();
  };
  const auto one = [](std::string_view group, std::uint64_t value) {
    return abi::spell_one(*abi::constant_group(group), value).words();
  };
  EXPECT_EQ(flags("open", O_RDONLY), "O_RDONLY");
  EXPECT_EQ(flags("open", O_RDWR | O_CREAT | O_EXCL), "O_RDWR | O_CREAT | O_EXCL");
  EXPECT_EQ(flags("open", O_WRONLY | O_SYNC), "O_WRONLY | O_SYNC") << "one constant of two bits";
  EXPECT_EQ(flags("open", O_WRONLY | O_TMPFILE), "O_WRONLY | O_TMPFILE");
  EXPECT_EQ(flags("open", O_RDWR | 0x40000000), "O_RDWR | 0x40000000");
  EXPECT_EQ(flags("prot", 3), "PROT_READ | PROT_WRITE");
  EXPECT_EQ(one("socktype", SOCK_STREAM | SOCK_CLOEXEC), "SOCK_STREAM | SOCK_CLOEXEC");
  EXPECT_EQ(one("family", AF_INET6), "AF_INET6");
  EXPECT_EQ(one("family", 4711), "0x1267");
  ASSERT_NE(abi::constant("EPOLL_CTL_MOD"), nullptr);
  EXPECT_EQ(abi::constant("EPOLL_CTL_MOD")->value, EPOLL_CTL_MOD);
  EXPECT_EQ(abi::constant("NO_SUCH_CONSTANT"), nullptr);
  for (const abi::ConstantGroup& group : abi::constant_groups()) EXPECT_FALSE(group.members.empty()) << group.name;
}

/// Each call is logged with its line, name, and result or errno, and what its arguments have to be said to be.
constexpr const char* kLogs = R"(#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <sys/wait.h>
#include <unistd.h>
static char log_text[65536];
static int used;
static void note(int line, long result, const char *name, const char *wanted) {
  used += sprintf(log_text + used, "%d|%ld|%d|%s|%s\n", line, result, result < 0 ? errno : 0, name, wanted);
}
#define CALL(name, wanted, call) do { errno = 0; long r_ = (long)(call); note(__LINE__, r_, name, wanted); last = r_; } while (0)
int main(int argc, char **argv) {
  long last;
  char room[64], text[128];
  CALL("getpid", "", syscall(SYS_getpid));
  CALL("write", "77|\"x\"|1", syscall(SYS_write, 77, "x", 1));
  CALL("write", "it cannot be read", syscall(SYS_write, 1, 5, 4));
  CALL("openat", "AT_FDCWD|\"/no/such/tide\"|O_RDWR . O_CREAT . O_EXCL|0640", syscall(SYS_openat, AT_FDCWD, "/no/such/tide", O_RDWR | O_CREAT | O_EXCL, 0640));
  CALL("openat", "\"/proc/self/exe\"|O_RDONLY . O_CLOEXEC", syscall(SYS_openat, AT_FDCWD, "/proc/self/exe", O_RDONLY | O_CLOEXEC, 0));
  int file = last;
  CALL("read", "buf 7f 45 4c 46|4", syscall(SYS_read, file, room, 4));
  CALL("lseek", "SEEK_SET", syscall(SYS_lseek, file, 0, SEEK_SET));
  CALL("close", "/exe_name", syscall(SYS_close, file));
  CALL("rt_sigprocmask", "SIG_BLOCK|SIGINT SIGUSR1|null|8", ({ unsigned long set[2] = {1 << 1 | 1 << 9}; syscall(SYS_rt_sigprocmask, SIG_BLOCK, set, 0, 8); }));
  CALL("kill", "SIGUSR1", syscall(SYS_kill, getpid(), SIGUSR1));
  CALL("pipe2", "[|O_CLOEXEC", syscall(SYS_pipe2, room, O_CLOEXEC));
  CALL("writev", "iov_len 5|2", ({ struct iovec parts[2] = {{"high ", 5}, {"water", 5}}; syscall(SYS_writev, ((int *)room)[1], parts, 2); }));
  CALL("poll", "events POLLIN, revents POLLIN|1|10", ({ struct pollfd one = {((int *)room)[0], POLLIN, 0}; syscall(SYS_poll, &one, 1, 10); }));
  CALL("epoll_create1", "EPOLL_CLOEXEC", syscall(SYS_epoll_create1, EPOLL_CLOEXEC));
  CALL("epoll_ctl", "EPOLL_CTL_ADD|EPOLLIN . EPOLLET", ({ struct epoll_event one = {EPOLLIN | EPOLLET, {.fd = 1}}; syscall(SYS_epoll_ctl, (int)last, EPOLL_CTL_ADD, ((int *)room)[0], &one); }));
#ifndef __i386__
  CALL("socket", "AF_INET|SOCK_STREAM . SOCK_CLOEXEC|IPPROTO_TCP", syscall(SYS_socket, AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 6));
  int server = last;
  struct sockaddr_in address = {.sin_family = AF_INET, .sin_port = htons(0), .sin_addr = {htonl(INADDR_LOOPBACK)}};
  CALL("bind", "127.0.0.1 port 0|16", syscall(SYS_bind, server, &address, sizeof address));
  socklen_t size = sizeof address;
  getsockname(server, (struct sockaddr *)&address, &size);
  sprintf(text, "127.0.0.1 port %d", ntohs(address.sin_port));
  CALL("getsockname", text, syscall(SYS_getsockname, server, &address, &size));
#endif
  CALL("fcntl", "F_SETFL|O_RDONLY . O_APPEND . O_NONBLOCK", syscall(SYS_fcntl, 0, F_SETFL, O_APPEND | O_NONBLOCK));
  CALL("nanosleep", "tv_sec 0, tv_nsec 1000|null", ({ long wait[2] = {0, 1000}; syscall(SYS_nanosleep, wait, 0); }));
  long child = syscall(SYS_fork);
  if (child == 0) syscall(SYS_exit, 7);
  CALL("wait4", "exited with status 7", syscall(SYS_wait4, child, room, 0, 0));
  write(1, log_text, used);
  return 0;
}
)";

struct Row {
  std::string line, name, result, error, wanted;
};

std::vector<Row> logged(const std::string& text) {
  std::vector<Row> rows;
  std::istringstream lines(text);
  for (std::string one; std::getline(lines, one);) {
    std::istringstream parts(one);
    Row row;
    std::getline(parts, row.line, '|');
    std::getline(parts, row.result, '|');
    std::getline(parts, row.error, '|');
    std::getline(parts, row.name, '|');
    std::getline(parts, row.wanted);
    rows.push_back(row);
  }
  return rows;
}

TEST(Syscalls, AreThoseThatTheProgramLogged) {
  const TempFolder folder;
  for (const std::vector<std::string>& compiler :
       {std::vector<std::string>{"gcc"}, {"gcc", "-m32"}, {"clang", "-O1"}}) {
    SCOPED_TRACE(compiler.back());
    std::vector<std::string> options = compiler;
    options.insert(options.end(), {"-g", "-w"});
    const std::string program = built(folder, "logs", kLogs, options);
    const Outcome outcome = deeptrace({"syscalls", "--format", "csv", "--program-output", folder / "log", program});
    EXPECT_EQ(outcome.status, 0) << outcome.err;
    const Outcome kept = deeptrace({"syscalls", "--format", "json", "--program-output", folder / "log", program});
    const json said = json::parse(kept.out, nullptr, false);
    ASSERT_FALSE(said.is_discarded()) << kept.out.substr(0, 300);
    const std::vector<Row> rows = logged(read_file(folder / "log"));
    EXPECT_GE(rows.size(), 18U);
    std::istringstream csv(outcome.out);
    std::vector<std::string> lines;
    for (std::string line; std::getline(csv, line);) lines.push_back(line);
    std::size_t at = 0;
    for (const Row& row : rows) {
      const auto& calls = said["calls"];
      const auto is_it = [&](const json& one) {
        return one["line"].is_number() && std::to_string(one["line"].get<int>()) == row.line && one["name"] == row.name;
      };
      while (at < calls.size() && !is_it(calls[at])) ++at;
      ASSERT_LT(at, calls.size()) << row.name << " of line " << row.line;
      const json& call = calls[at];
      EXPECT_EQ(call["file"].get<std::string>().substr(call["file"].get<std::string>().size() - 6), "logs.c");
      const bool failed = row.error != "0";
      EXPECT_EQ(call["error"].is_null(), !failed) << row.name << " " << call.dump();
      if (failed) {
        EXPECT_EQ(call["error"], std::string(::strerrorname_np(std::stoi(row.error))));
      }
      if (!failed && call["result"].is_object() && call["result"].contains("signed") && row.name != "getpid" &&
          row.name != "wait4")
        EXPECT_EQ(call["result"]["signed"], row.result) << row.name;
      // What its arguments are, in the form for people: the rows of both runs are the same ones.
      std::istringstream parts(row.wanted);
      for (std::string wanted; std::getline(parts, wanted, '|');) {
        if (const std::size_t dot = wanted.find(" . "); dot != std::string::npos) {
          for (std::size_t i = dot; i != std::string::npos; i = wanted.find(" . ", i)) wanted.replace(i, 3, " | ");
        }
        if (wanted == "/exe_name") wanted = "logs)";
        // The kernel chooses a port for each run: the log is that of the JSON.
        std::string line = row.name == "getsockname" ? call["arguments"].dump() : lines.at(at + 1);
        for (std::size_t i = 0; (i = line.find("\"\"", i)) != std::string::npos; ++i) line.erase(i, 1);
        EXPECT_NE(line.find(wanted), std::string::npos) << row.name << " wants " << wanted << ": " << line;
      }
      ++at;
    }
  }
}

TEST(Syscalls, OfBothNumberingsOneProgramMayMake) {
  const TempFolder folder;
  const std::string program = built(folder, "both", R"(int main(void) {
  long result;
  __asm__ volatile("int $0x80" : "=a"(result) : "0"(20L) : "memory");
  __asm__ volatile("syscall" : "=a"(result) : "0"(39L) : "rcx", "r11", "memory");
  return result == 0;
}
)",
                                    {"gcc", "-g", "-w"});
  const Outcome outcome = deeptrace({"syscalls", program});
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  EXPECT_NE(outcome.out.find("both.c:3 "), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find("note: int 0x80 in 64-bit code: 20 is the number of the 32-bit table"), std::string::npos)
      << outcome.out;
  const json said = json::parse(deeptrace({"syscalls", "--format", "json", program}).out);
  ASSERT_EQ(said["calls"].size(), 2U) << said.dump();
  EXPECT_EQ(said["calls"][0]["abi"], "i386");
  EXPECT_EQ(said["calls"][1]["abi"], "x86-64");
  EXPECT_EQ(said["calls"][0]["name"], "getpid");
  EXPECT_EQ(said["calls"][1]["name"], "getpid");
}

TEST(Syscalls, AreFollowedIntoThreadsAndChildren) {
  const TempFolder folder;
  const std::string program = built(folder, "family", R"(#include <pthread.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>
static void *worker(void *p) { syscall(SYS_getppid); return p; }
int main(int argc, char **argv) {
  if (argc > 1) return syscall(SYS_getuid) < 0;
  pthread_t thread;
  pthread_create(&thread, 0, worker, 0);
  pthread_join(thread, 0);
  if (fork() == 0) execl(argv[0], argv[0], "again", (char *)0);
  int status;
  wait(&status);
  return status;
}
)",
                                    {"gcc", "-g", "-w", "-pthread"});
  const json said = json::parse(
      deeptrace({"syscalls", "--children", "trace", "--only", "getppid,getuid,execve", "--format", "json", program})
          .out);
  std::map<std::string, std::pair<int, int>> places;
  for (const json& call : said["calls"]) places[call["name"]] = {call["process"].get<int>(), call["thread"].get<int>()};
  EXPECT_EQ(places["getppid"], std::pair(1, 2)) << said.dump();
  EXPECT_EQ(places["getuid"].first, 2) << said.dump();
  EXPECT_EQ(places["execve"].first, 2) << said.dump();
  EXPECT_EQ(said["exit"]["status"], 0);
}

TEST(Syscalls, OfTwoHundredThreadsNoneIsLost) {
  const TempFolder folder;
  const std::string program = built(folder, "many", R"(
#define _GNU_SOURCE
#include <pthread.h>
#include <sys/syscall.h>
#include <unistd.h>
static pthread_barrier_t begin;
static void *work(void *number) {
  pthread_barrier_wait(&begin);
  for (long i = 0; i < 20; i++) syscall(SYS_lseek, -1, (long)number * 100 + i, 0);
  return 0;
}
int main(void) {
  enum { count = 200 };
  pthread_t threads[count];
  pthread_barrier_init(&begin, 0, count);
  for (long i = 0; i < count; i++) pthread_create(&threads[i], 0, work, (void *)i);
  for (long i = 0; i < count; i++) pthread_join(threads[i], 0);
  return 0;
}
)",
                                    {"gcc", "-g", "-pthread"});
  const Outcome outcome = deeptrace({"syscalls", "--format", "json", "--only", "lseek", program});
  ASSERT_EQ(outcome.status, 0) << outcome.err;
  const json said = json::parse(outcome.out);
  std::map<int, std::vector<int>> by_thread;
  for (const json& call : said["calls"])
    by_thread[call["thread"]].push_back(std::stoi(call["arguments"][1]["value"]["signed"].get<std::string>()));
  EXPECT_EQ(by_thread.size(), 200);
  std::set<int> numbers;
  for (const auto& [thread, offsets] : by_thread) {
    ASSERT_EQ(offsets.size(), 20) << thread;
    numbers.insert(offsets[0] / 100);
    for (int i = 0; i < 20; ++i) EXPECT_EQ(offsets[static_cast<std::size_t>(i)], offsets[0] + i) << thread;
  }
  EXPECT_EQ(numbers.size(), 200);
}

bool is_running(const std::string& program) {
  std::error_code failed;
  for (const auto& process : std::filesystem::directory_iterator("/proc")) {
    if (std::filesystem::read_symlink(process.path() / "exe", failed) == program) return true;
  }
  return false;
}

TEST(Syscalls, AThreadMayExecuteAnotherProgram) {
  const TempFolder folder;
  const std::string program = built(folder, "replaced", R"(
#include <fcntl.h>
#include <pthread.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>
static char **words;
static volatile int ready;
static char state(void) {  // of the first thread: S where it sleeps
  char text[200] = "", file[60];
  snprintf(file, sizeof file, "/proc/self/task/%d/stat", getpid());
  int stat = open(file, O_RDONLY);
  read(stat, text, sizeof text - 1);
  close(stat);
  return strrchr(text, ')')[2];
}
static void *work(void *none) {
  while (!ready || state() != 'S') usleep(1000);
  execl(words[0], words[0], "again", (char *)0);
  return none;
}
int main(int count, char **all) {
  pthread_t thread;
  words = all;
  if (count > 1) return lseek(-1, 17, SEEK_SET) == -1 ? 5 : 6;
  pthread_create(&thread, 0, work, 0);
  ready = 1;
  pause();
}
)",
                                    {"gcc", "-g", "-pthread"});
  for (const char* children : {"leave", "trace"}) {  // by stops at every call, and by a filter
    const Outcome outcome = deeptrace(
        {"syscalls", "--format", "json", "--children", children, "--only", "execve,pause,lseek", "--all", program});
    ASSERT_EQ(outcome.status, 0) << outcome.err;
    const json said = json::parse(outcome.out);
    std::map<std::string, json> calls;
    for (const json& call : said["calls"]) calls[call["name"]] = call;
    ASSERT_EQ(calls.size(), 3) << said;
    EXPECT_EQ(calls["execve"]["thread"], 2);
    EXPECT_EQ(calls["execve"]["ended"], true);
    EXPECT_EQ(calls["execve"]["line"], 19);
    EXPECT_EQ(calls["pause"]["ended"], false);
    EXPECT_EQ(calls["lseek"]["error"], "EBADF");
    EXPECT_EQ(said["exit"]["status"], 5);
  }
}

std::vector<std::string> cells_of(const std::string& row) {
  std::vector<std::string> cells(1);
  bool quoted = false;
  for (const char c : row) {
    if (c == '"') {
      quoted = !quoted;
      if (quoted && !cells.back().empty()) cells.back() += c;  // it was the second of two
    } else if (c == ',' && !quoted) {
      cells.emplace_back();
    } else if (c != '\r') {
      cells.back() += c;
    }
  }
  return cells;
}

/// Rows that are made of the same call before: what was written, where from, to which file and with which result
/// changes in one call of four, in two threads at once.
TEST(Syscalls, WhatIsMadeAgainIsWhatTheProgramLogged) {
  const TempFolder folder;
  const std::string program = built(folder, "again", R"(
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
struct work { unsigned seed; int file, used; char log[1 << 17], text[2][16]; const char *name; };
static long lower(int file, const char *text, int count) {
  return write(file, text, count);
}
static long upper(int file, const char *text, int count) {
  return write(file, text, count);
}
static void *run(void *given) {
  struct work *w = given;
  static const char *const names[] = {"/dev/null", "/dev/full", "/dev/zero"};
  int place = 0, other = 0, count = 8;
  for (int i = 0; i < 600; i++) {
    if (i == 0 || rand_r(&w->seed) % 4 == 0) {
      switch (i == 0 ? 0 : rand_r(&w->seed) % 6) {
        case 0: {
          w->name = names[rand_r(&w->seed) % 3];
          int opened = open(w->name, O_WRONLY);
          dup2(opened, w->file), close(opened);
          break;
        }
        case 1: other ^= 1; break;
        case 2: w->text[other][rand_r(&w->seed) % 8] = 'a' + rand_r(&w->seed) % 26; break;
        case 3: count = 4 + rand_r(&w->seed) % 4; break;
        default: place ^= 1;
      }
    }
    errno = 0;
    long result = (place ? upper : lower)(w->file, w->text[other], count);
    char given[16] = "";
    if (result >= 0) sprintf(given, "%ld", result);
    w->used += sprintf(w->log + w->used, "%d|%s|fd %d (%s), buf \"%.*s\", count %d\n", place ? 15 : 12,
                       result < 0 ? strerrorname_np(errno) : given, w->file, w->name, count, w->text[other], count);
  }
  return 0;
}
static struct work works[2] = {{1, 50, 0, "", {"level 17", "gauge 04"}}, {2, 51, 0, "", {"depth 23", "sluice 5"}}};
int main(void) {
  pthread_t thread;
  pthread_create(&thread, 0, run, &works[1]);
  run(&works[0]);
  pthread_join(thread, 0);
  for (int i = 0; i < 2; i++) fputs(works[i].log, stdout);
}
)",
                                    {"gcc", "-g", "-O0", "-pthread"});
  const auto out = deeptrace({"syscalls", "--format", "csv", program});
  std::istringstream rows(out.out), logged(out.err);
  std::array<std::vector<std::string>, 2> seen, log;
  for (std::string row; std::getline(rows, row);) {
    const auto cells = cells_of(row);
    ASSERT_EQ(cells.size(), 17U) << row;
    if (cells[7] != "write" || (cells[12] != "12" && cells[12] != "15")) continue;
    seen.at(cells[2] == "1" ? 0 : 1).push_back(cells[12] + "|" + cells[15] + "|" + cells[16]);
  }
  for (std::string line; std::getline(logged, line);) {
    if (line.find("|fd 5") != std::string::npos)
      log.at(line.find("|fd 50 ") != std::string::npos ? 0 : 1).push_back(line);
  }
  EXPECT_EQ(log[0].size(), 600U) << out.err.substr(0, 500);
  EXPECT_EQ(seen[0], log[0]);
  EXPECT_EQ(seen[1], log[1]);
}

/// What we do at signals is not what the program does at them.
TEST(Syscalls, TheProgramFindsItsSignalsAsWithoutUs) {
  const TempFolder folder;
  const std::string program = built(folder, "signals", R"(
#include <signal.h>
#include <stdio.h>
int main(void) {
  sigset_t blocked;
  sigprocmask(SIG_SETMASK, 0, &blocked);
  for (int i = 1; i < NSIG; i++) {
    struct sigaction action = {0};
    int known = sigaction(i, 0, &action) == 0;
    printf("%d %d %d %x %d\n", i, known, action.sa_handler != SIG_DFL, action.sa_flags, sigismember(&blocked, i));
  }
}
)",
                                    {"gcc", "-O0"});
  const std::string plain = run({program}).out;
  EXPECT_NE(plain.find("\n17 1 0 0 0\n"), std::string::npos);
  EXPECT_EQ(deeptrace({"syscalls", "--format", "json", program}).err, plain);
}

TEST(Syscalls, RowsThatAreAlikeAreWrittenLikeOthers) {
  const auto written = [](bool alike) {
    report::Output out;
    const auto sink = report::syscalls_csv(out);
    session::SyscallRow row;
    for (std::uint64_t i = 1; i <= 8; ++i) {
      row.number = i;
      row.start = i * 100;
      row.thread = i == 4 ? 2 : 1;
      row.call.name = i == 4 ? "read" : "write";
      row.own = {"main, \"x\"", "", "levels.c", 7};
      row.call.error = i > 6 ? "ENOSPC" : "";
      row.place_like = !alike || i == 1 || i == 4 ? 0 : i == 5 ? 3 : i - 1;  // 4 stands between 3 and 5
      row.like = i == 7 ? 0 : row.place_like;
      sink->row(row);
    }
    return std::string(out.text());
  };
  EXPECT_EQ(written(true), written(false));
}

/// Counts how often memory is asked for.
class CountedState final : public state::StateView {
 public:
  explicit CountedState(const state::StateView& view) : view_(view) {}
  [[nodiscard]] isa::Mode mode() const override { return view_.mode(); }
  [[nodiscard]] const state::RegisterSet& registers() const override { return view_.registers(); }
  void read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const override {
    ++count;
    view_.read_memory(requests, provenance);
  }
  using state::StateView::read_memory;
  mutable unsigned count = 0;

 private:
  const state::StateView& view_;
};

/// What reads 16 bytes at each address follows from.
session::KeptReads kept_reads(const state::StateView& state, std::initializer_list<std::uint64_t> addresses) {
  session::KeptReads reads;
  session::ReadRecorder view(state);
  view.record_for(reads);
  std::array<std::uint8_t, 16> into{};
  for (const std::uint64_t address : addresses) view.read_memory(address, into);
  reads.renew(view);
  return reads;
}
bool hold(const session::KeptReads& reads, const state::StateView& state) {
  session::ReadRecorder view(state);
  return reads.hold_in(view);
}

TEST(KeptReads, HoldWhileMemoryIsTheSame) {
  FakeState state;
  std::vector<std::uint8_t> near(200, 1), far(64, 2);
  state.put(0x1000, near);
  state.put(0x9000, far);
  const session::KeptReads reads = kept_reads(state, {0x1000U, 0x1008U, 0x1010U, 0x1080U, 0x9000U, 0x1004U});
  EXPECT_TRUE(hold(reads, state));
  // Each byte that was read counts, and none between them.
  for (std::size_t i = 0; i < near.size(); ++i) {
    auto other = near;
    other[i] = 9;
    state.put(0x1000, other);
    EXPECT_EQ(hold(reads, state), (i >= 0x20 && i < 0x80) || i >= 0x90) << i;
  }
  state.put(0x1000, near);
  far[15] = 9;
  state.put(0x9000, far);
  EXPECT_FALSE(hold(reads, state));
  state.put(0x9000, {2, 2});
  EXPECT_FALSE(hold(reads, state));
  EXPECT_FALSE(hold(session::KeptReads(), state));
  EXPECT_TRUE(hold(kept_reads(state, {}), state)) << "nothing was read";
}

TEST(KeptReads, OfWhatCannotBeReadHoldNowhere) {
  FakeState state;
  state.put(0x1000, std::vector<std::uint8_t>(24, 1));
  EXPECT_TRUE(hold(kept_reads(state, {0x1000, 0x1008}), state));
  EXPECT_FALSE(hold(kept_reads(state, {0x1000, 0x1009}), state));
}

TEST(KeptReads, AreRenewedByWhatIsThereNow) {
  FakeState fake;
  std::vector<std::uint8_t> memory(128, 1);
  fake.put(0x1000, memory);
  fake.put(0x9000, memory);
  const CountedState state(fake);
  session::KeptReads reads = kept_reads(state, {0x1000, 0x1040, 0x9000});
  memory[0x40] = 7;
  memory[0x20] = 8;
  fake.put(0x1000, memory);

  state.count = 0;
  session::ReadRecorder view(state);
  view.record_for(reads);
  EXPECT_FALSE(reads.hold_in(view));
  std::array<std::uint8_t, 16> into{};
  view.read_memory(0x1040, into);
  EXPECT_EQ(into[0], 7);
  view.read_memory(0x1020, into);  // at hand, though nobody asked for it
  EXPECT_EQ(into[0], 8);
  EXPECT_EQ(state.count, 1U) << "all of it is read in one go";
  view.read_memory(0x1070, into);
  EXPECT_EQ(state.count, 2U);
  reads.renew(view);

  for (const auto& [at, counts] : {std::pair(0x00, true), {0x20, true}, {0x30, false}, {0x40, true}, {0x70, true}}) {
    EXPECT_TRUE(hold(reads, state)) << at;
    auto other = memory;
    ++other[at];
    fake.put(0x1000, other);
    EXPECT_EQ(hold(reads, state), !counts) << at;
    fake.put(0x1000, memory);
  }
}

TEST(KeptReads, CountForThoseThatFollowFromThem) {
  FakeState state;
  state.put(0x1000, std::vector<std::uint8_t>(16, 1));
  const session::KeptReads place = kept_reads(state, {0x1000});
  session::KeptReads row;
  session::ReadRecorder view(state);
  view.record_for(row);
  EXPECT_TRUE(place.hold_in(view));
  row.renew(view);
  EXPECT_TRUE(hold(row, state));
  state.put(0x1000, std::vector<std::uint8_t>(16, 2));
  EXPECT_FALSE(hold(row, state));
}

TEST(KeptReads, AreReadTogetherWithWhatIsExpected) {
  FakeState fake;
  fake.put(0x1000, std::vector<std::uint8_t>(16, 1));
  fake.put(0x5000, std::vector<std::uint8_t>(8, 3));
  const CountedState state(fake);
  const session::KeptReads reads = kept_reads(state, {0x1000});
  state.count = 0;
  session::ReadRecorder view(state);
  view.expect(0x5000, 16);  // the last 8 are not there
  view.expect(0x5000, 8);
  EXPECT_TRUE(reads.hold_in(view));
  EXPECT_EQ(state.count, 1U);
  std::array<std::uint8_t, 16> into{};
  EXPECT_EQ(view.read_memory(0x5000, std::span(into).first(8)), 8U);
  EXPECT_EQ(into[7], 3);
  EXPECT_EQ(state.count, 1U);
  EXPECT_EQ(view.read_memory(0x5000, into), 8U) << "what could not be had so is asked for again";
  EXPECT_EQ(state.count, 2U);
}

/// A decoded call that holds an earlier one says what a new one says: calls of
/// both numberings in any order, with few different arguments, so that many are
/// the same as before.
TEST(CallDecoder, LeavesNothingOfTheCallBefore) {
  std::mt19937 random(4);
  const auto one_of = [&](const auto& all) { return all[random() % std::size(all)]; };
  unsigned opened = 0;
  look::CallDecoder decoder([&](std::uint64_t number) { return number < 4 ? "level" + std::to_string(opened) : ""; },
                            64);
  FakeState state;
  std::vector<std::uint8_t> memory = {'l', 'o', 'g', 0, 3, 0, 0, 0, 2, 0, 1, 2, 127, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0};
  constexpr std::uint64_t kArguments[] = {0, 1, 3, 0x42, 0x1000, 0x1008, ~std::uint64_t(99)};
  constexpr std::uint64_t kResults[] = {0, 3, ~std::uint64_t(1), 0x1000};
  constexpr const char* kCalls[] = {"openat", "connect", "socketcall", "ipc",    "fcntl",        "write",
                                    "read",   "fstat",   "ioctl",      "select", "rt_sigaction", "close"};
  const report::Style style{.utf8 = true};
  std::map<std::string, look::DecodedCall> held;
  std::map<const look::DecodedCall*, std::vector<std::string>> said;  // of the arguments in the call before
  std::map<const look::DecodedCall*, unsigned> opened_then;
  for (int i = 0; i < 20000; ++i) {
    const auto table = one_of(std::array{abi::CallTable::x86_64, abi::CallTable::i386});
    const abi::SystemCall* call = abi::system_call(one_of(kCalls), table);
    if (call == nullptr) continue;
    if (random() % 100 == 0) ++opened;
    if (random() % 100 == 0) memory[0] = static_cast<std::uint8_t>('a' + random() % 26);
    state.put(0x1000, memory);
    const isa::Mode mode = table == abi::CallTable::x86_64 ? isa::Mode::bits64 : isa::Mode::bits32;
    for (const auto reg : arch::machine_of(mode).call_arguments)
      state.set[state::reg_numbered(reg)] = one_of(kArguments);
    const look::AskedCall asked = look::AskedCall::of(state, table, call->number);
    const std::uint64_t result = one_of(kResults);
    look::DecodedCall fresh, &again = held[one_of(std::array{"one place", "another place"})];
    // Some calls do not come back, so that what is there before the result counts, too.
    for (const bool over : {false, true}) {
      for (look::DecodedCall* each : {&fresh, &again}) {
        const bool same_descriptors = each == &again && std::exchange(opened_then[each], opened) == opened;
        over ? decoder.after(*each, asked, state, result) : decoder.before(*each, asked, state, same_descriptors);
      }
      const std::vector<std::string> words = report::argument_words(style, fresh);
      ASSERT_EQ(report::argument_words(style, again), words) << i << " " << fresh.name;
      std::vector<std::string>& before = said[&again];
      for (std::size_t k = 0; k < words.size(); ++k)
        ASSERT_TRUE(again.is_new(k) || (k < before.size() && before[k] == words[k])) << i << " " << words[k];
      if (over) before = words;
      ASSERT_EQ(report::result_words(style, again), report::result_words(style, fresh)) << i << " " << fresh.name;
      ASSERT_EQ(std::tie(again.name, again.known, again.failed, again.error, again.meaning),
                std::tie(fresh.name, fresh.known, fresh.failed, fresh.error, fresh.meaning));
    }
    ASSERT_TRUE(std::ranges::equal(again.arguments, fresh.arguments,
                                   [](const auto& a, const auto& b) {
                                     return std::tie(a.name, a.type, a.where) == std::tie(b.name, b.type, b.where);
                                   }))
        << i << " " << fresh.name;
  }
}

TEST(CallDecoder, SaysWhatItWillRead) {
  FakeState state;
  state.put(0x1000, {'l', 'o', 'g', 0, 1, 2, 3, 4});
  look::CallDecoder decoder([](std::uint64_t) { return std::string(); }, 6);
  const auto read_by = [&](std::string_view call, std::initializer_list<std::uint64_t> arguments, unsigned reads = 1) {
    look::AskedCall asked{.number = abi::system_call(call, abi::CallTable::x86_64)->number};
    std::ranges::copy(arguments, asked.arguments.begin());
    const look::CallDecoder::Ranges ranges = decoder.will_read(asked);
    std::string text;
    for (const auto& one : std::span(ranges.all).first(ranges.count))
      text += fmt::format("{:x}+{} ", one.address, one.size);
    // With these at hand it reads nothing else.
    const session::KeptReads none = kept_reads(state, {});
    const CountedState counted(state);
    session::ReadRecorder view(counted);
    for (const auto& one : std::span(ranges.all).first(ranges.count)) view.expect(one.address, one.size);
    EXPECT_TRUE(none.hold_in(view));
    look::DecodedCall decoded;
    decoder.before(decoded, asked, view);
    EXPECT_LE(counted.count, reads) << call;
    return text;
  };
  EXPECT_EQ(read_by("write", {1, 0x1000, 3}), "1000+3 ");
  EXPECT_EQ(read_by("write", {1, 0x1000, 300}), "1000+6 ") << "as much as is shown";
  EXPECT_EQ(read_by("write", {1, 0, 3}), "");
  EXPECT_EQ(read_by("read", {1, 0x1000, 3}), "") << "the kernel has yet to write it";
  EXPECT_EQ(read_by("getpid", {0x1000}), "");
  state.put(0x1fc0, std::vector<std::uint8_t>(64, 'x'));
  state.put(0x2000, {'y', 0});
  EXPECT_EQ(read_by("unlink", {0x1fff}, 2), "1fff+1 ") << "up to the end of a page";
}

/// What is written down is there up to the last call, whatever becomes of the tool.
TEST(Syscalls, TheLogOutlivesTheTool) {
  const TempFolder folder;
  const std::string program = built(folder, "slow", R"(
#include <unistd.h>
int main(void) {
  for (int i = 0;; i++) {
    lseek(-1, i, SEEK_SET);
    usleep(1000);
  }
}
)");
  for (const char* form : {"text", "csv"}) {
    const pid_t tool = ::fork();
    if (tool == 0) {
      const int out = ::open((folder / form).c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
      ::dup2(out, STDOUT_FILENO);
      ::execl(DEEPTRACE_PROGRAM, DEEPTRACE_PROGRAM, "syscalls", "--format", form, program.c_str(), nullptr);
      ::_exit(127);
    }
    const auto rows = [&] {
      const std::string text = read_file(folder / form);
      std::size_t count = 0;
      for (std::size_t at = 0; (at = text.find("lseek", at)) != std::string::npos; ++at) ++count;
      return count;
    };
    ASSERT_TRUE(wait_until([&] { return rows() >= 20; }));
    ::kill(tool, SIGKILL);
    ::waitpid(tool, nullptr, 0);
    const std::string text = read_file(folder / form);
    EXPECT_GE(rows(), 20);
    EXPECT_EQ(text.back(), '\n');
    EXPECT_TRUE(wait_until([&] { return !is_running(program); })) << "the program ends with the tool";
  }
}

TEST(Syscalls, WhatIsWrongIsSaid) {
  const Outcome unknown = deeptrace({"syscalls", "--only", "wriet", demo("beacon")});
  EXPECT_EQ(unknown.status, 2);
  EXPECT_NE(unknown.err.find("wriet: no system call has that name"), std::string::npos) << unknown.err;
  EXPECT_NE(unknown.err.find("write"), std::string::npos) << unknown.err;
  EXPECT_EQ(deeptrace({"syscalls", "--count", "0", demo("beacon")}).status, 2);
  EXPECT_EQ(deeptrace({"syscalls", "--only", "fork", demo("beacon")}).status, 1) << "none was made";
}

TEST(Syscalls, AddsUpByCallDescriptorLineAndFile) {
  const TempFolder folder;
  // Three writes of 4 bytes and one that fails, two reads of a file.
  const std::string program = built(folder, "sums", R"(
#include <fcntl.h>
#include <unistd.h>
int main(void) {
  int f = open("levels.log", O_RDWR | O_CREAT, 0644);
  char four[4];
  for (int i = 0; i < 3; i++)
    write(f, "1234", 4);
  lseek(f, 0, SEEK_SET);
  read(f, four, 4); read(f, four, 2);
  write(99, four, 4);
  close(f);
}
)",
                                    {"gcc", "-g"});
  const auto totals = [&](const std::string& by) {
    const Outcome outcome =
        deeptrace({"syscalls", "--format", "json", "--totals", by, "--work-dir", folder.path(), program});
    const json all = json::parse(outcome.out);
    EXPECT_EQ(all["calls"], json::array());
    std::map<std::string, json> result;
    for (const json& one : all["totals"]) result[one["of"]] = one;
    return result;
  };
  auto by_call = totals("call");
  EXPECT_EQ(by_call["write"]["calls"], 4);
  EXPECT_EQ(by_call["write"]["errors"], 1);
  EXPECT_EQ(by_call["write"]["bytes"], 12);
  EXPECT_EQ(by_call["read"]["bytes"], 6);
  EXPECT_GE(by_call["write"]["time_ns"], by_call["write"]["longest_ns"]);
  const std::string log = folder / "levels.log";
  auto by_file = totals("file");
  EXPECT_EQ(by_file[log]["calls"], 8) << "openat, three writes, lseek, two reads, close";
  EXPECT_EQ(by_file[log]["bytes"], 18);
  std::uint64_t of_log = 0;
  for (const auto& [of, total] : totals("descriptor")) {
    if (of.ends_with(" (" + log + ")")) of_log += total["calls"].get<std::uint64_t>();
  }
  EXPECT_EQ(of_log, 8U);
  auto by_line = totals("line");
  EXPECT_EQ(by_line[std::string(folder / "sums.c") + ":8"]["calls"], 3);
  EXPECT_EQ(deeptrace({"syscalls", "--totals", "weather", program}).status, 2);
  // Findings about calls that are no rows are not lost.
  for (const char* option : {"--totals=call", "--limit=1"}) {
    const Outcome outcome = deeptrace({"syscalls", "--format", "json", option, "--work-dir", folder.path(), program});
    const json found = json::parse(outcome.out)["findings"];
    ASSERT_EQ(found.size(), 1U) << option;
    EXPECT_EQ(found[0]["kind"], "not_open");
  }
}

TEST(Syscalls, LooksIntoSocketcallAndVectors) {
  const TempFolder folder;
  const std::string program = built(folder, "pieces", R"c(
#include <arpa/inet.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <unistd.h>
int main(void) {
  struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons(4711), .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
  long first[] = {AF_INET, SOCK_DGRAM, 0};
  int s = syscall(SYS_socketcall, 1, first);
  long second[] = {s, (long)&to, sizeof to};
  syscall(SYS_socketcall, 3, second);
  long third[] = {s, (long)"high", 4, 0};
  syscall(SYS_socketcall, 9, third);
  syscall(SYS_socketcall, 77, third);
  syscall(SYS_socketcall, 3, 5);
  struct iovec from[] = {{"low ", 4}, {"water", 5}};
  char x[3], y[16];
  struct iovec into[] = {{x, 3}, {y, 16}};
  int p[2], pair[2];
  pipe(p);
  writev(p[1], from, 2);
  readv(p[0], into, 2);
  socketpair(AF_UNIX, SOCK_DGRAM, 0, pair);
  struct msghdr out = {.msg_iov = from, .msg_iovlen = 2};
  sendmsg(pair[0], &out, 0);
}
)c",
                                    {"gcc", "-m32", "-g", "-w"});
  const Outcome outcome = deeptrace({"syscalls", "--format", "json", program});
  const json all = json::parse(outcome.out)["calls"];
  std::map<std::string, json> calls;
  for (const json& one : all) calls[one["name"].get<std::string>() + (one["error"].is_null() ? "" : "!")] = one;
  const json connect = calls["connect"];
  EXPECT_EQ(connect["number"], 102);
  EXPECT_EQ(connect["arguments"][1]["where"], "[ecx+4]");
  EXPECT_NE(connect["arguments"][1].dump().find("127.0.0.1 port 4711"), std::string::npos) << connect;
  EXPECT_EQ(calls["socket"]["arguments"][1]["value"]["text"], "SOCK_DGRAM");
  ASSERT_EQ(calls["sendto"]["arguments"].size(), 4U) << "send has no address";
  EXPECT_NE(calls["sendto"]["arguments"][1].dump().find("high"), std::string::npos);
  // Neither an unknown number nor arguments that cannot be read are made into something else.
  EXPECT_EQ(calls["socketcall!"]["arguments"].size(), 2U);
  EXPECT_NE(calls["writev"]["arguments"][1].dump().find("low "), std::string::npos);
  // What was read lies in both pieces: three bytes, and the rest of nine.
  const std::string read = calls["readv"]["arguments"][1].dump();
  EXPECT_NE(read.find("\"low\""), std::string::npos) << read;
  EXPECT_NE(read.find(" water"), std::string::npos) << read;
  EXPECT_NE(calls["sendmsg"]["arguments"][1].dump().find("water"), std::string::npos) << calls["sendmsg"];
  EXPECT_NE(deeptrace({"syscalls", "--only", "connect", program}).out.find("port 4711"), std::string::npos);
}

TEST(Syscalls, LooksIntoSocketcallOf64BitCode) {
  const TempFolder folder;
  const std::string program = built(folder, "low", R"c(
static unsigned asked[] = {2, 2, 0};
int main(void) {
  long made = 102;
  __asm__ volatile("int $0x80" : "+a"(made) : "b"(1), "c"(asked) : "memory", "r8", "r9", "r10", "r11");
  return made < 0;
}
)c",
                                    {"gcc", "-g", "-no-pie"});
  const json all = json::parse(deeptrace({"syscalls", "--format", "json", program}).out)["calls"];
  ASSERT_EQ(all.size(), 1U) << all;
  EXPECT_EQ(all[0]["name"], "socket");
  EXPECT_EQ(all[0]["arguments"][0]["value"]["text"], "AF_INET") << all[0]["arguments"];
  EXPECT_EQ(all[0]["arguments"][1]["value"]["text"], "SOCK_DGRAM") << all[0]["arguments"];
}

TEST(Syscalls, LooksIntoIpc) {
  const TempFolder folder;
  const std::string program = built(folder, "queue", R"c(
#include <sys/ipc.h>
#include <sys/msg.h>
#include <sys/sem.h>
#include <sys/syscall.h>
#include <unistd.h>
int main(void) {
  struct { long type; char text[8]; } message = {7, "high"};
  struct { void *message; long type; } first = {&message, 7};
  struct sembuf up = {0, 2, 0};
  long value = 31;
  int q = syscall(SYS_ipc, 13, IPC_PRIVATE, IPC_CREAT | 0600, 0, 0, 0);
  syscall(SYS_ipc, 11, q, 5, 0, &message, 0);
  syscall(SYS_ipc, 12, q, 8, 0, &first, 0);
  syscall(SYS_ipc, 12 | 1 << 16, q, 6, IPC_NOWAIT, &message, 9);
  syscall(SYS_ipc, 14, q, IPC_RMID, 0, 0, 0);
  int s = syscall(SYS_ipc, 2, IPC_PRIVATE, 1, 0600, 0, 0);
  syscall(SYS_ipc, 1, s, 1, 0, &up, 0);
  syscall(SYS_ipc, 3, s, 0, SETVAL, &value, 0);
  syscall(SYS_ipc, 3, s, 0, IPC_RMID, &value, 0);
  syscall(SYS_ipc, 99, s, 0, 0, 0, 0);
  syscall(SYS_ipc, 12, q, 8, 0, 16, 0);
}
)c",
                                    {"gcc", "-m32", "-g", "-w"});
  const json all = json::parse(deeptrace({"syscalls", "--format", "json", program}).out)["calls"];
  std::string names;
  std::map<std::string, json> calls;
  for (const json& one : all) {
    names += one["name"].get<std::string>() + (one["error"].is_null() ? " " : "! ");
    calls.emplace(one["name"].get<std::string>() + (one["error"].is_null() ? "" : "!"), one["arguments"]);
  }
  EXPECT_EQ(names, "msgget msgsnd msgrcv msgrcv! msgctl semget semop semctl semctl ipc! ipc! ")
      << "the last two have no number, and no arguments that can be read";
  const auto argument = [&](const char* call, std::size_t index) {
    const json& one = calls.at(call)[index];
    return one["where"].get<std::string>() + " " + one["value"].value("signed", one["value"].value("text", "?"));
  };
  EXPECT_EQ(argument("msgsnd", 2), "edx 5");
  EXPECT_EQ(argument("msgrcv", 2) + ", " + argument("msgrcv", 3), "edx 8, [edi+4] 7");
  EXPECT_EQ(argument("msgrcv!", 2) + ", " + argument("msgrcv!", 3), "edx 6, ebp 9");
  EXPECT_EQ(calls.at("msgrcv!")[4]["value"]["text"], "IPC_NOWAIT");
  EXPECT_EQ(argument("semctl", 3), "[edi] 31");
  EXPECT_NE(calls.at("semop")[1].dump().find("\"sem_op\""), std::string::npos) << calls.at("semop");
  const std::string chosen = deeptrace({"syscalls", "--children", "trace", "--only", "semop", program}).out;
  EXPECT_NE(chosen.find("sem_op 2"), std::string::npos) << chosen;
  EXPECT_NE(chosen.find("1 call;"), std::string::npos) << chosen;
}

/// The program prints what it set and got, by the library's own declarations.
TEST(Syscalls, OptionsOfSocketsHaveTheirValues) {
  const TempFolder folder;
  write_file(folder / "o.c", R"(#define _GNU_SOURCE
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <stdio.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <unistd.h>
int main(void) {
  int tcp = socket(AF_INET, SOCK_STREAM, 0), pair[2], number = 1, got = 0;
  socketpair(AF_UNIX, SOCK_STREAM, 0, pair);
  socklen_t size = sizeof got;
  setsockopt(tcp, SOL_SOCKET, SO_REUSEADDR, &number, sizeof number);
  getsockopt(tcp, SOL_SOCKET, SO_TYPE, &got, &size);
  printf("%d\n", got);
  struct linger linger = {1, 5};
  setsockopt(tcp, SOL_SOCKET, SO_LINGER, &linger, sizeof linger);
  struct timeval wait = {2, 500000};
  setsockopt(tcp, SOL_SOCKET, SO_RCVTIMEO, &wait, sizeof wait);
  setsockopt(tcp, IPPROTO_TCP, TCP_NODELAY, &number, sizeof number);
  char name[16] = "";
  size = sizeof name;
  getsockopt(tcp, IPPROTO_TCP, TCP_CONGESTION, name, &size);
  printf("%s\n", name);
  struct ucred peer;
  size = sizeof peer;
  getsockopt(pair[0], SOL_SOCKET, SO_PEERCRED, &peer, &size);
  printf("{pid %d, uid %d, gid %d}\n", peer.pid, peer.uid, peer.gid);
  unsigned char bytes[3] = {1, 2, 3};
  setsockopt(tcp, SOL_SOCKET, 9999, bytes, sizeof bytes);
  size = sizeof got;
  getsockopt(-1, SOL_SOCKET, SO_ERROR, &got, &size);
  return 0;
})");
  for (const char* width : {"-m64", "-m32"}) {
    ASSERT_EQ(run({"gcc", width, "-g", "-o", folder / "o", folder / "o.c"}).status, 0);
    const std::string log = folder / "log";
    const Outcome outcome = deeptrace({"syscalls", "--program-output", log, folder / "o"});
    ASSERT_EQ(outcome.status, 0) << outcome.err;
    std::istringstream said(read_file(log));
    std::string type, congestion, peer;
    std::getline(said, type);
    std::getline(said, congestion);
    std::getline(said, peer);
    std::string out;
    for (const char c : outcome.out) out += c == '\n' || (c == ' ' && out.ends_with(' ')) ? "" : std::string(1, c);
    for (const std::string& words :
         {std::string("SO_REUSEADDR, optval 1, optlen 4"), "SO_TYPE, optval " + type + ", optlen 4",
          std::string("SO_LINGER, optval {l_onoff 1, l_linger 5}"),
          std::string("SO_RCVTIMEO, optval {tv_sec 2, tv_usec 500000}"), std::string("TCP_NODELAY, optval 1"),
          "TCP_CONGESTION, optval \"" + congestion + "\"", "SO_PEERCRED, optval " + peer,
          std::string("0x270f, optval 01 02 03, optlen 3"), std::string("SO_ERROR, optval 0x")})
      EXPECT_NE(out.find(words), std::string::npos) << words << " " << width << "\n" << outcome.out;
  }
}

TEST(Syscalls, CodeOfHeadersCountsForTheLineThatUsesIt) {
  const TempFolder folder;
  const std::string program = built(folder, "nap", R"(
#include <chrono>
#include <thread>
int main() {
  std::this_thread::sleep_for(std::chrono::milliseconds(1));
}
)",
                                    {"g++", "-g", "-O2"});
  const json all = json::parse(deeptrace({"syscalls", "--format", "json", program}).out)["calls"];
  ASSERT_FALSE(all.empty());
  EXPECT_EQ(all[0]["name"], "clock_nanosleep");
  EXPECT_EQ(all[0]["file"], std::string(folder / "nap.cpp"));
  EXPECT_EQ(all[0]["line"], 5);
}

TEST(Syscalls, TheFigureAndThePageHaveEveryCall) {
  const TempFolder folder;
  const std::string saved = folder / "saved";
  ASSERT_EQ(deeptrace({"syscalls", "--children", "trace", "--save", saved, demo("relay"), "turned"}).status, 0);
  const std::string figure = read_file(saved + "/syscalls.svg"), page = read_file(saved + "/syscalls.html");
  EXPECT_NE(figure.find("<svg"), std::string::npos);
  EXPECT_GT(read_file(saved + "/syscalls.png").size(), 1000U);
  const json all = json::parse(read_file(saved + "/syscalls.json"))["calls"];
  std::size_t rows = 0;
  for (std::size_t at = page.find("<td class=n>"); at != std::string::npos; at = page.find("<td class=n>", at + 1))
    ++rows;
  EXPECT_EQ(rows, all.size());
  EXPECT_NE(page.find("class=bad data-bad=1"), std::string::npos);
  EXPECT_NE(page.find("<div class=wrong>wrong: the port is"), std::string::npos);
  // Of very many calls memory and the figure stay small.
  const std::string many = built(folder, "many", R"(
#include <unistd.h>
int main(void) { for (int i = 0; i < 6000; i++) getppid(); close(99); }
)",
                                 {"gcc", "-g"});
  const std::string second = folder / "second";
  ASSERT_EQ(deeptrace({"syscalls", "--save", second, "--save-formats", "svg", many}).status, 0);
  EXPECT_LT(read_file(second + "/syscalls.svg").size(), 1000000U);
}

TEST(Syscalls, CallsFromOneInstructionHaveTheLinesOfTheirCallers) {
  const TempFolder folder;
  const std::string program = built(folder, "turns", R"(
#include <stdio.h>
#include <unistd.h>
static int flush(FILE *file) { return fflush(file); }
int main(void) {
  FILE *file = fopen("/dev/null", "w");
  for (int i = 0; i < 5; i++) {
    write(2, "", 0);
    write(2, "", 0);
    fputs("level", file); fflush(file);
    fputs("level", file); flush(file);
    fputs("level", file); fflush(file);
  }
}
)",
                                    {"gcc", "-g", "-O0"});
  const json all = json::parse(deeptrace({"syscalls", "--only", "write", "--format", "json", program}).out)["calls"];
  const std::vector<int> lines = {8, 9, 10, 4, 12};
  ASSERT_EQ(all.size(), 5 * lines.size());
  for (std::size_t i = 0; i < all.size(); ++i) EXPECT_EQ(all[i]["line"], lines[i % lines.size()]) << i;
}

}  // namespace
}  // namespace deeptrace::tests
