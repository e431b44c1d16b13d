// Decoding: from bytes to a compact instruction.
//
//   const Instruction i = decode(bytes, Mode::bits64);
//   if (!i) …                      // no instruction there: show one byte and go on after it
//   next = address + i.length;
//
// A plain function over bytes: no allocation, locks, exceptions, thread-local data or C library calls, so it can
// run anywhere, inside a traced program too. It never reads outside the given bytes. Operands (isa/operand.h),
// text (isa/text.h) and effects (isa/effects.h) are worked out on request from the 32 bytes that it returns.
#pragma once

#include <cstdint>
#include <span>

#include "arch/machine.h"
#include "isa/table.h"

namespace deeptrace::isa {

using arch::Mode;

/// No instruction is longer (Intel SDM volume 2, 2.3.11).
inline constexpr unsigned kLongestInstruction = 15;

/// Prefix bits of Instruction::prefixes. Segment prefixes: the last one counts, kSegmentShift holds its number + 1.
enum Prefix : std::uint16_t {
  kPrefixLock = 1 << 0,
  kPrefixRep = 1 << 1,          ///< F3, and it came after any F2
  kPrefixRepne = 1 << 2,        ///< F2, and it came after any F3
  kPrefixOperandSize = 1 << 3,  ///< 66
  kPrefixAddressSize = 1 << 4,  ///< 67
  kPrefixMandatory = 1 << 5,    ///< the 66, F2 or F3 is part of the opcode
  kPrefixVex = 1 << 6,
  kPrefixMode64 = 1 << 7,  ///< decoded in 64-bit mode
  kSegmentShift = 8,       // bits 8 to 10
  kPrefixEvex = 1 << 11,
  kPrefixXop = 1 << 12,
  kPrefixVendor = 1 << 13,  ///< makers differ here; this is read as Intel's processors do (see vendor_difference)
};

/// Bits of Instruction::rex.
inline constexpr std::uint8_t kRexB = 1, kRexX = 2, kRexR = 4, kRexW = 8;

/// Fields of Instruction::vector and Instruction::evex.
enum VectorField : std::uint8_t {
  kVectorRegister = 0x1f,  ///< vector: VEX.vvvv and EVEX.V' as a register number
  kVectorLengthShift = 5,  ///< vector, two bits: 0, 1, 2 for 128, 256, 512 bits, or the rounding mode
  kVectorHighReg = 0x80,   ///< vector: the register of ModRM.reg has 16 added
  kEvexMask = 7,           ///< evex: the mask register, 0 for none
  kEvexBroadcast = 8,      ///< evex: broadcast of a memory operand, rounding or no exceptions
  kEvexZero = 0x10,        ///< evex: masked elements become 0
};

struct Instruction {
  std::uint64_t immediate = 0;    ///< first immediate, branch displacement or absolute address, zero-extended;
                                  ///< a second immediate stands in the bytes above the first
  std::int32_t displacement = 0;  ///< of the ModRM memory operand, sign-extended, and multiplied where EVEX does so
  std::uint16_t row = 0;          ///< index into rows()
  std::uint16_t prefixes = 0;     ///< Prefix bits
  std::uint8_t length = 0;        ///< bytes; 0 when there is no instruction
  // Where the fields lie, in bytes from the start; 0 means absent (nothing but a prefix or opcode stands at 0).
  std::uint8_t opcode_at = 0;  ///< after prefixes, REX, VEX; the byte that follows an escape such as 0F
  std::uint8_t modrm_at = 0;
  std::uint8_t displacement_at = 0;
  std::uint8_t displacement_size = 0;  ///< bytes
  std::uint8_t immediate_at = 0;
  std::uint8_t immediate_size[2] = {0, 0};  ///< bytes
  std::uint8_t opcode = 0;                  ///< the last opcode byte
  std::uint8_t modrm = 0;  ///< with mod 3 where mod means nothing (moves of control and debug registers)
  std::uint8_t sib = 0;
  std::uint8_t vector = 0;        ///< VectorField bits of VEX, EVEX and XOP
  std::uint8_t operand_size = 0;  ///< bytes: 2, 4 or 8
  std::uint8_t address_size = 0;  ///< bytes: 2, 4 or 8
  std::uint8_t evex = 0;          ///< VectorField bits of EVEX
  std::uint8_t rex = 0;           ///< 0x40 when present, and W R X B as bits 3 to 0, from REX, VEX, EVEX or XOP

  explicit operator bool() const { return length != 0; }
  [[nodiscard]] Mode mode() const { return (prefixes & kPrefixMode64) != 0 ? Mode::bits64 : Mode::bits32; }
  /// True when its memory is counted from its own end (Intel SDM volume 2, 2.2.1.6): it means something else elsewhere.
  [[nodiscard]] bool is_ip_relative() const { return mode() == Mode::bits64 && modrm_at != 0 && (modrm & 0xc7) == 5; }
  /// The segment register of an override prefix, or -1.
  [[nodiscard]] int segment_override() const { return ((prefixes >> kSegmentShift) & 7) - 1; }
  /// True for VEX, EVEX and XOP: the rest of a vector register that is written becomes 0.
  [[nodiscard]] bool is_vector_encoded() const { return (prefixes & (kPrefixVex | kPrefixEvex | kPrefixXop)) != 0; }
  /// True when rounding or exception suppression is asked for in the encoding.
  [[nodiscard]] bool has_rounding() const { return (evex & kEvexBroadcast) != 0 && modrm >= 0xc0; }
  /// The vector length in bits: 128, 256 or 512.
  [[nodiscard]] unsigned vector_bits() const {
    return has_rounding() ? 512 : 128U << ((vector >> kVectorLengthShift) & 3);
  }
};
static_assert(sizeof(Instruction) == 32);

/// Decodes the instruction at the start of `bytes`. A result of length 0 means that no instruction of the table
/// stands there, or that the bytes end inside one.
Instruction decode(std::span<const std::uint8_t> bytes, Mode mode) noexcept;

/// The same into a place of the caller's; returns the length, 0 where no instruction stands. The quicker one for going
/// over much code: the next instruction can be looked at before this one has been written out.
unsigned decode(std::span<const std::uint8_t> bytes, Mode mode, Instruction& into) noexcept;

/// Decodes one instruction after the other, those that begin in the first `extent` bytes, into `into`, until that is
/// full or no instruction stands where the next should begin. What lies after the extent is part of the last
/// instruction at most. Returns how many there are. The quickest one.
std::size_t decode_run(std::span<const std::uint8_t> bytes, std::size_t extent, Mode mode,
                       std::span<Instruction> into) noexcept;

/// The same answer without the quick way that common instructions take: what tests compare it with.
Instruction decode_the_long_way(std::span<const std::uint8_t> bytes, Mode mode) noexcept;

/// The row of a decoded instruction.
inline const Row& row_of(const Instruction& instruction) { return tables::kRows[instruction.row]; }
inline const Operation& operation_of(const Instruction& instruction) { return operation_of(row_of(instruction)); }

/// Log2 of the factor of a one-byte displacement; 0 but for EVEX (Intel SDM volume 2, 2.7.5).
unsigned short_displacement_scale(const Instruction& instruction);

/// Where processors of different makers read the instruction differently, and which reading this is; empty where
/// they agree.
std::string_view vendor_difference(const Instruction& instruction);

/// How control goes on. `int 0x80` is a system call, other software interrupts are traps.
inline ControlFlow flow_of(const Instruction& instruction) {
  const Brief brief = brief_of(instruction.row);
  if (brief.is_gate() && (instruction.immediate & 0xff) == 0x80) return ControlFlow::system;
  return brief.flow();
}

/// True when a repeat prefix repeats this instruction.
inline bool is_repeated(const Instruction& instruction) {
  return (instruction.prefixes & (kPrefixRep | kPrefixRepne)) != 0 &&
         (row_of(instruction).traits & (kRep | kRepz)) != 0;
}

}  // namespace deeptrace::isa
