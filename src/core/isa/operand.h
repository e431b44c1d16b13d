// The operands of a decoded instruction in full: shown ones first, then those that the opcode implies.
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <type_traits>

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

/// A recipe in eight bytes and without its displacement, as operands keep it. Register numbers have 1 added; 0 is
/// absent.
struct PackedRecipe {
  static constexpr std::uint8_t kInstructionPointer = 17;  ///< of `base`

  std::uint8_t base = 0;              ///< a general register or kInstructionPointer; as wide as the address
  std::uint8_t index = 0;             ///< a general register, or a vector register when `index_bytes` is above 8
  std::uint8_t index_bytes = 0;       ///< the index register's width, bytes
  std::uint8_t bit_number = 0;        ///< a general register as wide as the operand
  std::uint8_t segment : 7 = 0;       ///< a Segment
  std::uint8_t forced : 1 = 0;        ///< by a prefix
  std::uint8_t address_size : 4 = 0;  ///< bytes; of memory only
  std::uint8_t scale : 4 = 0;         ///< 1, 2, 4 or 8; of memory only
  std::int16_t hidden_displacement = 0;

  [[nodiscard]] bool has_vector_index() const { return index_bytes > 8; }
  /// True when that register, in full or in part, is the base.
  [[nodiscard]] bool has_base(General base_register) const { return base == base_register + 1; }
  /// True when the displacement alone is the address.
  [[nodiscard]] bool is_absolute() const { return base == 0 && index == 0; }
};

/// 32 bytes without gaps: comparing them compares everything.
struct Operand {
  enum class Kind : std::uint8_t { none, reg, memory, immediate, target, far };

  Kind kind = Kind::none;
  Access access = Access::none;
  bool hidden : 1 = false;         ///< implied by the opcode, not in the text
  bool repeated : 1 = false;       ///< string memory under a repeat prefix: one such piece for each repetition
  bool stack_slot : 1 = false;     ///< memory that a push, pop, call or return touches
  bool sign_extended : 1 = false;  ///< an immediate that the processor extends with its sign
  bool unknown_size : 1 = false;   ///< memory whose extent more state than the registers decides (xsave)
  std::uint8_t spare : 3 = 0;      ///< nothing: leaves no gap
  std::uint8_t broadcast = 1;      ///< memory: how often the one element is used (EVEX broadcast)
  std::uint16_t elements = 1;      ///< memory: how many separate elements a vector index picks, each `width` bits
  std::uint16_t width = 0;         ///< bits read or written (of a register: those that count); 0: an address only
  RegisterPart reg;
  std::uint16_t selector = 0;  ///< far: the code segment
  PackedRecipe recipe;         ///< memory
  /// immediate: the value, sign- or zero-extended as the processor does; target: bytes from the instruction's
  /// start; far: the offset, with the selector in `selector`; memory: the displacement.
  std::int64_t value = 0;

  /// How the address of memory is computed.
  [[nodiscard]] MemoryRecipe memory() const;
};
static_assert(sizeof(Operand) == 32 && std::has_unique_object_representations_v<Operand>);

struct Operands {
  /// So many are always there; those from `count` up are empty then. Nearly all instructions have no more: who takes
  /// this many needs no loop.
  static constexpr std::size_t kUsual = 3;

  union {
    std::array<Operand, 12> items;  ///< those from the larger of `count` and kUsual up are not initialised
  };
  std::uint8_t shown = 0;
  std::uint8_t count = 0;

  Operands() {}  // NOLINT: the items are made as they are counted

  [[nodiscard]] std::span<Operand> items_so_far() { return {items.data(), count}; }
  [[nodiscard]] std::span<const Operand, kUsual> usual() const { return std::span(items).first<kUsual>(); }
  [[nodiscard]] const Operand* begin() const { return items.data(); }
  [[nodiscard]] const Operand* end() const { return items.data() + count; }
  [[nodiscard]] const Operand& operator[](std::size_t i) const { return items[i]; }
};

/// The register that an operand of Source::fixed stands for; the whole of it where the instruction decides the width.
inline RegisterPart implied_register(const OperandKind& kind) {
  const unsigned bits = fixed_bits(kind.width);
  return {kind.file, kind.index, kind.offset, static_cast<std::uint16_t>(bits != 0 ? bits : 64)};
}

/// True for a register, or part of one: the same that `part` is of.
inline bool is_register(const Operand& operand, RegisterPart part) {
  return operand.kind == Operand::Kind::reg && operand.reg.file == part.file && operand.reg.index == part.index;
}
/// The same by the number of a general register.
inline bool is_register(const Operand& operand, General number) {
  return is_register(operand, RegisterPart{RegisterFile::general, number, 0, 0});
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
