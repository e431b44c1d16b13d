// The instruction set as data: what the .isa files say, in the form that the decoder, the text, the effects and
// the explanations read. Nothing outside this directory knows an opcode.
//
// Two levels: an encoding Row (opcode bytes, operand kinds, features) names an Operation (sentence, flags,
// control flow). The tables are generated at build time by generate_table.py; x86.isa explains the notation.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <string_view>

#include "isa/meaning.h"
#include "isa/register.h"

namespace deeptrace::isa {

/// Where an instruction may take control.
enum class ControlFlow : std::uint8_t { next, jump, conditional, call, return_, trap, system };

/// What an operation does to the flags: masks of rflags bits (Intel SDM volume 1, 3.4.3).
struct FlagUse {
  std::uint16_t read = 0, written = 0, undefined = 0, cleared = 0, set = 0;
  bool kept_by_zero = false;  ///< a count of 0, the last operand's, leaves all of them as they are
};

struct Operation {
  std::string_view name;
  std::string_view sentence;  ///< {0}, {1} … stand for the operands in order, {v} for the operand size in bits
  std::string_view note;      ///< what people get wrong with it; may be empty
  ControlFlow flow;
  FlagUse flags;
  std::int8_t condition;  ///< the code of the condition that decides (see conditions()), or -1
  Meaning meaning;        ///< what it computes; nullptr outside the integer core
};

/// One of the sixteen conditions of jumps, sets and moves, by its four-bit code.
struct Condition {
  std::string_view name;   ///< as in mnemonics: "be"
  std::string_view words;  ///< "below or equal, unsigned (CF or ZF is 1)"
  std::uint16_t flags;     ///< the rflags bits that it reads
};

/// Where an operand is encoded or implied.
enum class Source : std::uint8_t {
  rm,                  ///< ModRM.rm: register or memory
  reg,                 ///< ModRM.reg
  opcode,              ///< the opcode's low three bits
  vvvv,                ///< VEX.vvvv
  is4,                 ///< the high four bits of an immediate byte
  immediate,           ///< as wide as its field
  immediate_low4,      ///< the low four bits of the byte whose high bits are a register
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
  display,             ///< the stack slots below rbp that a nested `enter` reads
  leave,               ///< the slot at rbp
  xlat,                ///< memory at rbx + al
  at_reg,              ///< memory at the address in ModRM.reg, in segment es
  at_ax,               ///< the cache line around the address in rax
  gather,              ///< memory whose index is a vector register: one element for each index
};

/// How wide an operand is.
enum class Width : std::uint8_t {
  none,
  b8,
  b16,
  b32,
  b64,
  b80,
  b128,
  b256,
  b512,
  b4096,
  vector,       ///< the vector length: 128, 256 or 512
  vector_half,  ///< half of it
  vector_fourth,
  vector_eighth,
  high64,     ///< the upper half of 128 bits; 64 bits in memory
  high96,     ///< the upper 96 of 128 bits
  high112,    ///< the upper 112 of 128 bits
  low96,      ///< the lower 96 of 128 bits
  high32,     ///< the upper 32 of 128 bits
  elements8,  ///< of a mask: as many bits as the vector length has elements of 8 bits
  elements16,
  elements32,
  elements64,
  operand,          ///< the operand size: 16, 32 or 64
  operand32,        ///< the operand size but at most 32
  operand_twice,    ///< two of the operand size
  rexw,             ///< 64 with REX.W or VEX.W, else 32
  address,          ///< the address size
  stack,            ///< the stack pointer's size
  native_value,     ///< 64 in 64-bit mode, else 32
  native,           ///< 64 in 64-bit mode, else 32; for memory: an address only, nothing is accessed
  far_pointer,      ///< 16 bits more than the operand size
  table_register,   ///< 16 bits more than the native size
  low16_of_32,      ///< a 32-bit register of which 16 bits are read
  stack_slots,      ///< that many slots of the operand size
  bounds,           ///< twice the native size
  tile,             ///< a matrix tile: 16 rows of 512 bits
  x87_environment,  ///< 14 bytes with 16-bit operands, else 28
  x87_state,        ///< 94 bytes with 16-bit operands, else 108
  unknown,          ///< decided by more state than the registers: the text knows no size
};

/// Bits of a width that is the same for every instruction; 0 for those that depend on it.
constexpr unsigned fixed_bits(Width width) {
  constexpr std::uint16_t kBits[] = {0, 8, 16, 32, 64, 80, 128, 256, 512, 4096};
  return width <= Width::b4096 ? kBits[static_cast<std::size_t>(width)] : 0;
}

/// Opcode maps, as MAPS of generator/notation.py numbers them.
enum Map : std::uint8_t {
  kOneByte,
  kMap0F,
  kMap0F38,
  kMap0F3A,
  kMap3dNow,
  kVex0F,
  kEvex0F = 8,
  kEvexM5 = 11,
  kXop8 = 13
};

struct OperandKind {
  Source source;
  RegisterFile file;
  std::uint8_t index;   ///< fixed: the register's number; push, pop: how many slots; gather: bytes of an index
  std::uint8_t offset;  ///< bits above the register's lowest; gather: how wide the index register is, see operand.cpp
  Width width;
};

/// bit 0: read, bit 1: written, bit 2: not always (a condition decides).
enum class Access : std::uint8_t {
  none = 0,
  read = 1,
  write = 2,
  read_write = 3,
  may_read = 5,
  may_write = 6,
  read_may_write = 7
};
constexpr bool reads(Access a) { return (static_cast<unsigned>(a) & 1) != 0; }
constexpr bool writes(Access a) { return (static_cast<unsigned>(a) & 2) != 0; }
constexpr bool only_perhaps(Access a) { return (static_cast<unsigned>(a) & 4) != 0; }

struct OperandUse {
  std::uint8_t kind;  ///< index of an OperandKind
  Access access;
};

/// The size of an immediate field.
enum class Field : std::uint8_t { none, bytes1, bytes2, bytes4, operand32, operand, branch, far, address };

/// Properties of a row; the generator numbers them as they stand here (generator/header.py).
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
  kAligned = 1 << 11,        ///< a memory operand must be aligned to its size
  kFloat = 1 << 12,          ///< may raise a floating-point exception
  kLock = 1 << 13,           ///< the lock prefix is allowed with a memory destination
  kFlagImage = 1 << 14,      ///< the memory it writes is a copy of the flags
  kX87 = 1 << 15,            ///< may change the floating-point unit's status word
  kX87Push = 1 << 16,        ///< the same, and the register stack grows by one
  kX87Pop = 1 << 17,         ///< the same, and it shrinks by one (two for the names that end in pp)
  kX87State = 1 << 18,       ///< writes all of the floating-point unit's registers
  kVectorState = 1 << 19,    ///< writes vector registers beyond its operands
  kUnknownExtent = 1 << 20,  ///< touches memory whose extent the registers do not tell
  kZeroUpper = 1 << 21,      ///< clears the bits above 128 of all vector registers
  kZeroAll = 1 << 22,        ///< clears all vector registers
  kFour = 1 << 23,           ///< reads four registers from a multiple of four up
  kPair = 1 << 24,           ///< writes the next register too
  kAlias = 1 << 25,          ///< assemblers write another encoding for the same text
  kSecond = 1 << 26,         ///< the text shows the second operand only
  kNoRip = 1 << 27,          ///< a RIP-relative address faults
  kRipOnly = 1 << 28,        ///< other than a RIP-relative address it does nothing
  kDistinct = 1 << 29,       ///< faults when registers coincide
  kNoSize = 1 << 30,         ///< the text shows no size for its memory
  kBlend = 1U << 31,         ///< its mask picks between sources: the old destination takes no part
};

/// What the text and the assembler form must know of a row beyond its operands; worked out by generator/rows.py.
enum Hint : std::uint32_t {
  kHintLoad = 1 << 0,          ///< a row with the roles of ModRM.rm and ModRM.reg exchanged says the same; here reg is
                               ///< the destination
  kHintStore = 1 << 1,         ///< the same, and rm is the destination
  kHintSizeInName = 1 << 2,    ///< the mnemonic tells the operand size
  kHintSuffix = 1 << 3,        ///< AT&T: memory gives the mnemonic a size suffix (b w l q)
  kHintBothSuffixes = 1 << 4,  ///< AT&T: source's and destination's size, as in movzbl
  kHintLengthSuffix = 1 << 5,  ///< AT&T: memory gives the mnemonic a vector length suffix (x y z)
  kHintFloatSuffix = 1 << 6,   ///< AT&T: memory gives the mnemonic a float suffix (s l t)
  kHintKeepsOrder = 1 << 7,    ///< AT&T: operands are not reversed
  kHintAlsoVex = 1 << 8,       ///< EVEX: the mnemonic exists with VEX too
  kHintAlsoEvex = 1 << 9,      ///< VEX: assemblers prefer EVEX for the mnemonic
  kHintOperandSize = 1 << 10,  ///< a shown operand tells the operand size
  kHintW = 1 << 11,            ///< the row asks for REX.W or VEX.W, or an operand tells it
  kHintWIgnored = 1 << 12,     ///< VEX.W means nothing
  kHintIntegerSuffix = 1 << 13,       ///< AT&T: memory gives the mnemonic the suffix of an x87 integer (s l ll)
  kHintAddressSize = 1 << 14,         ///< the mnemonic or a register operand tells the address size
  kHintLIgnored = 1 << 15,            ///< the vector length means nothing
  kHintShortRegister = 1 << 16,       ///< there is a shorter form with the register in the opcode
  kHintShortAccumulator = 1 << 17,    ///< there is a shorter form for al, ax, eax, rax
  kHintShortImmediate = 1 << 18,      ///< there is a shorter form for an immediate that fits one signed byte
  kHintRegFree = 1 << 20,             ///< ModRM.reg means nothing
  kHintRegistersElsewhere = 1 << 21,  ///< with registers only, assemblers take the row with the other W
  kHintShortIn32Bits = 1 << 24,       ///< the form with the register in the opcode exists in 32-bit mode only
  kHintRmFree = 1 << 23,              ///< ModRM.rm means nothing
  kHintWZero = 1 << 22,               ///< assemblers write W as 0
  kHintAbsoluteElsewhere = 1 << 25,   ///< 32-bit mode: the accumulator has a form for absolute addresses
  kHintTopElsewhere = 1 << 26,        ///< with st as both operands, assemblers take the row that names st first
  kHintShortOne = 1 << 19,            ///< there is a shorter form for the immediate 1
};

/// What EVEX.b means where no operand is memory (Intel SDM volume 2, 2.7.8).
enum class Rounding : std::uint8_t {
  suppress,  ///< no exceptions
  mode,      ///< the same, and a rounding mode in place of the vector length
  ignored,   ///< nothing: the conversion is exact
};

struct Row {
  std::uint16_t operation;
  std::uint16_t mnemonic;      ///< in Intel syntax
  std::uint16_t att_mnemonic;  ///< in AT&T syntax, without size suffix
  std::uint16_t operands_at;   ///< index of the first OperandUse
  std::uint8_t shown;          ///< operands that the text shows
  std::uint8_t operand_count;  ///< shown and hidden ones
  Field immediates[2];
  std::uint32_t traits;
  std::uint8_t feature;  ///< what the processor must have, see feature_of
  std::uint8_t map;      ///< a Map
  std::uint8_t opcode;
  std::uint8_t element;       ///< EVEX broadcast: log2 of an element's bytes; 0: none
  std::uint8_t mask_element;  ///< EVEX mask: bytes of the element that a bit stands for; 0: no mask
  std::uint8_t modes;         ///< bit 0: 32-bit mode has it, bit 1: 64-bit mode
  std::uint8_t memory;        ///< ModRM.rm: 0 memory or register, 1 memory only, 2 register only
  std::uint16_t encoding;     ///< see encoding_of
  Rounding rounding;          ///< EVEX: what the rounding bit of a form without memory asks for
  std::uint32_t hints;        ///< Hint bits
};

namespace tables {
extern const Row kRows[];
extern const std::size_t kRowCount;
extern const Operation kOperations[];
extern const OperandKind kOperandKinds[];
extern const OperandUse kOperandUses[];
extern const std::uint8_t kBriefs[];
}  // namespace tables

/// Views over the whole table, in file order.
inline std::span<const Row> rows() { return {tables::kRows, tables::kRowCount}; }
inline const Operation& operation_of(const Row& row) { return tables::kOperations[row.operation]; }
std::string_view mnemonic_of(const Row& row);
std::string_view att_mnemonic_of(const Row& row);
/// The processor feature that the row needs ("sse2", "avx512bw"); "none" for what every processor of the mode has.
std::string_view feature_of(const Row& row);
/// The opcode as manuals write it: "66 0F38 F6 /r", "VEX.01.66.0F38.W0 18 /r".
std::string_view encoding_of(const Row& row);
/// By code, 0 to 15.
std::span<const Condition> conditions();
/// Whether a condition holds with these flags (Intel SDM volume 1, appendix B).
bool condition_holds(unsigned code, std::uint64_t flags);
/// How much the instructions of a row that agree in prefixes, sizes and the shape of their address have in common
/// (isa/forms.h).
enum class Sharing : std::uint8_t {
  numbers,  ///< all but register numbers, displacement and immediate
  halves,   ///< the same but for some bits of them: 8-bit registers 4 to 7 are others without REX; the opcode has but
            ///< the low bits of a register
  values,   ///< all but displacement and immediate
  nothing,  ///< the immediate decides about more than a value
};

/// What going over much code asks of every instruction, in one byte a row.
struct Brief {
  std::uint8_t bits;

  [[nodiscard]] constexpr ControlFlow flow() const { return static_cast<ControlFlow>(bits & 7); }
  /// The immediate decides about its flow.
  [[nodiscard]] constexpr bool is_gate() const { return (bits & 8) != 0; }
  /// Its first operand is a direct target.
  [[nodiscard]] constexpr bool is_direct() const { return (bits & 0x10) != 0; }
  /// An address stands in the instruction.
  [[nodiscard]] constexpr bool has_absolute() const { return (bits & 0x20) != 0; }
  [[nodiscard]] constexpr Sharing sharing() const { return static_cast<Sharing>(bits >> 6); }
};
inline Brief brief_of(std::uint16_t row) { return {tables::kBriefs[row]}; }
inline std::span<const OperandUse> uses_of(const Row& row) {
  return {tables::kOperandUses + row.operands_at, row.operand_count};
}
inline const OperandKind& kind_of(OperandUse use) { return tables::kOperandKinds[use.kind]; }

}  // namespace deeptrace::isa
