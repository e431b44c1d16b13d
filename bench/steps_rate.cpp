// How fast `steps` is: everything recorded and written to a file as JSON, against a bare loop of single-step, wait and
// get-registers over the same instructions. Both sides run in this process, pinned alike, alternating; the medians of
// seven runs are compared. Then the same for a 32-bit program, and for eight threads that take turns, against such a
// loop over the threads.
//
// usage: steps_rate PROGRAM [INSTRUCTIONS]     PROGRAM is bench-programs/store_loop; the others lie beside it
#include <fcntl.h>
#include <sched.h>
#include <sys/personality.h>
#include <sys/ptrace.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <string>
#include <vector>

#include "report/steps.h"
#include "session/steps.h"

namespace {

using Clock = std::chrono::steady_clock;

double seconds_since(Clock::time_point start) { return std::chrono::duration<double>(Clock::now() - start).count(); }

/// A program that stands at its first instruction.
pid_t launched(const char* program) {
  const pid_t child = ::fork();
  if (child == 0) {
    ::personality(ADDR_NO_RANDOMIZE);
    ::ptrace(PTRACE_TRACEME, 0, nullptr, nullptr);
    ::execl(program, program, nullptr);
    ::_exit(127);
  }
  int status = 0;
  ::waitpid(child, &status, 0);
  return child;
}

/// Steps per second of the bare loop. The sum of the stack pointers is folded into a checksum so that nothing is
/// optimised away.
double bare(const char* program, std::uint64_t count, std::uint64_t& checksum) {
  const pid_t child = launched(program);
  int status = 0;
  user_regs_struct registers{};
  const Clock::time_point start = Clock::now();
  for (std::uint64_t i = 0; i < count; ++i) {
    ::ptrace(PTRACE_SINGLESTEP, child, nullptr, nullptr);
    ::waitpid(child, &status, 0);
    ::ptrace(PTRACE_GETREGS, child, nullptr, &registers);
    checksum += registers.rip;
  }
  const double rate = static_cast<double>(count) / seconds_since(start);
  ::kill(child, SIGKILL);
  ::waitpid(child, &status, 0);
  return rate;
}

/// The same over eight threads in turns. They are held as they start, and stepped from there.
double bare_threads(const char* program, std::uint64_t count, std::uint64_t& checksum) {
  constexpr std::size_t kThreads = 8;
  const pid_t child = launched(program);
  int status = 0;
  ::ptrace(PTRACE_SETOPTIONS, child, nullptr, PTRACE_O_TRACECLONE | PTRACE_O_EXITKILL);
  std::vector<pid_t> threads = {child};
  ::ptrace(PTRACE_CONT, child, nullptr, nullptr);
  while (threads.size() < kThreads) {
    ::waitpid(child, &status, __WALL);
    unsigned long thread = 0;
    if (status >> 8 == (SIGTRAP | PTRACE_EVENT_CLONE << 8)) {
      ::ptrace(PTRACE_GETEVENTMSG, child, nullptr, &thread);
      threads.push_back(static_cast<pid_t>(thread));
      ::waitpid(threads.back(), &status, __WALL);
    }
    if (threads.size() < kThreads) ::ptrace(PTRACE_CONT, child, nullptr, nullptr);
  }
  user_regs_struct registers{};
  const Clock::time_point start = Clock::now();
  for (std::uint64_t i = 0; i < count; ++i) {
    const pid_t thread = threads[i % kThreads];
    ::ptrace(PTRACE_SINGLESTEP, thread, nullptr, nullptr);
    ::waitpid(thread, &status, __WALL);
    ::ptrace(PTRACE_GETREGS, thread, nullptr, &registers);
    checksum += registers.rip;
  }
  const double rate = static_cast<double>(count) / seconds_since(start);
  ::kill(child, SIGKILL);
  while (::waitpid(-1, &status, __WALL) > 0) {  // the threads, then the process
  }
  return rate;
}

/// Writes the rows, counts the stores, and ends the program after the last row.
class Timed : public deeptrace::session::StepsSink {
 public:
  Timed(deeptrace::report::Output& out, std::uint64_t count)
      : json_(deeptrace::report::steps_json(out)), out_(out), count_(count) {}
  void begin(const deeptrace::session::StepsStart& start) override {
    json_->begin(start);
    start_ = Clock::now();
  }
  void row(const deeptrace::session::StepRow& row) override {
    thread_ = row.thread;
    stores_ += row.delta->memory.empty() ? 0 : 1;
    json_->row(row);
    if (row.number == count_) {
      out_.flush();
      rate_ = static_cast<double>(count_) / seconds_since(start_);
      ::kill(thread_, SIGKILL);
    }
  }
  void end(const deeptrace::session::StepsSummary& summary) override { json_->end(summary); }
  [[nodiscard]] double rate() const { return rate_; }
  [[nodiscard]] std::uint64_t stores() const { return stores_; }

 private:
  std::unique_ptr<deeptrace::session::StepsSink> json_;
  deeptrace::report::Output& out_;
  std::uint64_t count_;
  std::uint64_t stores_ = 0;
  pid_t thread_ = 0;
  Clock::time_point start_;
  double rate_ = 0;
};

double recorded(const char* program, bool threads, std::uint64_t count, std::uint64_t& stores) {
  std::string path = "/tmp/deeptrace-bench-XXXXXX";
  const int file = ::mkstemp(path.data());
  ::unlink(path.c_str());
  deeptrace::report::Output out(file);
  Timed sink(out, count);
  deeptrace::session::StepsRequest request;
  request.launch.program = program;
  request.from = threads ? "work" : "_start";
  request.all_threads = threads;
  request.count = count + 1;
  (void)deeptrace::session::steps(request, sink);
  out.flush();
  ::close(file);
  stores = sink.stores();
  return sink.rate();
}

void compare(const char* program, bool threads, std::uint64_t count, int processors) {
  cpu_set_t set;
  CPU_ZERO(&set);
  for (int i = 0; i < processors; ++i) CPU_SET(i, &set);
  ::sched_setaffinity(0, sizeof set, &set);
  std::array<double, 7> ours{}, theirs{};
  std::uint64_t checksum = 0, stores = 0;
  for (std::size_t i = 0; i < ours.size(); ++i) {
    theirs[i] = threads ? bare_threads(program, count, checksum) : bare(program, count, checksum);
    ours[i] = recorded(program, threads, count, stores);
  }
  std::sort(ours.begin(), ours.end());
  std::sort(theirs.begin(), theirs.end());
  std::printf(
      "%s, pinned to %d processor%s: steps %.0f/s, bare loop %.0f/s, ratio %.3f   (%llu instructions, %.1f%% stores, "
      "checksum %llx)\n",
      std::strrchr(program, '/') + 1, processors, processors == 1 ? "" : "s", ours[3], theirs[3], ours[3] / theirs[3],
      static_cast<unsigned long long>(count), 100.0 * static_cast<double>(stores) / static_cast<double>(count),
      static_cast<unsigned long long>(checksum));
  std::fflush(stdout);
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 2) return 2;
  const std::uint64_t count = argc > 2 ? std::strtoull(argv[2], nullptr, 10) : 50000;
  const std::string loop = std::filesystem::absolute(argv[1]);
  for (const int processors : {1, 2}) compare(loop.c_str(), false, count, processors);
  for (const int processors : {1, 2}) compare((loop + "32").c_str(), false, count, processors);
  const std::string threads = std::filesystem::path(loop).parent_path() / "store_threads";
  for (const int processors : {1, 2}) compare(threads.c_str(), true, count, processors);
}
