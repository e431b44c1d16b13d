#include "walker.h"

#include <cpuid.h>
#include <elf.h>
#include <fcntl.h>
#include <sys/personality.h>
#include <sys/ptrace.h>
#include <sys/uio.h>
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

std::map<std::string, std::vector<std::uint8_t>> Walker::wide() const {
  std::vector<std::uint8_t> area(16384);
  iovec piece{area.data(), area.size()};
  ::ptrace(PTRACE_GETREGSET, pid_, NT_X86_XSTATE, &piece);
  // Where the processor keeps a component of the area (Intel SDM volume 1, 13.2); those it has not are zeros.
  const auto place = [&](unsigned component) {
    unsigned size = 0, offset = 0, c = 0, d = 0;
    __get_cpuid_count(0xd, component, &size, &offset, &c, &d);
    return size != 0 && offset + size <= piece.iov_len ? offset : static_cast<unsigned>(area.size() - 2048);
  };
  const auto bytes = [&](std::size_t at, std::size_t size) {
    return std::vector<std::uint8_t>(area.begin() + static_cast<std::ptrdiff_t>(at),
                                     area.begin() + static_cast<std::ptrdiff_t>(at + size));
  };
  std::map<std::string, std::vector<std::uint8_t>> result;
  result["fcw"] = bytes(0, 2);
  result["fsw"] = bytes(2, 2);
  result["mxcsr"] = bytes(24, 4);
  const unsigned top = area[3] >> 3 & 7;
  for (unsigned i = 0; i < 8; ++i) {
    const unsigned fixed = (top + i) % 8;
    result["r" + std::to_string(fixed)] = bytes(32 + 16 * i, 10);
    result["r" + std::to_string(fixed)].push_back(area[4] >> fixed & 1);
    result["k" + std::to_string(i)] = bytes(place(5) + 8 * i, 8);
  }
  for (unsigned i = 0; i < 32; ++i) {
    std::vector<std::uint8_t>& whole = result["zmm" + std::to_string(i)];
    if (i >= 16) {
      whole = bytes(place(7) + 64 * (i - 16), 64);
      continue;
    }
    for (const auto& [at, size] : {std::pair(160 + 16 * i, 16U), {place(2) + 16 * i, 16U}, {place(6) + 32 * i, 32U}}) {
      const auto part = bytes(at, size);
      whole.insert(whole.end(), part.begin(), part.end());
    }
  }
  return result;
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
