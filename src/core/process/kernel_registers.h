// Registers as the kernel hands them out by ptrace(2).
#pragma once

#include <sys/types.h>
#include <sys/user.h>

#include <optional>

#include "state/extended.h"
#include "state/registers.h"

namespace deeptrace::process {

state::RegisterSet from_kernel(const user_regs_struct& raw);
/// Puts all but the segment registers of a set into `raw`.
void to_kernel(const state::RegisterSet& registers, user_regs_struct& raw);

/// Of a thread that stands still (PTRACE_GETREGSET with NT_X86_XSTATE); nothing when it is gone.
std::optional<state::ExtendedSet> extended_of(pid_t thread);
/// The floating-point unit, xmm0 to xmm15 and mxcsr of a thread that stands still, into a set that keeps the rest: less
/// work than all of it. False when the thread is gone.
bool refresh_legacy(pid_t thread, state::ExtendedSet& registers);
/// Sets vectors, masks and the floating-point unit; returns success.
bool set_extended(pid_t thread, const state::ExtendedSet& registers);

}  // namespace deeptrace::process
