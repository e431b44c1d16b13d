// How the run of a program ended.
#pragma once

#include <cstdint>

namespace deeptrace::session {

struct RunEnd {
  enum class How : std::uint8_t {
    exited,
    killed,
    interrupted,
    detached,
    counted,  ///< ended by us: what was asked for is there
  };
  How how = How::exited;
  int number = 0;      ///< status or signal
  bool asked = false;  ///< somebody interrupted it
};

}  // namespace deeptrace::session
