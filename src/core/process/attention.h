// Asking a tracer that waits for its program to pay attention: Ctrl-C, a request to end, the death of the process that
// started it.
//
// The request interrupts the wait; a timer makes sure that it does even when the signal came just before the wait.
#pragma once

#include <sys/types.h>

namespace deeptrace::process {

class Attention {
 public:
  enum class Why : unsigned char { none, interrupt, end };

  /// From now on SIGINT asks for attention; SIGTERM and SIGHUP, and the death of `parent` where it is not 0, ask for
  /// the end. One at a time.
  explicit Attention(pid_t parent = 0);
  ~Attention();
  Attention(const Attention&) = delete;
  Attention& operator=(const Attention&) = delete;

  /// What was asked for and not answered yet.
  [[nodiscard]] static Why asked();
  /// Answers an interrupt; a request to end stays.
  static void answer();
};

}  // namespace deeptrace::process
