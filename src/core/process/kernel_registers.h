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
/// The low 128 bits of xmm0 to xmm15 and mxcsr of a thread that stands still: less work than all of them.
state::VectorSet vectors_of(pid_t thread);
/// Sets vectors, masks and the floating-point unit; returns success.
bool set_extended(pid_t thread, const state::ExtendedSet& registers);

}  // namespace deeptrace::process
