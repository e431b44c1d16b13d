// The bits of rflags (Intel SDM volume 1, 3.4.3).
#pragma once

#include <cstdint>

namespace deeptrace::isa {

enum Flag : std::uint32_t {
  kCarry = 1 << 0,
  kParity = 1 << 2,
  kAdjust = 1 << 4,
  kZero = 1 << 6,
  kSign = 1 << 7,
  kTrap = 1 << 8,
  kInterrupt = 1 << 9,
  kDirection = 1 << 10,
  kOverflow = 1 << 11,
  kNestedTask = 1 << 14,
  kResume = 1 << 16,
  kVirtual8086 = 1 << 17,
  kAlignmentCheck = 1 << 18,
  kIdentification = 1 << 21,
};

}  // namespace deeptrace::isa
