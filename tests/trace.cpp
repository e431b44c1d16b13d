#include "trace.h"

#include <fcntl.h>
#include <sys/personality.h>
#include <sys/ptrace.h>
#include <sys/uio.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <cstdlib>

namespace deeptrace::tests {

std::vector<Moment> trace_of(const std::string& program, std::uint64_t from, std::uint64_t own_from,
                             std::uint64_t own_to, std::int64_t clock) {
  std::vector<Moment> result;
  const pid_t child = ::fork();
  if (child == 0) {
    ::dup2(::open("/dev/null", O_WRONLY), 1);
    ::personality(ADDR_NO_RANDOMIZE);
    ::ptrace(PTRACE_TRACEME, 0, nullptr, nullptr);
    ::setenv("LC_ALL", "C", 1);
    ::execl(program.c_str(), program.c_str(), nullptr);
    ::_exit(126);
  }
  int status = 0;
  ::waitpid(child, &status, 0);
  ::ptrace(PTRACE_SETOPTIONS, child, nullptr, PTRACE_O_EXITKILL);
  const long own = ::ptrace(PTRACE_PEEKTEXT, child, from, nullptr);
  ::ptrace(PTRACE_POKETEXT, child, from, (own & ~0xffL) | 0xcc);
  ::ptrace(PTRACE_CONT, child, nullptr, nullptr);
  ::waitpid(child, &status, 0);
  ::ptrace(PTRACE_POKETEXT, child, from, own);
  user_regs_struct registers{};
  ::ptrace(PTRACE_GETREGS, child, nullptr, &registers);
  registers.rip = from;
  ::ptrace(PTRACE_SETREGS, child, nullptr, &registers);
  bool handler = false;
  int signal = 0;
  constexpr std::size_t kMost = 2'000'000;
  while (WIFSTOPPED(status) && result.size() < kMost) {
    ::ptrace(PTRACE_GETREGS, child, nullptr, &registers);
    if (signal == 0) {
      Moment moment{.address = registers.rip, .stack = registers.rsp, .handler = handler};
      iovec local[2] = {{moment.opcode, sizeof moment.opcode}, {&moment.clock, sizeof moment.clock}};
      iovec remote[2] = {
          {reinterpret_cast<void*>(registers.rip), sizeof moment.opcode},
          {reinterpret_cast<void*>(registers.fs_base + static_cast<std::uint64_t>(clock)), sizeof moment.clock}};
      const bool mine = registers.rip >= own_from && registers.rip < own_to;
      (void)::process_vm_readv(child, local, mine ? 2 : 1, remote, mine ? 2 : 1, 0);
      result.push_back(moment);
    }
    handler = signal != 0;
    ::ptrace(PTRACE_SINGLESTEP, child, nullptr, static_cast<long>(signal));
    ::waitpid(child, &status, 0);
    signal = WIFSTOPPED(status) && WSTOPSIG(status) != SIGTRAP ? WSTOPSIG(status) : 0;
  }
  if (WIFSTOPPED(status)) {
    ::kill(child, SIGKILL);
    ::waitpid(child, &status, 0);
  }
  return result;
}

}  // namespace deeptrace::tests
