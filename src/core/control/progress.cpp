#include "control/progress.h"

namespace deeptrace::control {

void Progress::turn(pid_t thread, const state::RegisterSet& registers) {
  constexpr std::uint64_t kLongest = 4096;
  Spin& spin = spins_[thread];
  ++spin.since;
  if (registers == spin.kept) {
    spin.repeats = true;
    spin.since = 0;
  } else if (spin.since >= spin.limit) {
    spin.kept = registers;
    spin.since = 0;
    // A loop that was left: look for the next one from its beginning.
    spin.limit = spin.repeats || spin.limit >= kLongest ? 1 : spin.limit * 2;
    spin.repeats = false;
  }
  if (!spin.repeats) said_ = false;
  quiet_ = spin.repeats ? quiet_ + 1 : 0;
}

bool Progress::stuck() {
  if (said_ || quiet_ < kTurns) return false;
  return said_ = true;
}

}  // namespace deeptrace::control
