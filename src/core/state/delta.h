// What changed between two moments of a thread. One type serves steps, hits and recordings.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include "state/extended.h"
#include "state/registers.h"

namespace deeptrace::state {

struct RegisterChange {
  Reg reg = Reg::rax;
  std::uint64_t before = 0;
  std::uint64_t after = 0;
};

/// A register beyond the integer core that changed: a vector at the width that holds all of what changed (128, 256 or
/// 512 bits), a mask, a register or a status word of the floating-point unit.
///
/// Registers of the unit are counted from the top of its stack as that is afterwards; `before` is what the same
/// register held, by whatever name.
struct WideChange {
  isa::RegisterPart part;
  std::array<std::uint8_t, 64> before{}, after{};  ///< in memory order
  // Of the unit's registers:
  std::uint8_t was_index = 0;                ///< from the top of the stack as that was before
  bool was_empty = false, is_empty = false;  ///< it held no value

  [[nodiscard]] std::size_t size() const { return part.width / 8U; }  ///< bytes
};

/// A general register at the width that an instruction wrote it, whether its value changed or not.
struct WrittenRegister {
  isa::RegisterPart part;
  std::uint64_t before = 0, after = 0;  ///< at that width
  /// The whole register before, where more of it changed than the part: a write of 32 bits clears the upper half.
  std::optional<std::uint64_t> whole_before;
};

/// The general registers that an instruction writes, at the width that it writes: first those that its text names. The
/// stack pointer of push, call and the like is not among them.
std::vector<isa::RegisterPart> written_registers(const isa::Instruction& instruction);

/// "ymm3", "k1", "st(0)", "mxcsr".
std::string_view name_of(const WideChange& change);

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
  std::vector<WrittenRegister> written;   ///< of one instruction, where it is known
  std::vector<WideChange> wide;
  std::vector<MemoryChange> memory;
  std::vector<std::uint8_t> bytes;
  std::uint64_t flags_before = 0, flags_after = 0;

  void clear();
  /// Adds the registers that differ, and the flags.
  void compare(const RegisterSet& before, const RegisterSet& after);
  void compare(const ExtendedSet& before, const ExtendedSet& after);
  /// Names the changes of vector and mmx registers as an instruction wrote them: `ymm0` also where only the low half
  /// has another value now.
  void name_as(std::span<const isa::RegisterPart> parts);
  /// The general registers that an instruction wrote.
  void add_written(std::span<const isa::RegisterPart> parts, const RegisterSet& before, const RegisterSet& after);
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
