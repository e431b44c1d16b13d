// Whether a running thread waits for its program's standard input, as the kernel reports it.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <optional>

#include "isa/instruction.h"

namespace deeptrace::process {

/// True for a thread that sleeps (proc(5), "stat").
bool sleeps(pid_t process, pid_t thread);

/// The system call that a sleeping thread is in, with its arguments (proc(5), "syscall"); nothing for one that runs.
struct WaitingCall {
  std::uint64_t number = 0;
  std::uint64_t arguments[6] = {};
};
std::optional<WaitingCall> call_of(pid_t process, pid_t thread);

/// True for a call that returns when there is input on descriptor 0: a read of it, or a poll, select or epoll_wait that
/// has it among others. `mode` is that of the code that made the call.
bool awaits_input(pid_t process, const WaitingCall& call, isa::Mode mode);

/// True for the call by which the kernel goes on with one that was interrupted (restart_syscall(2)).
bool is_restart(const WaitingCall& call, isa::Mode mode);

}  // namespace deeptrace::process
