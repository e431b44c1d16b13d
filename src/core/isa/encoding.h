// What the decoder's two ways share: facts of the encoding (Intel SDM volume 2, chapter 2; AMD64 manual volume 3,
// chapter 1), and the way that takes everything. For the decoder alone.
//
// Bytes are read without a check each: who calls sees to it that kReadable may be read. What lay beyond the given bytes
// is found out at the end, from the length.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <cstring>

#include "isa/instruction.h"

namespace deeptrace::isa::encoding {

/// Bytes that may be read from the start of an instruction, whether they belong to it or not: as many prefixes as fit
/// before an opcode, EVEX, opcode, ModRM, SIB, a displacement, and the eight bytes that an immediate is taken from.
inline constexpr std::size_t kReadable = (kLongestInstruction - 1) + 4 + 1 + 1 + 1 + 4 + 8;

/// What a byte at the start of an instruction is.
enum Start : std::uint8_t { kOpcode, kLegacyPrefix, kRexPrefix, kEscape, kVectorPrefix };

/// What a legacy prefix byte does to Instruction::prefixes: clear some bits, set others.
struct PrefixAction {
  std::uint16_t keep = 0xffff, set = 0;
};

constexpr std::array<std::array<std::uint8_t, 256>, 2> starts() {
  std::array<std::array<std::uint8_t, 256>, 2> result{};
  for (std::size_t mode = 0; mode < 2; ++mode) {
    for (const unsigned byte : {0xf0, 0xf2, 0xf3, 0x66, 0x67, 0x26, 0x2e, 0x36, 0x3e, 0x64, 0x65})
      result[mode][byte] = kLegacyPrefix;
    for (std::size_t byte = 0x40; mode == 1 && byte < 0x50; ++byte) result[mode][byte] = kRexPrefix;
    result[mode][0x0f] = kEscape;
    for (const unsigned byte : {0xc4, 0xc5, 0x62, 0x8f}) result[mode][byte] = kVectorPrefix;
  }
  return result;
}
inline constexpr auto kStarts = starts();

constexpr std::array<PrefixAction, 256> prefix_actions() {
  std::array<PrefixAction, 256> a{};
  constexpr auto kNoSegment = static_cast<std::uint16_t>(~(7U << kSegmentShift));
  const auto segment = [](unsigned number) { return static_cast<std::uint16_t>((number + 1) << kSegmentShift); };
  a[0xf0] = {0xffff, kPrefixLock};
  a[0xf2] = {static_cast<std::uint16_t>(~kPrefixRep), kPrefixRepne};
  a[0xf3] = {static_cast<std::uint16_t>(~kPrefixRepne), kPrefixRep};
  a[0x66] = {0xffff, kPrefixOperandSize};
  a[0x67] = {0xffff, kPrefixAddressSize};
  a[0x26] = {kNoSegment, segment(kEs)};
  a[0x2e] = {kNoSegment, segment(kCs)};
  a[0x36] = {kNoSegment, segment(kSs)};
  a[0x3e] = {kNoSegment, segment(kDs)};
  a[0x64] = {kNoSegment, segment(kFs)};
  a[0x65] = {kNoSegment, segment(kGs)};
  return a;
}
inline constexpr auto kPrefixActions = prefix_actions();

/// The mandatory-prefix answer (none, 66, F3, F2) by the three prefix bits rep, repne, operand size.
inline constexpr std::uint8_t kMandatory[8] = {0, 2, 3, 2, 1, 2, 3, 2};

/// For ModRM with 32- and 64-bit addresses: bytes of displacement, and 8 where a SIB byte follows
/// (Intel SDM volume 2, table 2-2).
constexpr std::array<std::uint8_t, 256> address_shapes() {
  std::array<std::uint8_t, 256> shapes{};
  for (unsigned modrm = 0; modrm < 0xc0; ++modrm) {
    const unsigned mod = modrm >> 6, rm = modrm & 7;
    unsigned shape = mod == 1 ? 1 : mod == 2 || rm == 5 ? 4 : 0;
    if (rm == 4) shape |= 8;
    shapes[modrm] = static_cast<std::uint8_t>(shape);
  }
  return shapes;
}
inline constexpr auto kAddressShapes = address_shapes();

/// Bytes of an immediate field by mode and operand size (2, 4, 8 as 0, 1, 2); the absolute address is left out.
inline constexpr std::uint8_t kFieldBytes[2][3][9] = {
    {{0, 1, 2, 4, 2, 2, 2, 4, 0}, {0, 1, 2, 4, 4, 4, 4, 6, 0}, {0, 1, 2, 4, 4, 8, 4, 6, 0}},
    {{0, 1, 2, 4, 2, 2, 4, 4, 0}, {0, 1, 2, 4, 4, 4, 4, 6, 0}, {0, 1, 2, 4, 4, 8, 4, 6, 0}},
};

template <class T>
T load(const std::uint8_t* at) {
  T value;
  std::memcpy(&value, at, sizeof value);
  return value;
}

/// Masks and sign bits of fields by their size in bytes.
inline constexpr std::uint64_t kFieldMask[9] = {
    0, 0xff, 0xffff, 0xffffff, 0xffffffff, 0xffffffffff, 0xffffffffffff, 0xffffffffffffff, ~std::uint64_t(0)};
inline constexpr std::uint32_t kSignBit[5] = {0, 0x80, 0x8000, 0x800000, 0x80000000};

/// Any instruction: the complete way, without haste (decoder.cpp). Its length, which may be more than the bytes there
/// are, or 0.
unsigned decode_slowly(const std::uint8_t* bytes, Mode mode, Instruction& out);

/// Whether all that its row asks for holds, where that is more than the opcode; also puts a displacement right that
/// EVEX multiplies. Only rows that ask for something need it.
bool passes_check(Instruction& instruction);

/// No instruction.
inline unsigned nothing(Instruction& out) {
  out = {};
  return 0;
}

}  // namespace deeptrace::isa::encoding
