// Changing a state: only a live program can be changed.
#pragma once

#include <cstdint>
#include <span>

#include "isa/register.h"

namespace deeptrace::state {

class StateEdit {
 public:
  virtual ~StateEdit() = default;
  /// Writes the low bits of a register, `part.width` of them from `bytes` in memory order. False when it cannot be
  /// written.
  virtual bool write_register(isa::RegisterPart part, std::span<const std::uint8_t> bytes) = 0;
  /// Sets the flags register. False when it cannot be set.
  virtual bool write_flags(std::uint64_t flags) = 0;
  /// Writes memory whatever its protection.
  virtual bool write_memory(std::uint64_t address, std::span<const std::uint8_t> bytes) = 0;
};

}  // namespace deeptrace::state
