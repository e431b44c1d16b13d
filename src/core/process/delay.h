// Places at which a test makes the tracer slow, to try what the program does meanwhile.
//
// A build with DEEPTRACE_DELAYS (tests/CMakeLists.txt: deeptrace_delayed) sleeps at the place that the environment
// variable DEEPTRACE_DELAY names, as `PLACE:MICROSECONDS`. Everywhere else nothing is left of it.
#pragma once

#ifdef DEEPTRACE_DELAYS
#include <unistd.h>

#include <cstdlib>
#include <string>
#endif

namespace deeptrace::process {

enum class Delay : unsigned char { seize, interrupt, held, status, adopt, plant, uncover, cover, resume, step, detach };

#ifdef DEEPTRACE_DELAYS
inline void delay_at(Delay place) {
  static constexpr const char* kNames[] = {"seize",   "interrupt", "held",   "status", "adopt", "plant",
                                           "uncover", "cover",     "resume", "step",   "detach"};
  const char* const wanted = std::getenv("DEEPTRACE_DELAY");
  const std::string name = std::string(kNames[static_cast<unsigned>(place)]) + ":";
  if (wanted != nullptr && std::string(wanted).starts_with(name))
    ::usleep(static_cast<useconds_t>(std::atoi(wanted + name.size())));
}
#else
inline void delay_at(Delay /*place*/) {}
#endif

}  // namespace deeptrace::process
