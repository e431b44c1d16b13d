// A filter that the kernel keeps for a program: only chosen system calls stop it, and all others run at full speed
// (seccomp(2), SECCOMP_RET_TRACE).
//
// It stays for as long as the program runs, and its children have it too; without a tracer the chosen calls fail
// (ENOSYS). So it is for programs that are launched, followed with their children, and never let go.
#pragma once

#include <linux/filter.h>

#include <array>
#include <cstdint>
#include <set>
#include <vector>

#include "arch/machine.h"

namespace deeptrace::process {

struct CallFilter {
  /// Of one numbering.
  struct Numbers {
    std::set<std::uint32_t> listed;
    /// Calls that stop it when their fifth argument, a descriptor, is not -1: mappings of files (mmap(2)).
    std::set<std::uint32_t> with_file;
  };
  Numbers x86_64, i386;
  bool others = false;  ///< false: listed calls stop it; true: all others do

  [[nodiscard]] const Numbers& of(arch::CallTable table) const {
    return table == arch::CallTable::x86_64 ? x86_64 : i386;
  }
};

/// The filter as the kernel takes it: a program for its packet filter (Documentation/userspace-api/seccomp_filter.rst).
std::vector<sock_filter> instructions_of(const CallFilter& filter);

/// Gives it to the calling thread, and to the program that it executes. False, with errno, where the kernel refuses.
bool install(const CallFilter& filter);

}  // namespace deeptrace::process
