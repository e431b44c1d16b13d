// How to wait for a thread that was resumed: asleep, or, where stops follow each other closely, awake.
//
// Falling asleep and being woken costs more than the few microseconds that a program runs between two stops in a loop.
// So after stops that came quickly the next wait asks the kernel again and again for a while before it sleeps. That
// takes a processor of its own: it is not done where the program's threads could use it.
#pragma once

#include <sched.h>

#include <chrono>
#include <cstddef>

namespace deeptrace::process {

class Patience {
 public:
  Patience() {
    cpu_set_t set;
    CPU_ZERO(&set);
    if (::sched_getaffinity(0, sizeof set, &set) == 0) processors_ = static_cast<std::size_t>(CPU_COUNT(&set));
  }

  /// A wait begins while so many threads of the program run.
  void begin(std::size_t running) {
    if (processors_ == 1) return;  // who asks again and again keeps it from running
    start_ = Clock::now();
    awake_ = quick_ >= kQuick && running < processors_;
  }
  /// Whether to ask again without sleeping.
  [[nodiscard]] bool awake() {
    if (awake_) awake_ = Clock::now() - start_ < kLongest;
    return awake_;
  }
  /// What was waited for has come.
  void end() {
    if (processors_ == 1) return;
    const bool quick = Clock::now() - start_ < kLongest;
    quick_ = quick ? quick_ + (quick_ < kQuick ? 1 : 0) : 0;
  }

 private:
  using Clock = std::chrono::steady_clock;
  static constexpr std::chrono::microseconds kLongest{50};  // some three times a wake-up
  static constexpr unsigned kQuick = 3;                     // quick ones in a row, before it is believed

  std::size_t processors_ = 1;  ///< that we may use
  Clock::time_point start_;
  unsigned quick_ = 0;
  bool awake_ = false;
};

}  // namespace deeptrace::process
