// How the run of a program ended.
#pragma once

#include <cstdint>

namespace deeptrace::session {

struct RunEnd {
  enum class How : std::uint8_t { exited, killed, interrupted, detached };
  How how = How::exited;
  int number = 0;  ///< status or signal
};

}  // namespace deeptrace::session
