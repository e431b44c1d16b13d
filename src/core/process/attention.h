// Asking a tracer that waits for its program to pay attention: Ctrl-C, a request to end, the death of the process that
// started it.
//
// The request interrupts the wait; a timer makes sure that it does even when the signal came just before the wait.
#pragma once

#include <sys/types.h>

#include <array>
#include <csignal>

namespace deeptrace::process {

class Attention {
 public:
  enum class Why : unsigned char { none, interrupt, end };

  /// From now on SIGINT asks for attention; SIGTERM and SIGHUP, and the death of `parent` where it is not 0, ask for
  /// the end. One at a time; afterwards the signals do again what they did before.
  explicit Attention(pid_t parent = 0);
  ~Attention();
  Attention(const Attention&) = delete;
  Attention& operator=(const Attention&) = delete;

  /// What was asked for and not answered yet.
  [[nodiscard]] static Why asked();
  /// Answers an interrupt; a request to end stays.
  static void answer();

  /// While one lives, waits return (EINTR) every 40 milliseconds, so that somebody can look how the program does.
  class Beat {
   public:
    explicit Beat(bool wanted);
    ~Beat();
    Beat(const Beat&) = delete;
    Beat& operator=(const Beat&) = delete;

   private:
    bool wanted_;
  };

 private:
  static constexpr std::array kSignals = {SIGINT, SIGTERM, SIGHUP, SIGALRM};
  std::array<struct sigaction, kSignals.size()> earlier_{};  ///< what was done at them before
};

}  // namespace deeptrace::process
