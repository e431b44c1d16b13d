// What any source of machine state offers: a live thread, a core file, later a position in a recording.
// Everything that looks at a program (expressions, memory, frames, what an instruction will touch) reads it
// through this, and so works on all of them.
#pragma once

#include <cstdint>
#include <cstring>
#include <optional>
#include <span>
#include <string_view>

#include "arch/machine.h"
#include "isa/instruction.h"
#include "state/extended.h"
#include "state/registers.h"

namespace deeptrace::state {

/// Whose bytes a memory read gives: where the tool itself lies over the program's bytes (a planted stop), the
/// program's own are given.
enum class Provenance : std::uint8_t { program, as_in_memory };

/// One piece of a batched read.
struct MemoryRequest {
  std::uint64_t address = 0;
  std::span<std::uint8_t> into;
  std::size_t got = 0;  ///< bytes that could be read, from the start
};

class StateView {
 public:
  virtual ~StateView() = default;
  [[nodiscard]] virtual isa::Mode mode() const = 0;
  [[nodiscard]] virtual const RegisterSet& registers() const = 0;
  /// Bits by Reg: whose values are known. In a caller's frame those that nobody kept are not.
  [[nodiscard]] virtual std::uint32_t known_registers() const { return ~std::uint32_t(0); }
  /// Why the others are not, as the end of "unknown: ...".
  [[nodiscard]] virtual std::string_view why_unknown() const { return "nobody kept it for this frame"; }
  /// Vectors and the floating-point unit; nothing where they are not known.
  [[nodiscard]] virtual std::optional<ExtendedSet> extended() const { return std::nullopt; }
  /// What all processors have of it: the floating-point unit, xmm0 to xmm15, mxcsr. Less work, where that matters.
  [[nodiscard]] virtual std::optional<ExtendedSet> legacy() const { return extended(); }
  /// Reads all pieces; each says how much of it there was.
  virtual void read_memory(std::span<MemoryRequest> requests, Provenance provenance) const = 0;

  /// What keeps memory from being read, as the end of "memory at 0x10 ...".
  [[nodiscard]] virtual std::string_view why_unreadable(std::uint64_t /*address*/) const { return "cannot be read"; }

  /// One piece; returns the bytes read.
  std::size_t read_memory(std::uint64_t address, std::span<std::uint8_t> into) const {
    MemoryRequest request{address, into, 0};
    read_memory({&request, 1}, Provenance::program);
    return request.got;
  }
  /// A word of the mode's width; nothing where it cannot be read.
  [[nodiscard]] std::optional<std::uint64_t> word_at(std::uint64_t address) const {
    std::uint8_t bytes[8] = {};
    const std::size_t size = arch::machine_of(mode()).word;
    if (read_memory(address, {bytes, size}) != size) return std::nullopt;
    std::uint64_t value = 0;
    std::memcpy(&value, bytes, sizeof value);
    return value;
  }
};

}  // namespace deeptrace::state
