// What changed between two moments of a thread. One type serves steps, hits and recordings.
#pragma once

#include <cstdint>
#include <vector>

#include "state/registers.h"

namespace deeptrace::state {

struct RegisterChange {
  Reg reg = Reg::rax;
  std::uint64_t before = 0;
  std::uint64_t after = 0;
};

struct VectorChange {
  std::uint8_t index = 0;  ///< of xmm
  std::array<std::uint8_t, 16> before{}, after{};
};

/// Memory that was written, whether its value changed or not. The bytes stand in Delta::bytes: `size` bytes before,
/// then `size` bytes after.
struct MemoryChange {
  std::uint64_t address = 0;
  std::uint64_t size = 0;    ///< bytes
  std::size_t at = 0;        ///< index into Delta::bytes
  bool before_known = true;  ///< false: it could not be read then (a page that did not exist yet)
  bool after_known = true;
};

/// The number that up to eight bytes in memory order stand for.
inline std::uint64_t number_of(const std::uint8_t* bytes, std::size_t size) {
  std::uint64_t value = 0;
  for (std::size_t i = 0; i < size && i < 8; ++i) value |= std::uint64_t(bytes[i]) << (8 * i);
  return value;
}

/// Vectors keep their capacity from one use to the next, so that a long run allocates nothing per step.
struct Delta {
  std::vector<RegisterChange> registers;  ///< without rip and rflags, in the order of Reg
  std::vector<VectorChange> vectors;
  std::vector<MemoryChange> memory;
  std::vector<std::uint8_t> bytes;
  std::uint64_t flags_before = 0, flags_after = 0;
  std::uint32_t mxcsr_before = 0, mxcsr_after = 0;

  void clear();
  /// Adds the registers that differ, and the flags.
  void compare(const RegisterSet& before, const RegisterSet& after);
  void compare(const VectorSet& before, const VectorSet& after);
  /// True when no register, flag, vector or memory changed.
  [[nodiscard]] bool empty() const;
  /// Room for one memory change: returns its place, both halves zero.
  MemoryChange& add_memory(std::uint64_t address, std::uint64_t size);

  [[nodiscard]] const std::uint8_t* before(const MemoryChange& change) const { return bytes.data() + change.at; }
  [[nodiscard]] const std::uint8_t* after(const MemoryChange& change) const {
    return bytes.data() + change.at + change.size;
  }
  [[nodiscard]] std::uint8_t* before(const MemoryChange& change) { return bytes.data() + change.at; }
  [[nodiscard]] std::uint8_t* after(const MemoryChange& change) { return bytes.data() + change.at + change.size; }
};

}  // namespace deeptrace::state
