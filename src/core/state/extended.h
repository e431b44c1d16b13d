// The registers beyond the integer core: vectors, masks, the floating-point unit.
#pragma once

#include <array>
#include <cstdint>

namespace deeptrace::state {

struct ExtendedSet {
  std::array<std::array<std::uint8_t, 64>, 32> vectors{};  ///< bytes in memory order; the low 16 are xmm
  unsigned vector_bits = 128;                              ///< that the processor has: 128, 256 or 512
  unsigned vector_count = 16;                              ///< 8 in 32-bit programs, 32 with AVX-512
  std::array<std::uint64_t, 8> masks{};
  bool has_masks = false;
  std::uint32_t mxcsr = 0;
  std::array<std::array<std::uint8_t, 10>, 8> x87{};  ///< st(0) to st(7)
  std::uint8_t x87_used = 0;                          ///< bit i: st(i) holds a value
  std::uint16_t x87_control = 0, x87_status = 0;
  friend bool operator==(const ExtendedSet&, const ExtendedSet&) = default;
};

}  // namespace deeptrace::state
