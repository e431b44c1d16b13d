// Ctrl-C while a program is traced: the signal handler ends the traced program, so that whatever waits for it
// returns at once, and remembers that it did.
#pragma once

#include <sys/types.h>

namespace deeptrace::process {

/// While it lives, SIGINT and SIGTERM end process `pid` instead of us. One at a time.
class InterruptGuard {
 public:
  explicit InterruptGuard(pid_t pid);
  ~InterruptGuard();
  InterruptGuard(const InterruptGuard&) = delete;
  InterruptGuard& operator=(const InterruptGuard&) = delete;

  /// True once a signal came.
  [[nodiscard]] static bool interrupted();
};

}  // namespace deeptrace::process
