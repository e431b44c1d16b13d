// The operands of a decoded instruction in full: shown ones first, then those that the opcode implies.
#pragma once

#include <array>
#include <cstdint>
#include <span>

#include "isa/instruction.h"

namespace deeptrace::isa {

/// How to compute a memory address from registers: segment base + base + index * scale + displacement, cut to
/// the address size. A recipe, not an address: it stays true for every state.
struct MemoryRecipe {
  RegisterPart segment;  ///< whose base is added; always present
  RegisterPart base;     ///< may be absent; rip stands for the address of the next instruction
  RegisterPart index;    ///< may be absent; a vector register for gathers: each element is an index of its own
  std::uint8_t scale = 1;
  std::uint8_t address_size = 8;  ///< bytes
  bool segment_forced = false;    ///< named by a prefix
  std::int64_t displacement = 0;
  /// Bytes that the address moves in addition to what the text shows: `pop [rsp+8]` counts rsp after the pop,
  /// a push counts from below rsp.
  std::int32_t hidden_displacement = 0;
  /// For bit tests: the register whose value, signed and divided by the operand's width, moves the address too.
  RegisterPart bit_number;

  /// The segment that is used without a prefix: ss with rsp and rbp as the base (Intel SDM volume 1, 3.7.4).
  [[nodiscard]] Segment default_segment() const {
    return base.file == RegisterFile::general && (base.index == kRsp || base.index == kRbp) ? kSs : kDs;
  }
  [[nodiscard]] bool is_ip_relative() const { return base.file == RegisterFile::instruction_pointer; }
  /// True when the displacement alone is the address.
  [[nodiscard]] bool is_absolute() const { return !base && !index; }
};

struct Operand {
  enum class Kind : std::uint8_t { none, reg, memory, immediate, target, far };

  Kind kind = Kind::none;
  Access access = Access::none;
  bool hidden = false;         ///< implied by the opcode, not in the text
  bool repeated = false;       ///< string memory under a repeat prefix: one such piece for each repetition
  bool stack_slot = false;     ///< memory that a push, pop, call or return touches
  bool sign_extended = false;  ///< an immediate that the processor extends with its sign
  bool unknown_size = false;   ///< memory whose extent more state than the registers decides (xsave)
  std::uint8_t broadcast = 1;  ///< memory: how often the one element is used (EVEX broadcast)
  std::uint8_t elements = 1;   ///< memory: how many separate elements a vector index picks, each `width` bits
  std::uint16_t width = 0;     ///< bits read or written (of a register: those that count); 0: an address only
  std::uint16_t selector = 0;  ///< far: the code segment
  RegisterPart reg;
  MemoryRecipe memory;
  /// immediate: the value, sign- or zero-extended as the processor does; target: bytes from the instruction's
  /// start; far: the offset, with the selector in `selector`.
  std::int64_t value = 0;
};

struct Operands {
  union {
    std::array<Operand, 12> items;  ///< those from `count` up are not initialised
  };
  std::uint8_t shown = 0;
  std::uint8_t count = 0;

  Operands() {}  // NOLINT: the items are made as they are counted

  [[nodiscard]] std::span<Operand> items_so_far() { return {items.data(), count}; }
  [[nodiscard]] const Operand* begin() const { return items.data(); }
  [[nodiscard]] const Operand* end() const { return items.data() + count; }
  [[nodiscard]] const Operand& operator[](std::size_t i) const { return items[i]; }
};

/// The register that an operand of Source::fixed stands for; the whole of it where the instruction decides the width.
inline RegisterPart implied_register(const OperandKind& kind) {
  const unsigned bits = fixed_bits(kind.width);
  return {kind.file, kind.index, kind.offset, static_cast<std::uint16_t>(bits != 0 ? bits : 64)};
}

/// Works out all operands.
Operands operands_of(const Instruction& instruction);

/// The address that a direct jump, call or branch goes to, for an instruction at `address`; false when it is not
/// a direct one.
inline bool direct_target(const Instruction& instruction, std::uint64_t address, std::uint64_t& target) {
  if (!brief_of(instruction.row).is_direct()) return false;
  const unsigned unused = 64 - instruction.immediate_size[0] * 8U;
  target = address + instruction.length +
           static_cast<std::uint64_t>(static_cast<std::int64_t>(instruction.immediate << unused) >> unused);
  if (instruction.mode() == Mode::bits32) target &= instruction.operand_size == 2 ? 0xffff : 0xffffffff;
  return true;
}

/// fixed_memory_address without its short cut.
bool surely_fixed_memory_address(const Instruction& instruction, std::uint64_t address, std::uint64_t& target);

/// The address that a RIP-relative or absolute memory operand names, for an instruction at `address`; false when
/// it has none or a register takes part in it.
inline bool fixed_memory_address(const Instruction& instruction, std::uint64_t address, std::uint64_t& target) {
  if (instruction.displacement_size < 2 && !brief_of(instruction.row).has_absolute()) return false;
  return surely_fixed_memory_address(instruction, address, target);
}

/// True for what assemblers fill gaps with: any nop, a register exchanged with itself, and one that gets its own value
/// by `lea`.
bool does_nothing(const Instruction& instruction);

}  // namespace deeptrace::isa
