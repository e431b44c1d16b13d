// What the operations of the integer core compute: from the values of an instruction's operands and flags to their
// values afterwards.
//
// The line `does NAME` of an operation in the .isa files names one of these functions. They know widths and values
// only; where the operands lie, which of them are written, and which flags change is the table's business, and
// state/execute.h puts both together. Facts: Intel SDM volume 2, "Operation" of each instruction.
#pragma once

#include <array>
#include <cstdint>

namespace deeptrace::isa {

/// What a processor raises instead of carrying an instruction out (Intel SDM volume 3, 6.3.1).
enum class Exception : std::uint8_t { none, divide, overflow, bound, invalid, general_protection };

/// Memory wider than 8 bytes, as bytes in memory order: what `enter` fills is the most, 32 slots of 8 bytes.
using Block = std::array<std::uint8_t, 256>;

/// One instruction being carried out. Operands stand in the order of isa/operand.h; those that the table calls written
/// are stored back afterwards, the hidden ones first and the first one last.
struct Computation {
  std::array<std::uint64_t, 12> value;  ///< registers, memory up to 8 bytes, immediates cut to 64 bits, addresses
                                        ///< (of memory that is not accessed), absolute targets
  std::array<std::uint16_t, 12> bits;   ///< their widths
  Block block;                          ///< the bytes of an operand wider than 8 bytes, before and after
  Block frame;                          ///< the bytes of memory after the third operand (the outer frames of `enter`)
  std::uint64_t address;                ///< of the last memory operand
  std::uint64_t flags;                  ///< rflags
  std::uint64_t next;                   ///< the address after the instruction, then where control goes on
  std::uint16_t undefined_flags = 0;    ///< beyond those of the table
  std::uint16_t kept = 0;               ///< a bit for each operand that is not stored after all
  std::uint16_t undefined = 0;          ///< a bit for each operand whose value no manual tells
  bool holds = false;                   ///< whether the operation's condition holds
  bool keeps_flags = false;             ///< no flag changes after all
  bool whole_flags = false;             ///< `flags` is right as a whole, beyond what the table calls written
  std::uint8_t slot = 8;                ///< bytes of a stack slot
  Exception exception = Exception::none;
};

using Meaning = void (*)(Computation&);

namespace meaning {

using Function = void(Computation&);

Function nothing, copy, copy_vector, copy_signed, reverse_bytes, exchange, widen, spread_sign, choose, set;
Function add, adc, sub, sbb, cmp, inc, dec, neg, xadd, compare_exchange, compare_exchange_pair, adcx, adox;
Function bit_and, bit_or, bit_xor, bit_not, test;
Function mul_byte, mul, imul_byte, imul_wide, imul_two, imul_three, div_byte, div, idiv_byte, idiv, mulx;
Function rol, ror, rcl, rcr, shl, shr, sar, shld, shrd, shlx, shrx, sarx, rorx;
Function bt, bts, btr, btc, bsf, bsr, tzcnt, lzcnt, popcnt, crc32;
Function andn, bextr, blsr, blsmsk, blsi, bzhi, pext, pdep;
Function push, push_segment, pop, push_all, pop_all, push_flags, pop_flags, enter, leave;
Function call, jump, jump_if, loop, loope, loopne, jump_if_zero, return_, return_release, trap_overflow, bound, invalid;
Function movs, cmps, stos, lods, scas, xlat;
Function cmc, sahf, lahf, salc, daa, das, aaa, aas, aam, aad, arpl;

}  // namespace meaning

}  // namespace deeptrace::isa
