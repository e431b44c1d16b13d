// Notices when threads that take turns get nowhere, because each waits for another in a loop.
//
// The registers of a thread that spins come back to the same values again and again. A thread that counts, or whose
// loop reads something new, has others each time. Memory is not looked at: a loop that only adds to memory counts as
// waiting, so what is noticed is said as what was seen.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <map>

#include "state/registers.h"

namespace deeptrace::control {

class Progress {
 public:
  static constexpr std::uint64_t kTurns = 10'000;

  /// A thread is about to execute an instruction.
  void turn(pid_t thread, const state::RegisterSet& registers);
  /// Something else than an instruction: a signal came, a thread ended.
  void happened() { quiet_ = 0; }
  /// True once for each time that `kTurns` turns in a row were of threads whose registers repeat.
  [[nodiscard]] bool stuck();

 private:
  /// Finds a period: what is compared with is replaced after 1, 2, 4, … turns, so that one of them lies in the loop and
  /// a whole period before the next (Brent's algorithm).
  struct Spin {
    state::RegisterSet kept;
    std::uint64_t since = 0, limit = 1;  ///< turns of this thread
    bool repeats = false;
  };

  std::map<pid_t, Spin> spins_;
  std::uint64_t quiet_ = 0;  ///< turns of threads that repeat, since the last of one that does not
  bool said_ = false;
};

}  // namespace deeptrace::control
