// Keeps a stepped thread and its tracer on one processor while instructions are stepped: handing over then needs no
// wake-up of another processor, which takes longer than the step itself.
//
// The program must not notice. Only a system call could tell it, so the thread gets its own set of processors back
// before it runs freely or enters the kernel.
#pragma once

#include <sched.h>
#include <sys/types.h>

namespace deeptrace::process {

class SameProcessor {
 public:
  explicit SameProcessor(pid_t thread);
  ~SameProcessor() { apart(); }
  SameProcessor(const SameProcessor&) = delete;
  SameProcessor& operator=(const SameProcessor&) = delete;

  /// Both on the processor where we are, if both may run there.
  void together();
  /// Both with the sets of processors that they had.
  void apart();

 private:
  pid_t thread_;
  cpu_set_t own_{}, theirs_{};
  bool useful_ = false;
  bool together_ = false;
};

}  // namespace deeptrace::process
