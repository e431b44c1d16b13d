// The instruction set as data: what the .isa files say, in the form that the decoder, the text, the effects and
// the explanations read. Nothing outside this directory knows an opcode.
//
// Two levels: an encoding Row (opcode bytes, operand kinds, features) names an Operation (sentence, flags,
// control flow). The tables are generated at build time by generate_table.py; x86.isa explains the notation.
#pragma once

#include <cstdint>
#include <span>
#include <string_view>

#include "isa/register.h"

namespace deeptrace::isa {

/// Where an instruction may take control.
enum class ControlFlow : std::uint8_t { next, jump, conditional, call, return_, trap, system };

/// What an operation does to the flags: masks of rflags bits (Intel SDM volume 1, 3.4.3).
struct FlagUse {
  std::uint16_t read = 0, written = 0, undefined = 0, cleared = 0, set = 0;
};

struct Operation {
  std::string_view name;
  std::string_view sentence;  ///< {0}, {1} … stand for the operands in order, {v} for the operand size in bits
  ControlFlow flow;
  FlagUse flags;
};

/// Where an operand is encoded or implied.
enum class Source : std::uint8_t {
  rm,                  ///< ModRM.rm: register or memory
  reg,                 ///< ModRM.reg
  opcode,              ///< the opcode's low three bits
  vvvv,                ///< VEX.vvvv
  immediate,           ///< as wide as its field
  immediate_signed,    ///< one byte, sign-extended to the operand size
  relative,            ///< a branch displacement from the next instruction
  absolute,            ///< an address in the instruction (memory)
  far,                 ///< a selector and an offset
  fixed,               ///< a register that the opcode implies
  one,                 ///< the constant 1
  string_source,       ///< memory at rsi, or as many of them as rcx says when repeated
  string_destination,  ///< memory at es:rdi, likewise
  push,                ///< the stack slots below rsp that get pushed
  pop,                 ///< the stack slots at rsp that get popped
  enter,               ///< the stack slots that `enter` fills
  leave,               ///< the slot at rbp
  xlat,                ///< memory at rbx + al
};

/// How wide an operand is.
enum class Width : std::uint8_t {
  none,
  b8,
  b16,
  b32,
  b64,
  b128,
  high64,          ///< the upper half of 128 bits; 64 bits in memory
  operand,         ///< the operand size: 16, 32 or 64
  operand32,       ///< the operand size but at most 32
  operand_twice,   ///< two of the operand size
  rexw,            ///< 64 with REX.W or VEX.W, else 32
  address,         ///< the address size
  stack,           ///< the stack pointer's size
  native,          ///< 64 in 64-bit mode, else 32; for memory: an address only, nothing is accessed
  far_pointer,     ///< 16 bits more than the operand size
  table_register,  ///< 16 bits more than the native size
  low16_of_32,     ///< a 32-bit register of which 16 bits are read
  stack_slots,     ///< that many slots of the operand size
};

struct OperandKind {
  Source source;
  RegisterFile file;
  std::uint8_t index;   ///< fixed: the register's number; push, pop: how many slots
  std::uint8_t offset;  ///< bits above the register's lowest
  Width width;
};

/// bit 0: read, bit 1: written, bit 2: not always (a condition decides).
enum class Access : std::uint8_t { none = 0, read = 1, write = 2, read_write = 3, may_write = 6, read_may_write = 7 };
constexpr bool reads(Access a) { return (static_cast<unsigned>(a) & 1) != 0; }
constexpr bool writes(Access a) { return (static_cast<unsigned>(a) & 2) != 0; }
constexpr bool only_perhaps(Access a) { return (static_cast<unsigned>(a) & 4) != 0; }

struct OperandUse {
  std::uint8_t kind;  ///< index of an OperandKind
  Access access;
};

/// The size of an immediate field.
enum class Field : std::uint8_t { none, bytes1, bytes2, operand32, operand, branch, far, address };

/// Properties of a row, as bits in the order of TRAITS in generate_table.py.
enum Trait : std::uint32_t {
  kFaults = 1 << 0,            ///< may fault by its values, not only by its addresses
  kPrivileged = 1 << 1,        ///< faults outside the kernel
  kNondeterministic = 1 << 2,  ///< the same state can give different results
  kShadow = 1 << 3,            ///< the next instruction runs before a single-step trap is taken
  kBitOffset = 1 << 4,         ///< a register's bit number also moves the memory address
  kRep = 1 << 5,               ///< rep repeats it rcx times
  kRepz = 1 << 6,              ///< repe and repne repeat it until a comparison decides
  kStack = 1 << 7,             ///< operand size 64 by default in 64-bit mode
  kNear = 1 << 8,              ///< operand size 64 always in 64-bit mode
  kGate = 1 << 9,              ///< its immediate names an interrupt gate
  kSerializing = 1 << 10,
  kAligned = 1 << 11,    ///< a memory operand must be aligned to its size
  kFloat = 1 << 12,      ///< may raise a floating-point exception
  kLock = 1 << 13,       ///< the lock prefix is allowed with a memory destination
  kFlagImage = 1 << 14,  ///< the memory it writes is a copy of the flags
};

struct Row {
  std::uint16_t operation;
  std::uint16_t mnemonic;
  std::uint16_t operands_at;   ///< index of the first OperandUse
  std::uint8_t shown;          ///< operands that the text shows
  std::uint8_t operand_count;  ///< shown and hidden ones
  Field immediates[2];
  std::uint32_t traits;
};

/// Views over the whole table, in file order.
std::span<const Row> rows();
const Operation& operation_of(const Row& row);
std::string_view mnemonic_of(const Row& row);
std::span<const OperandUse> uses_of(const Row& row);
const OperandKind& kind_of(OperandUse use);

}  // namespace deeptrace::isa
