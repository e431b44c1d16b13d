// Stops of traced threads without a signal for each: waitpid(2) tells of them, and nobody here waits for SIGCHLD, which
// the kernel would make ready and drop again at every stop (sigaction(2), SA_NOCLDSTOP).
#pragma once

#include <csignal>

namespace deeptrace::process {

/// While one is there. A handler of somebody's stays as it is; so does a disposition to ignore, with which no signal is
/// made either. Programs that are executed do not inherit it (execve(2)).
class QuietStops {
 public:
  QuietStops() {
    if (::sigaction(SIGCHLD, nullptr, &earlier_) != 0 || earlier_.sa_handler != SIG_DFL) return;
    struct sigaction quiet = earlier_;
    quiet.sa_flags |= SA_NOCLDSTOP;
    set_ = ::sigaction(SIGCHLD, &quiet, nullptr) == 0;
  }
  ~QuietStops() {
    if (set_) ::sigaction(SIGCHLD, &earlier_, nullptr);
  }
  QuietStops(const QuietStops&) = delete;
  QuietStops& operator=(const QuietStops&) = delete;

 private:
  struct sigaction earlier_ {};
  bool set_ = false;
};

}  // namespace deeptrace::process
