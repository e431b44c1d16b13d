#include "walker.h"

#include <fcntl.h>
#include <sys/personality.h>
#include <sys/ptrace.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <cstddef>
#include <cstdio>
#include <cstdlib>
#include <fstream>

namespace deeptrace::tests {

Walker::Walker(const std::vector<std::string>& words) : pid_(::fork()) {
  if (pid_ == 0) {
    ::dup2(::open("/dev/null", O_RDONLY), 0);
    ::dup2(::open("/dev/null", O_WRONLY), 1);
    ::setenv("LC_ALL", "C", 1);  // as support.cpp does, for the same stack
    ::personality(ADDR_NO_RANDOMIZE);
    ::ptrace(PTRACE_TRACEME, 0, nullptr, nullptr);
    std::vector<char*> arguments;
    for (const std::string& word : words) arguments.push_back(const_cast<char*>(word.c_str()));
    arguments.push_back(nullptr);
    ::execv(arguments[0], arguments.data());
    ::_exit(126);
  }
  int status = 0;
  ::waitpid(pid_, &status, 0);
  ::ptrace(PTRACE_SETOPTIONS, pid_, nullptr, PTRACE_O_EXITKILL);
}

Walker::~Walker() {
  ::kill(pid_, SIGKILL);
  int status = 0;
  ::waitpid(pid_, &status, 0);
}

bool Walker::run_to(std::uint64_t address, unsigned times) {
  const auto debug = [&](unsigned number, std::uint64_t value) {
    ::ptrace(PTRACE_POKEUSER, pid_, offsetof(struct user, u_debugreg) + number * sizeof(long), value);
  };
  debug(7, 0);
  debug(0, address);
  debug(7, 1);  // debug register 0: on execution (Intel SDM volume 3, 18.2.4)
  int signal = 0;
  while (times > 0) {
    // The resume flag lets the instruction at hand run although it is watched.
    user_regs_struct now = registers();
    now.eflags |= 0x10000;
    ::ptrace(PTRACE_SETREGS, pid_, nullptr, &now);
    ::ptrace(PTRACE_CONT, pid_, nullptr, static_cast<long>(signal));
    int status = 0;
    if (::waitpid(pid_, &status, 0) != pid_ || !WIFSTOPPED(status)) return false;
    signal = WSTOPSIG(status);
    if (signal == SIGTRAP) {
      signal = 0;
      if (registers().rip == address) --times;
    }
  }
  debug(7, 0);
  return true;
}

user_regs_struct Walker::registers() const {
  user_regs_struct result{};
  ::ptrace(PTRACE_GETREGS, pid_, nullptr, &result);
  return result;
}

std::vector<std::uint8_t> Walker::vectors() const {
  user_fpregs_struct raw{};
  ::ptrace(PTRACE_GETFPREGS, pid_, nullptr, &raw);
  const auto* bytes = reinterpret_cast<const std::uint8_t*>(raw.xmm_space);
  return {bytes, bytes + 256};
}

std::map<std::uint64_t, std::vector<std::uint8_t>> Walker::writable_memory() const {
  std::map<std::uint64_t, std::vector<std::uint8_t>> result;
  std::ifstream maps("/proc/" + std::to_string(pid_) + "/maps");
  const int memory = ::open(("/proc/" + std::to_string(pid_) + "/mem").c_str(), O_RDONLY);
  for (std::string line; std::getline(maps, line);) {
    unsigned long from = 0, to = 0;
    char flags[5] = {};
    if (std::sscanf(line.c_str(), "%lx-%lx %4s", &from, &to, flags) != 3 || flags[1] != 'w') continue;
    std::vector<std::uint8_t> bytes(to - from);
    if (::pread(memory, bytes.data(), bytes.size(), static_cast<off_t>(from)) == static_cast<ssize_t>(bytes.size()))
      result[from] = std::move(bytes);
  }
  ::close(memory);
  return result;
}

}  // namespace deeptrace::tests
