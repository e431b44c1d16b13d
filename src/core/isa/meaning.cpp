#include "isa/meaning.h"

#include <bit>
#include <utility>

#include "isa/flags.h"

namespace deeptrace::isa::meaning {
namespace {

__extension__ using Wide = unsigned __int128;
__extension__ using SignedWide = __int128;
using Word = std::uint64_t;

Word ones(unsigned bits) { return bits >= 64 ? ~Word(0) : (Word(1) << bits) - 1; }
Word cut(Word value, unsigned bits) { return value & ones(bits); }
bool top_bit(Word value, unsigned bits) { return ((value >> (bits - 1)) & 1) != 0; }

Word extended(Word value, unsigned bits) {
  if (bits >= 64) return value;
  const Word sign = Word(1) << (bits - 1);
  return (cut(value, bits) ^ sign) - sign;
}
std::int64_t as_signed(Word value, unsigned bits) { return static_cast<std::int64_t>(extended(value, bits)); }

void put(Computation& c, Word flag, bool on) { c.flags = on ? c.flags | flag : c.flags & ~flag; }

/// ZF, SF and PF of a result.
void put_result_flags(Computation& c, Word result, unsigned bits) {
  put(c, kZero, cut(result, bits) == 0);
  put(c, kSign, top_bit(result, bits));
  put(c, kParity, std::popcount(result & 0xff) % 2 == 0);
}

Word sum(Computation& c, Word a, Word b, bool carry) {
  const unsigned bits = c.bits[0];
  a = cut(a, bits), b = cut(b, bits);
  const Wide whole = Wide(a) + b + Word(carry);
  const Word result = cut(static_cast<Word>(whole), bits);
  put_result_flags(c, result, bits);
  put(c, kCarry, (whole >> bits) != 0);
  put(c, kOverflow, top_bit(~(a ^ b) & (a ^ result), bits));
  put(c, kAdjust, ((a ^ b ^ result) & 0x10) != 0);
  return result;
}

Word difference(Computation& c, Word a, Word b, bool borrow) {
  const unsigned bits = c.bits[0];
  a = cut(a, bits), b = cut(b, bits);
  const Word result = cut(a - b - Word(borrow), bits);
  put_result_flags(c, result, bits);
  put(c, kCarry, Wide(a) < Wide(b) + Word(borrow));
  put(c, kOverflow, top_bit((a ^ b) & (a ^ result), bits));
  put(c, kAdjust, ((a ^ b ^ result) & 0x10) != 0);
  return result;
}

bool carry_of(const Computation& c) { return (c.flags & kCarry) != 0; }

/// The product of two values whose halves go to different places, with CF and OF as multiplications set them.
struct Halves {
  Word low, high;
};

Halves product(Computation& c, Word a, Word b, unsigned bits, bool with_sign) {
  Wide whole = 0;
  bool fits = false;
  if (with_sign) {
    const SignedWide value = SignedWide(as_signed(a, bits)) * as_signed(b, bits);
    fits = value == as_signed(static_cast<Word>(value), bits);
    whole = static_cast<Wide>(value);
  } else {
    whole = Wide(cut(a, bits)) * cut(b, bits);
    fits = (whole >> bits) == 0;
  }
  put(c, kCarry | kOverflow, !fits);
  return {cut(static_cast<Word>(whole), bits), cut(static_cast<Word>(whole >> bits), bits)};
}

struct Division {
  Word quotient, remainder;
  bool fits;
};

Division divide(Wide dividend, Word divisor, unsigned bits) {
  if (divisor == 0) return {0, 0, false};
  const Wide quotient = dividend / divisor;
  return {static_cast<Word>(quotient), static_cast<Word>(dividend % divisor), (quotient >> bits) == 0};
}

Division divide_signed(SignedWide dividend, std::int64_t divisor, unsigned bits) {
  if (divisor == 0) return {0, 0, false};
  if (divisor == -1 && dividend == SignedWide(Wide(1) << 127)) return {0, 0, false};
  const SignedWide quotient = dividend / divisor;
  const Word low = cut(static_cast<Word>(quotient), bits);
  return {low, cut(static_cast<Word>(dividend % divisor), bits), quotient == as_signed(low, bits)};
}

/// Stores a division of rdx:rax, or raises its exception.
void finish_division(Computation& c, const Division& division) {
  if (!division.fits) {
    c.exception = Exception::divide;
    return;
  }
  c.value[1] = division.quotient;
  c.value[2] = division.remainder;
}

Wide joined(Word high, Word low, unsigned bits) { return Wide(cut(high, bits)) << bits | cut(low, bits); }

/// The count of a shift or rotation; 0 changes nothing, flags included.
unsigned count_of(Computation& c, std::size_t operand = 1) {
  const auto count = static_cast<unsigned>(c.value[operand] & (c.bits[0] == 64 ? 63U : 31U));
  c.keeps_flags = count == 0;
  return count;
}

/// OF is defined for shifts and rotations by one only.
void put_overflow(Computation& c, unsigned count, bool on) {
  put(c, kOverflow, on);
  if (count != 1) c.undefined_flags |= kOverflow;
}

void step_string(Computation& c, std::size_t pointer, unsigned bits) {
  const Word step = bits / 8U;
  c.value[pointer] += (c.flags & kDirection) != 0 ? -step : step;
}

Word load(const Block& block, std::size_t at, std::size_t bytes) {
  Word value = 0;
  for (std::size_t i = 0; i < bytes; ++i) value |= Word(block[at + i]) << (8 * i);
  return value;
}

void store(Block& block, std::size_t at, std::size_t bytes, Word value) {
  for (std::size_t i = 0; i < bytes; ++i) block[at + i] = static_cast<std::uint8_t>(value >> (8 * i));
}

void push_value(Computation& c, std::size_t slot, Word value) {
  c.value[slot] = value;
  c.value[slot + 1] -= c.slot;
}

/// Flags that user programs can set by popf (Intel SDM volume 2, POPF; IOPL is 0).
constexpr Word kPopped = kCarry | kParity | kAdjust | kZero | kSign | kTrap | kDirection | kOverflow | kNestedTask |
                         kAlignmentCheck | kIdentification;

}  // namespace

// ---------------------------------------------------------------- moves

void nothing(Computation&) {}
void copy(Computation& c) { c.value[0] = c.value[1]; }
/// Over 8 bytes they are in the block already.
void copy_vector(Computation& c) { c.value[0] = c.value[1]; }
void copy_signed(Computation& c) { c.value[0] = extended(c.value[1], c.bits[1]); }
void exchange(Computation& c) { std::swap(c.value[0], c.value[1]); }
void widen(Computation& c) { c.value[1] = extended(c.value[0], c.bits[0]); }
void spread_sign(Computation& c) { c.value[1] = top_bit(c.value[0], c.bits[0]) ? ~Word(0) : 0; }
void set(Computation& c) { c.value[0] = c.holds ? 1 : 0; }

void choose(Computation& c) {
  if (c.holds) c.value[0] = c.value[1];
}

void reverse_bytes(Computation& c) {
  // movbe has a source, bswap changes its operand; the latter says nothing of 16 bits.
  const Word from = c.bits[1] != 0 ? c.value[1] : c.value[0];
  if (c.bits[1] == 0 && c.bits[0] == 16) c.undefined |= 1;
  Word result = 0;
  for (unsigned i = 0; i < c.bits[0]; i += 8) result = result << 8 | ((from >> i) & 0xff);
  c.value[0] = result;
}

// ---------------------------------------------------------------- arithmetic and logic

void add(Computation& c) { c.value[0] = sum(c, c.value[0], c.value[1], false); }
void adc(Computation& c) { c.value[0] = sum(c, c.value[0], c.value[1], carry_of(c)); }
void sub(Computation& c) { c.value[0] = difference(c, c.value[0], c.value[1], false); }
void sbb(Computation& c) { c.value[0] = difference(c, c.value[0], c.value[1], carry_of(c)); }
void cmp(Computation& c) { difference(c, c.value[0], c.value[1], false); }
void inc(Computation& c) { c.value[0] = sum(c, c.value[0], 1, false); }
void dec(Computation& c) { c.value[0] = difference(c, c.value[0], 1, false); }
void neg(Computation& c) { c.value[0] = difference(c, 0, c.value[0], false); }

void xadd(Computation& c) {
  const Word old = c.value[0];
  c.value[0] = sum(c, c.value[0], c.value[1], false);
  c.value[1] = old;
}

void adcx(Computation& c) { c.value[0] = sum(c, c.value[0], c.value[1], carry_of(c)); }

void adox(Computation& c) {
  c.value[0] = sum(c, c.value[0], c.value[1], (c.flags & kOverflow) != 0);
  put(c, kOverflow, carry_of(c));
}

void compare_exchange(Computation& c) {
  if (difference(c, c.value[2], c.value[0], false) == 0) {
    c.value[0] = c.value[1];
    c.kept |= 1 << 2;
  } else {
    c.value[2] = c.value[0];
    if (c.bits[0] == 32) c.kept |= 1 << 0;  // a register keeps its upper half, memory the value it has
  }
}

void compare_exchange_pair(Computation& c) {
  const std::size_t half = c.bits[1] / 8U;
  const bool in_block = c.bits[0] > 64;
  const Word low = in_block ? load(c.block, 0, half) : cut(c.value[0], 32);
  const Word high = in_block ? load(c.block, half, half) : c.value[0] >> 32;
  const bool same = low == c.value[1] && high == c.value[2];
  put(c, kZero, same);
  if (!same) {
    c.value[1] = low, c.value[2] = high;
  } else {
    c.kept |= 1 << 1 | 1 << 2;
    store(c.block, 0, half, c.value[4]);
    store(c.block, half, half, c.value[3]);
    if (!in_block) c.value[0] = c.value[3] << 32 | c.value[4];
  }
}

namespace {

Word logic(Computation& c, Word result) {
  put_result_flags(c, result, c.bits[0]);
  return result;
}

}  // namespace

void bit_and(Computation& c) { c.value[0] = logic(c, c.value[0] & c.value[1]); }
void bit_or(Computation& c) { c.value[0] = logic(c, c.value[0] | c.value[1]); }
void bit_xor(Computation& c) { c.value[0] = logic(c, c.value[0] ^ c.value[1]); }
void test(Computation& c) { logic(c, c.value[0] & c.value[1]); }
void bit_not(Computation& c) { c.value[0] = ~c.value[0]; }

void mul_byte(Computation& c) {
  const Halves halves = product(c, c.value[0], c.value[1], 8, false);
  c.value[2] = halves.high << 8 | halves.low;
}

void imul_byte(Computation& c) {
  const Halves halves = product(c, c.value[0], c.value[1], 8, true);
  c.value[2] = halves.high << 8 | halves.low;
}

void mul(Computation& c) {
  const Halves halves = product(c, c.value[0], c.value[1], c.bits[0], false);
  c.value[1] = halves.low, c.value[2] = halves.high;
}

void imul_wide(Computation& c) {
  const Halves halves = product(c, c.value[0], c.value[1], c.bits[0], true);
  c.value[1] = halves.low, c.value[2] = halves.high;
}

void imul_two(Computation& c) { c.value[0] = product(c, c.value[0], c.value[1], c.bits[0], true).low; }
void imul_three(Computation& c) { c.value[0] = product(c, c.value[1], c.value[2], c.bits[0], true).low; }

void mulx(Computation& c) {
  const Wide whole = Wide(c.value[2]) * c.value[3];
  c.value[1] = static_cast<Word>(whole);
  c.value[0] = static_cast<Word>(whole >> c.bits[0]);
}

namespace {

void finish_byte_division(Computation& c, const Division& division) {
  if (!division.fits) {
    c.exception = Exception::divide;
  } else {
    c.value[1] = cut(division.remainder, 8) << 8 | cut(division.quotient, 8);
  }
}

}  // namespace

void div_byte(Computation& c) { finish_byte_division(c, divide(c.value[1], c.value[0], 8)); }
void idiv_byte(Computation& c) {
  finish_byte_division(c, divide_signed(as_signed(c.value[1], 16), as_signed(c.value[0], 8), 8));
}
void div(Computation& c) {
  finish_division(c, divide(joined(c.value[2], c.value[1], c.bits[0]), c.value[0], c.bits[0]));
}
void idiv(Computation& c) {
  const unsigned unused = 128 - 2 * c.bits[0];
  const auto dividend = static_cast<SignedWide>(joined(c.value[2], c.value[1], c.bits[0]) << unused) >> unused;
  finish_division(c, divide_signed(dividend, as_signed(c.value[0], c.bits[0]), c.bits[0]));
}

// ---------------------------------------------------------------- shifts and rotations

namespace {

Word rotated_left(Word value, unsigned count, unsigned bits) {
  count %= bits;
  return count == 0 ? value : cut(value << count | value >> (bits - count), bits);
}

/// Rotation through the carry, one bit at a time as the manuals define it.
void rotate_through_carry(Computation& c, bool left) {
  const unsigned bits = c.bits[0], count = count_of(c);
  Word value = c.value[0];
  bool carry = carry_of(c);
  const bool one_right = !left && count == 1;
  if (one_right) put(c, kOverflow, top_bit(value, bits) != carry);
  for (unsigned turn = count % (bits + 1); turn != 0; --turn) {
    const bool out = left ? top_bit(value, bits) : (value & 1) != 0;
    value = left ? cut(value << 1, bits) | Word(carry) : value >> 1 | Word(carry) << (bits - 1);
    carry = out;
  }
  put(c, kCarry, carry);
  put_overflow(c, count, one_right ? (c.flags & kOverflow) != 0 : top_bit(value, bits) != carry);
  c.value[0] = value;
}

}  // namespace

void rol(Computation& c) {
  const unsigned count = count_of(c);
  c.value[0] = rotated_left(c.value[0], count, c.bits[0]);
  put(c, kCarry, (c.value[0] & 1) != 0);
  put_overflow(c, count, top_bit(c.value[0], c.bits[0]) != carry_of(c));
}

void ror(Computation& c) {
  const unsigned bits = c.bits[0], count = count_of(c);
  c.value[0] = rotated_left(c.value[0], bits - count % bits, bits);
  put(c, kCarry, top_bit(c.value[0], bits));
  put_overflow(c, count, top_bit(c.value[0] ^ c.value[0] << 1, bits));
}

void rcl(Computation& c) { rotate_through_carry(c, true); }
void rcr(Computation& c) { rotate_through_carry(c, false); }

void shl(Computation& c) {
  const unsigned bits = c.bits[0], count = count_of(c);
  const Wide whole = Wide(c.value[0]) << count;
  c.value[0] = cut(static_cast<Word>(whole), bits);
  put_result_flags(c, c.value[0], bits);
  put(c, kCarry, ((whole >> bits) & 1) != 0);
  if (count >= bits) c.undefined_flags |= kCarry;
  put_overflow(c, count, top_bit(c.value[0], bits) != carry_of(c));
}

void shr(Computation& c) {
  const unsigned bits = c.bits[0], count = count_of(c);
  const Word old = c.value[0];
  c.value[0] = old >> count;
  put_result_flags(c, c.value[0], bits);
  put(c, kCarry, count != 0 && ((old >> (count - 1)) & 1) != 0);
  if (count >= bits) c.undefined_flags |= kCarry;
  put_overflow(c, count, top_bit(old, bits));
}

void sar(Computation& c) {
  const unsigned bits = c.bits[0], count = count_of(c);
  const std::int64_t old = as_signed(c.value[0], bits);
  c.value[0] = cut(static_cast<Word>(old >> count), bits);
  put_result_flags(c, c.value[0], bits);
  put(c, kCarry, count != 0 && ((old >> (count - 1)) & 1) != 0);
  put_overflow(c, count, false);
}

namespace {

/// Both double shifts: nothing is defined when the count is larger than the operand.
void finish_double_shift(Computation& c, unsigned count, Word result, bool carry) {
  const unsigned bits = c.bits[0];
  if (count > bits) {
    c.undefined |= 1;
    c.undefined_flags |= kCarry | kOverflow | kSign | kZero | kParity;
    return;
  }
  const bool sign_changed = top_bit(result ^ c.value[0], bits);
  c.value[0] = result;
  put_result_flags(c, result, bits);
  put(c, kCarry, carry);
  put_overflow(c, count, sign_changed);
}

}  // namespace

void shld(Computation& c) {
  const unsigned bits = c.bits[0], count = count_of(c, 2);
  const Wide both = joined(c.value[0], c.value[1], bits);
  const Word result = cut(static_cast<Word>((both << count) >> bits), bits);
  finish_double_shift(c, count, result, count != 0 && count <= bits && ((c.value[0] >> (bits - count)) & 1) != 0);
}

void shrd(Computation& c) {
  const unsigned bits = c.bits[0], count = count_of(c, 2);
  const Wide both = joined(c.value[1], c.value[0], bits);
  const Word result = cut(static_cast<Word>(both >> count), bits);
  finish_double_shift(c, count, result, count != 0 && ((c.value[0] >> (count - 1)) & 1) != 0);
}

void shlx(Computation& c) { c.value[0] = c.value[1] << (c.value[2] & (c.bits[0] - 1U)); }
void shrx(Computation& c) { c.value[0] = c.value[1] >> (c.value[2] & (c.bits[0] - 1U)); }
void sarx(Computation& c) {
  c.value[0] = static_cast<Word>(as_signed(c.value[1], c.bits[0]) >> (c.value[2] & (c.bits[0] - 1U)));
}
void rorx(Computation& c) {
  const unsigned bits = c.bits[0];
  c.value[0] = rotated_left(c.value[1], bits - static_cast<unsigned>(c.value[2] & (bits - 1U)), bits);
}

// ---------------------------------------------------------------- bits

namespace {

Word picked_bit(Computation& c) {
  const Word bit = Word(1) << (c.value[1] & (c.bits[0] - 1U));
  put(c, kCarry, (c.value[0] & bit) != 0);
  return bit;
}

}  // namespace

void bt(Computation& c) { picked_bit(c); }
void bts(Computation& c) { c.value[0] |= picked_bit(c); }
void btr(Computation& c) { c.value[0] &= ~picked_bit(c); }
void btc(Computation& c) { c.value[0] ^= picked_bit(c); }

void bsf(Computation& c) {
  put(c, kZero, c.value[1] == 0);
  if (c.value[1] == 0) {
    c.undefined |= 1;
  } else {
    c.value[0] = static_cast<Word>(std::countr_zero(c.value[1]));
  }
}

void bsr(Computation& c) {
  put(c, kZero, c.value[1] == 0);
  if (c.value[1] == 0) {
    c.undefined |= 1;
  } else {
    c.value[0] = 63U - static_cast<Word>(std::countl_zero(c.value[1]));
  }
}

namespace {

/// The counts of zeros: ZF tells a count of 0, CF that there was no 1 bit.
void put_count(Computation& c, int count) {
  put(c, kCarry, c.value[1] == 0);
  c.value[0] = c.value[1] == 0 ? c.bits[0] : static_cast<Word>(count);
  put(c, kZero, c.value[0] == 0);
}

}  // namespace

void tzcnt(Computation& c) { put_count(c, std::countr_zero(c.value[1])); }
void lzcnt(Computation& c) { put_count(c, std::countl_zero(c.value[1]) - (64 - c.bits[0])); }

void popcnt(Computation& c) {
  put(c, kZero, c.value[1] == 0);
  c.value[0] = static_cast<Word>(std::popcount(c.value[1]));
}

void crc32(Computation& c) {
  constexpr std::uint32_t kPolynomial = 0x82f63b78;  // of CRC-32C, lowest bit first
  auto crc = static_cast<std::uint32_t>(c.value[0]);
  for (unsigned i = 0; i < c.bits[1]; ++i) {
    const bool low = ((crc ^ (c.value[1] >> i)) & 1) != 0;
    crc = crc >> 1 ^ (low ? kPolynomial : 0);
  }
  c.value[0] = crc;
}

void andn(Computation& c) { c.value[0] = logic(c, ~c.value[1] & c.value[2]); }

void bextr(Computation& c) {
  const unsigned start = c.value[2] & 0xff, count = (c.value[2] >> 8) & 0xff;
  c.value[0] = start >= c.bits[0] ? 0 : cut(c.value[1] >> start, count);
  put(c, kZero, c.value[0] == 0);
}

void blsr(Computation& c) {
  put(c, kCarry, c.value[1] == 0);
  const bool carry = carry_of(c);
  c.value[0] = logic(c, cut((c.value[1] - 1) & c.value[1], c.bits[0]));
  put(c, kCarry, carry);
}

void blsmsk(Computation& c) {
  put(c, kCarry, c.value[1] == 0);
  c.value[0] = logic(c, cut((c.value[1] - 1) ^ c.value[1], c.bits[0]));
}

void blsi(Computation& c) {
  put(c, kCarry, c.value[1] != 0);
  c.value[0] = logic(c, cut((0 - c.value[1]) & c.value[1], c.bits[0]));
}

void bzhi(Computation& c) {
  const unsigned from = c.value[2] & 0xff;
  put(c, kCarry, from > c.bits[0] - 1U);
  c.value[0] = logic(c, cut(c.value[1], from));
}

void pext(Computation& c) {
  Word result = 0;
  unsigned to = 0;
  for (unsigned i = 0; i < c.bits[0]; ++i) {
    if (((c.value[2] >> i) & 1) != 0) result |= ((c.value[1] >> i) & 1) << to++;
  }
  c.value[0] = result;
}

void pdep(Computation& c) {
  Word result = 0;
  unsigned from = 0;
  for (unsigned i = 0; i < c.bits[0]; ++i) {
    if (((c.value[2] >> i) & 1) != 0) result |= ((c.value[1] >> from++) & 1) << i;
  }
  c.value[0] = result;
}

// ---------------------------------------------------------------- stack

void push(Computation& c) { push_value(c, 1, c.value[0]); }

void push_segment(Computation& c) {
  push(c);
  // Processors of one maker leave the upper half of a 32-bit slot as it was.
  if (c.slot == 4) c.undefined |= 1 << 1;
}

void pop(Computation& c) {
  c.value[0] = c.value[1];
  c.value[2] += c.slot;
}

/// The registers from the third operand on are those of the manual's order without the stack pointer.
void push_all(Computation& c) {
  constexpr std::array<std::size_t, 8> kFromTop = {2, 3, 4, 5, 1, 6, 7, 8};  // AX CX DX BX SP BP SI DI
  for (std::size_t i = 0; i < 8; ++i) store(c.block, (7 - i) * c.slot, c.slot, c.value[kFromTop[i]]);
  c.value[1] -= 8U * c.slot;
}

void pop_all(Computation& c) {
  constexpr std::array<std::size_t, 8> kFromTop = {2, 3, 4, 5, 0, 6, 7, 8};
  for (std::size_t i = 0; i < 8; ++i) {
    if (kFromTop[i] != 0) c.value[kFromTop[i]] = load(c.block, (7 - i) * c.slot, c.slot);
  }
  c.value[1] += 8U * c.slot;
}

void push_flags(Computation& c) { push_value(c, 0, c.flags & ~Word(kResume | kVirtual8086)); }

void pop_flags(Computation& c) {
  const Word changed = cut(kPopped, c.slot * 8U);
  c.flags = (c.flags & ~changed) | (c.value[0] & changed);
  c.value[1] += c.slot;
  c.whole_flags = true;
}

/// Operands: size, level, the frame's slots, the outer frames' slots, rsp, rbp.
void enter(Computation& c) {
  const Word size = c.value[0], level = c.value[1] & 31, old_base = c.value[5];
  const Word frame = c.value[4] - c.slot;
  const std::size_t slots = level + 1;
  store(c.block, (slots - 1) * c.slot, c.slot, old_base);
  for (std::size_t i = 1; i < level; ++i) {  // copies of the outer frames' addresses, downwards
    store(c.block, (slots - 1 - i) * c.slot, c.slot, load(c.frame, (level - 1 - i) * c.slot, c.slot));
  }
  if (level > 0) store(c.block, 0, c.slot, frame);
  c.value[2] = load(c.block, 0, 8);
  c.value[5] = frame;
  c.value[4] = frame - level * c.slot - size;
}

void leave(Computation& c) {
  c.value[2] = c.address + c.slot;
  c.value[1] = c.value[0];
}

// ---------------------------------------------------------------- control flow

void call(Computation& c) {
  push_value(c, 1, c.next);
  c.next = c.value[0];
}

void jump(Computation& c) { c.next = c.value[0]; }

void jump_if(Computation& c) {
  if (c.holds) c.next = c.value[0];
}

namespace {

void count_down(Computation& c, bool wanted) {
  c.value[1] = cut(c.value[1] - 1, c.bits[1]);
  c.holds = c.value[1] != 0 && wanted;
  jump_if(c);
}

}  // namespace

void loop(Computation& c) { count_down(c, true); }
void loope(Computation& c) { count_down(c, (c.flags & kZero) != 0); }
void loopne(Computation& c) { count_down(c, (c.flags & kZero) == 0); }

void jump_if_zero(Computation& c) {
  c.holds = c.value[1] == 0;
  jump_if(c);
}

void return_(Computation& c) {
  c.next = c.value[0];
  c.value[1] += c.slot;
}

void return_release(Computation& c) {
  c.next = c.value[1];
  c.value[2] += c.slot + c.value[0];
}

void trap_overflow(Computation& c) {
  if ((c.flags & kOverflow) != 0) c.exception = Exception::overflow;
}

void bound(Computation& c) {
  const unsigned bits = c.bits[0];
  const std::size_t bytes = bits / 8U;
  const Word limits = c.value[1];
  const std::int64_t low = as_signed(limits, bits), high = as_signed(limits >> (8 * bytes), bits);
  const std::int64_t index = as_signed(c.value[0], bits);
  if (index < low || index > high) c.exception = Exception::bound;
}

void invalid(Computation& c) { c.exception = Exception::invalid; }

// ---------------------------------------------------------------- strings: one repetition

void movs(Computation& c) {
  c.value[0] = c.value[1];
  step_string(c, 2, c.bits[0]);
  step_string(c, 3, c.bits[0]);
}

void cmps(Computation& c) {
  cmp(c);
  step_string(c, 2, c.bits[0]);
  step_string(c, 3, c.bits[0]);
}

void stos(Computation& c) {
  c.value[0] = c.value[1];
  step_string(c, 2, c.bits[0]);
}

void lods(Computation& c) { stos(c); }

void scas(Computation& c) {
  cmp(c);
  step_string(c, 2, c.bits[0]);
}

void xlat(Computation& c) { c.value[1] = c.value[0]; }

// ---------------------------------------------------------------- flags and decimal arithmetic

void cmc(Computation& c) { c.flags ^= kCarry; }
void sahf(Computation& c) { c.flags = (c.flags & ~Word(0xff)) | (c.value[0] & 0xff); }
void lahf(Computation& c) { c.value[0] = (c.flags & (kSign | kZero | kAdjust | kParity | kCarry)) | 2; }
void salc(Computation& c) { c.value[0] = carry_of(c) ? 0xff : 0; }

namespace {

/// daa and das: `sign` is 1 or -1.
void adjust_packed(Computation& c, int sign) {
  const Word old = c.value[0] & 0xff;
  const bool low = (old & 15) > 9 || (c.flags & kAdjust) != 0;
  const bool high = old > 0x99 || carry_of(c);
  const Word correction = (low ? 6U : 0U) + (high ? 0x60U : 0U);
  const bool borrow = sign < 0 && low && old < 6;
  c.value[0] = (sign > 0 ? old + correction : old - correction) & 0xff;
  put_result_flags(c, c.value[0], 8);
  put(c, kAdjust, low);
  put(c, kCarry, high || borrow);
}

/// aaa and aas.
void adjust_unpacked(Computation& c, int sign) {
  const bool adjust = (c.value[0] & 15) > 9 || (c.flags & kAdjust) != 0;
  if (adjust) c.value[0] = sign > 0 ? c.value[0] + 0x106 : c.value[0] - 0x106;
  c.value[0] &= 0xff0f;
  put(c, kAdjust | kCarry, adjust);
}

}  // namespace

void daa(Computation& c) { adjust_packed(c, 1); }
void das(Computation& c) { adjust_packed(c, -1); }
void aaa(Computation& c) { adjust_unpacked(c, 1); }
void aas(Computation& c) { adjust_unpacked(c, -1); }

void aam(Computation& c) {
  const Word base = c.value[0] & 0xff, old = c.value[1] & 0xff;
  if (base == 0) {
    c.exception = Exception::divide;
    return;
  }
  c.value[1] = (old / base) << 8 | old % base;
  put_result_flags(c, c.value[1], 8);
}

void aad(Computation& c) {
  c.value[1] = (c.value[1] + (c.value[1] >> 8) * (c.value[0] & 0xff)) & 0xff;
  put_result_flags(c, c.value[1], 8);
}

void arpl(Computation& c) {
  const bool raise = (c.value[0] & 3) < (c.value[1] & 3);
  put(c, kZero, raise);
  if (raise) c.value[0] = (c.value[0] & ~Word(3)) | (c.value[1] & 3);
}

}  // namespace deeptrace::isa::meaning
