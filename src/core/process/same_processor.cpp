#include "process/same_processor.h"

namespace deeptrace::process {

SameProcessor::SameProcessor(pid_t thread) : thread_(thread) {
  useful_ = ::sched_getaffinity(0, sizeof own_, &own_) == 0 && CPU_COUNT(&own_) > 1;
}

void SameProcessor::together() {
  if (together_ || !useful_) return;
  const int here = ::sched_getcpu();
  if (here < 0 || ::sched_getaffinity(thread_, sizeof theirs_, &theirs_) != 0 || !CPU_ISSET(here, &theirs_)) return;
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(here, &one);
  if (::sched_setaffinity(thread_, sizeof one, &one) != 0) return;
  ::sched_setaffinity(0, sizeof one, &one);
  together_ = true;
}

void SameProcessor::apart() {
  if (!together_) return;
  ::sched_setaffinity(thread_, sizeof theirs_, &theirs_);
  ::sched_setaffinity(0, sizeof own_, &own_);
  together_ = false;
}

}  // namespace deeptrace::process
