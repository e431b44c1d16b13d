// The quick way, for what most code is: the first two opcode maps, REX, the usual prefixes. Everything else goes the
// complete way (decoder.cpp); both give the same.
//
// Tables stand in for branches, and what they give is put together as the four words that an Instruction is written in.
// The longest chain is from one instruction to the next: its first byte, which tells of REX; ModRM with the base of
// SIB, which tell how many bytes follow; immediates, by the opcode. The row hangs on none of it: the opcode names the
// bits that matter to it, and those, put together, are a place in its list of rows.
#include <algorithm>
#include <array>
#include <cstddef>
#include <cstring>

#include "isa/encoding.h"

namespace deeptrace::isa {
namespace {

using namespace encoding;

#include "isa_quick.inc"

/// The ways in which fields can follow an opcode: none, ModRM, with a displacement of one and of four bytes, and the
/// same with SIB.
enum Places : std::uint8_t { kNothing, kBare, kShort, kLong, kSib, kSibShort, kSibLong, kPlaces };

/// By ModRM and the base of a SIB byte, eleven bits: Places, and in the upper half how many bytes follow the opcode.
/// Without a base four bytes of displacement do.
constexpr std::array<std::uint8_t, 2048> after_by_modrm() {
  std::array<std::uint8_t, 2048> result{};
  for (unsigned bits = 0; bits < result.size(); ++bits) {
    const unsigned modrm = bits & 0xff, base = bits >> 8, shape = kAddressShapes[modrm], size = shape & 7;
    const bool sib = (shape & 8) != 0, without_base = sib && modrm < 0x40 && base == 5;
    const unsigned bytes = without_base ? 4 : size;
    result[bits] = static_cast<std::uint8_t>(((sib ? kSib : kBare) + std::min(bytes, 2U)) | (1 + sib + bytes) << 4);
  }
  return result;
}

/// Word 2 of an instruction by where its opcode stands and by Places, without its immediate: the length so far, and
/// where opcode, ModRM and displacement lie.
constexpr std::array<std::uint64_t, 96> words_by_place() {
  std::array<std::uint64_t, 96> result{};
  for (unsigned at = 0; at < result.size() / 8; ++at) {
    for (unsigned kind = kNothing; kind < kPlaces; ++kind) {
      const unsigned modrm = kind != kNothing ? 1 : 0, sib = kind >= kSib ? 1 : 0;
      const unsigned size = kind == kShort || kind == kSibShort ? 1 : kind == kLong || kind == kSibLong ? 4 : 0;
      const unsigned displacement_at = size != 0 ? at + 2 + sib : 0;
      result[8 * at + kind] = (at + 1 + modrm + sib + size) | at << 8 | modrm * (at + 1) << 16 | displacement_at << 24 |
                              std::uint64_t(size) << 32;
    }
  }
  return result;
}

/// What the generator packs of an opcode for the quick way.
struct QuickCell {
  static constexpr std::uint64_t kNotQuick = std::uint64_t(1) << 63, kByRow = std::uint64_t(1) << 62;
  std::uint64_t bits;

  [[nodiscard]] bool not_quick() const { return static_cast<std::int64_t>(bits) < 0; }
  /// The row tells the immediates; only where it is not quick.
  [[nodiscard]] bool by_row() const { return (bits & kByRow) != 0; }
  /// What follows it by ModRM, if it has one.
  [[nodiscard]] std::uint64_t after(std::uint8_t by_modrm) const { return bits & by_modrm; }
  /// Bytes of immediates, by the shift for the operand size.
  [[nodiscard]] std::uint64_t immediate_bytes(unsigned shift) const { return (bits >> shift) & 15; }
  /// Which answers matter to its row, and bits above that no answer has.
  [[nodiscard]] std::uint64_t questions() const { return bits >> 20; }
  /// Where its list of rows begins.
  [[nodiscard]] std::uint64_t rows_at() const { return bits >> 33; }
};
enum ImmediateShift : std::uint8_t { kShiftUsual = 8, kShiftSmall = 12, kShiftLarge = 16 };

/// Answers beside ModRM, which is the lowest byte.
enum Answer : std::uint32_t {
  kAnswerMandatory = 1 << 8,
  kAnswerW = 1 << 10,
  kAnswerB = 1 << 11,
  kAnswerSmall = 1 << 12
};

/// What follows from REX, or from there being none.
struct First {
  std::uint64_t word3 = 0;    ///< of the instruction: REX, address size, operand size
  std::uint64_t widened = 0;  ///< which bits of QuickRow that has added: 4, where the row makes 8 bytes of 4
  std::uint32_t answers = 0;
  std::uint32_t immediate_shift = kShiftUsual;
};
/// By the first byte: where First stands in Quick, in bytes, and how many bits REX takes.
struct FirstByte {
  std::uint16_t first = 0, bits = 0;
};

/// Of a row: in the low half row and prefixes as in word 1 of an instruction; in the high half what widens it.
struct QuickRow {
  static constexpr std::uint64_t kWide = std::uint64_t(4) << 32;        ///< 64 bits without REX.W; with a 66 16 bits
  static constexpr std::uint64_t kAlwaysWide = std::uint64_t(8) << 32;  ///< 64 bits even so
  static constexpr std::uint64_t kCheck = std::uint64_t(1) << 63;       ///< passes_check has to look, or there is none
  std::uint64_t bits = 0;
};

/// Word 2 has `base` added for an immediate of so many bytes, and `factor` times the place where it lies.
struct ImmediatePlace {
  std::uint64_t factor = 0, base = 0;
};

/// What the generator notes of a row in the lists: its number, and bits of what it asks for.
enum ListedRow : std::uint32_t {
  kListedMandatory = 1 << 16,
  kListedStack = 1 << 17,
  kListedNear = 1 << 18,
  kListedCheck = 1 << 19
};

template <bool kMode64>
constexpr QuickRow quick_row(std::uint32_t listed) {
  std::uint64_t bits = listed & 0xffff;
  if (kMode64) bits |= std::uint64_t(kPrefixMode64) << 16;
  if ((listed & kListedMandatory) != 0) bits |= std::uint64_t(kPrefixMandatory) << 16;
  if (kMode64 && (listed & (kListedStack | kListedNear)) != 0) bits |= QuickRow::kWide;
  if (kMode64 && (listed & kListedNear) != 0) bits |= QuickRow::kAlwaysWide;
  if ((listed & kListedCheck) != 0) bits |= QuickRow::kCheck;
  return {bits};
}

/// The lists that the places of QuickCell are in.
template <bool kMode64>
constexpr std::span<const std::uint32_t> kRowLists = kQuickRows32;
template <>
constexpr std::span<const std::uint32_t> kRowLists<true> = kQuickRows64;

/// All that the quick way looks up, in one place, so that one register leads to it.
template <bool kMode64>
struct Quick {
  std::array<std::array<QuickCell, 256>, 2> cells{};
  std::array<FirstByte, 256> first_bytes{};
  std::array<First, 17> firsts{};
  std::array<std::uint8_t, 2048> after = after_by_modrm();
  std::array<std::uint64_t, 96> words = words_by_place();
  std::array<std::uint32_t, 8> opening_mask{}, displacement_mask{}, sign_bit{};  ///< by Places
  std::array<ImmediatePlace, 9> immediate_places{};
  std::array<std::uint64_t, 9> immediate_mask{};
  std::array<QuickRow, kRowLists<kMode64>.size()> rows{};

  [[nodiscard]] const First& first(std::size_t at) const {
    return *reinterpret_cast<const First*>(reinterpret_cast<const char*>(this) + at);
  }

  constexpr Quick() {
    for (std::size_t map = 0; map < 2; ++map) {
      for (std::size_t byte = 0; byte < 256; ++byte) {
        const bool plain = map == 0 ? kStarts[kMode64][byte] == kOpcode : byte != 0x0f && (byte & 0xfd) != 0x38;
        cells[map][byte] = {plain ? kQuickCells[kMode64][map][byte] : QuickCell::kNotQuick};
      }
    }
    for (std::uint32_t rex = 0; rex < firsts.size(); ++rex) {  // the last one stands for none
      const std::uint64_t bits = rex < 16 ? 0x40 + rex : 0, wide = (bits & kRexW) != 0 ? 1 : 0;
      firsts[rex].word3 = bits << 56 | std::uint64_t(kMode64 ? 8 : 4) << 40 | (4 + 4 * wide) << 32;
      firsts[rex].widened = wide != 0 ? 0 : QuickRow::kWide;
      firsts[rex].answers = (wide != 0 ? kAnswerW : 0U) | ((bits & kRexB) != 0 ? kAnswerB : 0U);
      firsts[rex].immediate_shift = wide != 0 ? kShiftLarge : kShiftUsual;
    }
    for (std::size_t byte = 0; byte < 256; ++byte) {
      const bool rex = kStarts[kMode64][byte] == kRexPrefix;
      first_bytes[byte].first =
          static_cast<std::uint16_t>(offsetof(Quick, firsts) + sizeof(First) * (rex ? byte & 15 : 16));
      first_bytes[byte].bits = rex ? 8 : 0;
    }
    for (unsigned kind = kNothing; kind < kPlaces; ++kind) {
      const unsigned size = (words[kind] >> 32) & 7;
      opening_mask[kind] = kind == kNothing ? 0xff : kind < kSib ? 0xffff : 0xffffff;
      displacement_mask[kind] = static_cast<std::uint32_t>(kFieldMask[size]);
      sign_bit[kind] = kSignBit[size];
    }
    for (std::uint64_t bytes = 1; bytes < 9; ++bytes) {
      immediate_places[bytes] = {std::uint64_t(1) << 40, bytes | bytes << 48};
      immediate_mask[bytes] = kFieldMask[bytes];
    }
    for (std::size_t i = 0; i < rows.size(); ++i) rows[i] = quick_row<kMode64>(kRowLists<kMode64>[i]);
  }
};
template <bool kMode64>
constexpr Quick<kMode64> kQuick;

/// How the quick way puts the bits together that a mask picks: by the processor's instruction for it, or without.
struct Gather {
  static std::uint64_t pick(std::uint64_t value, std::uint64_t mask) {
    std::uint64_t result = 0;
    for (unsigned at = 0; mask != 0; ++at, mask &= mask - 1) {
      if ((value & mask & (0 - mask)) != 0) result |= std::uint64_t(1) << at;
    }
    return result;
  }
};
#if defined(__x86_64__)
struct GatherByBmi2 {
  static std::uint64_t pick(std::uint64_t value, std::uint64_t mask) {
    std::uint64_t result;  // NOLINT: written below
    asm("pext %2, %1, %0" : "=r"(result) : "r"(value), "r"(mask));
    return result;
  }
};
#endif

/// Stores one of the four words of an Instruction.
inline void store_word(Instruction& to, std::size_t word, std::uint64_t value) {
  std::memcpy(reinterpret_cast<unsigned char*>(&to) + 8 * word, &value, sizeof value);
}

/// What the quick way knows when it has found the opcode.
struct Opening {
  std::uint64_t bytes;  ///< from the opcode on: ModRM and SIB are there, if there are any
  QuickCell cell;
  std::uint32_t first;     ///< where First stands in Quick, in bytes
  std::uint32_t at;        ///< where the opcode stands, in bits
  std::uint32_t prefixes;  ///< those before it, as in Instruction
};

inline bool is_usual_prefix(std::uint8_t byte) {
  return byte == 0x66 || byte == 0x2e || (byte & 0xfe) == 0xf2 || (byte & 0xfe) == 0x64;
}

template <bool kMode64, class How>
[[gnu::noinline]] unsigned decode_prefixed(const std::uint8_t* p, Instruction& out);

/// What the row's list says.
template <bool kMode64, bool kPrefixed, class How>
[[gnu::always_inline]] inline QuickRow row_of(const Opening& opening) {
  const First& first = kQuick<kMode64>.first(opening.first);
  std::uint64_t answers = ((opening.bytes >> 8) & 0xff) | first.answers;
  if constexpr (kPrefixed) {
    answers |= kMandatory[(opening.prefixes >> 1) & 7] * std::uint64_t(kAnswerMandatory);
    if ((opening.prefixes & kPrefixOperandSize) != 0) answers |= kAnswerSmall;
  }
  return kQuick<kMode64>.rows[opening.cell.rows_at() + How::pick(answers, opening.cell.questions())];
}

/// From the opcode on. The length does not wait for the row, and no branch depends on what instruction it is but for
/// the rare ones. Word by word: what is read next must not wait for narrower stores to come together.
template <bool kMode64, bool kPrefixed, class How>
[[gnu::always_inline]] inline unsigned finish_quickly(const std::uint8_t* p, const Opening& opening, Instruction& out) {
  constexpr const Quick<kMode64>& q = kQuick<kMode64>;
  const First& first = q.first(opening.first);
  const bool small = kPrefixed && (opening.prefixes & kPrefixOperandSize) != 0 && (first.answers & kAnswerW) == 0;

  const std::uint64_t after = opening.cell.after(q.after[How::pick(opening.bytes, 0x7ff00)]), places = after & 7;
  const std::uint64_t immediate_at = opening.at / 8 + 1 + (after >> 4);
  const std::uint64_t bytes = opening.cell.immediate_bytes(small ? unsigned(kShiftSmall) : first.immediate_shift);
  const std::uint64_t word = q.words[opening.at + places];
  const ImmediatePlace& place = q.immediate_places[bytes];
  store_word(out, 0, load<std::uint64_t>(p + immediate_at) & q.immediate_mask[bytes]);
  store_word(out, 2, word + immediate_at * place.factor + place.base);

  const QuickRow row = row_of<kMode64, kPrefixed, How>(opening);
  const std::uint32_t raw = load<std::uint32_t>(p + ((word >> 24) & 0xff)) & q.displacement_mask[places];
  const std::uint32_t displacement = (raw ^ q.sign_bit[places]) - q.sign_bit[places];
  std::uint64_t word1 = displacement | row.bits << 32;
  std::uint64_t word3 = (opening.bytes & q.opening_mask[places]) + first.word3;
  if constexpr (kPrefixed) word1 |= std::uint64_t(opening.prefixes) << 48;
  if (!small) {
    word3 += row.bits & first.widened;
  } else if ((row.bits & QuickRow::kAlwaysWide) != 0) {
    word1 |= std::uint64_t(kPrefixVendor) << 48;
    word3 += std::uint64_t(8 - 4) << 32;
  } else {
    word3 -= std::uint64_t(4 - 2) << 32;
  }
  store_word(out, 1, word1);
  store_word(out, 3, word3);
  if (static_cast<std::int64_t>(row.bits) < 0) [[unlikely]] {
    if (out.row == rows().size() || !passes_check(out)) return nothing(out);
  }
  return static_cast<unsigned>(immediate_at + bytes);
}

/// The cell of an opcode whose row tells the immediates, with those of this row.
template <bool kMode64, bool kPrefixed, class How>
QuickCell with_immediates(Opening opening) {
  opening.cell.bits &= ~(QuickCell::kNotQuick | QuickCell::kByRow);
  const std::size_t row = row_of<kMode64, kPrefixed, How>(opening).bits & 0xffff;
  const auto field = static_cast<std::size_t>(row < rows().size() ? rows()[row].immediates[0] : Field::none);
  const auto& bytes = kFieldBytes[kMode64];
  opening.cell.bits |= unsigned(bytes[1][field]) << kShiftUsual | unsigned(bytes[0][field]) << kShiftSmall |
                       unsigned(bytes[2][field]) << kShiftLarge;
  return opening.cell;
}

/// Instructions of the first two maps with REX or without, after `before` bytes of prefixes; the others go the slow
/// way. Returns the length, which may be more than the bytes there are, or 0.
template <bool kMode64, bool kPrefixed, class How>
[[gnu::always_inline]] inline unsigned decode_quickly(const std::uint8_t* p, Instruction& out, unsigned before = 0,
                                                      unsigned prefixes = 0) {
  constexpr const Quick<kMode64>& q = kQuick<kMode64>;
  const auto ahead = load<std::uint64_t>(p + before);
  const FirstByte& byte = q.first_bytes[ahead & 0xff];
  Opening opening{ahead >> byte.bits, {}, byte.first, 8 * before + byte.bits, prefixes};
  opening.cell = q.cells[0][opening.bytes & 0xff];
  if (opening.cell.not_quick()) [[unlikely]] {
    const auto opcode = static_cast<std::uint8_t>(opening.bytes);
    if (opcode == 0x0f) {
      opening.bytes >>= 8;
      opening.at += 8;
      opening.cell = q.cells[1][opening.bytes & 0xff];
      if (opening.cell.not_quick()) return decode_slowly(p, kMode64 ? Mode::bits64 : Mode::bits32, out);
    } else if (opening.cell.by_row()) {
      opening.cell = with_immediates<kMode64, kPrefixed, How>(opening);
    } else {
      if constexpr (!kPrefixed) {
        if (byte.bits == 0 && is_usual_prefix(opcode)) return decode_prefixed<kMode64, How>(p, out);
      }
      return decode_slowly(p, kMode64 ? Mode::bits64 : Mode::bits32, out);
    }
  }
  const unsigned length = finish_quickly<kMode64, kPrefixed, How>(p, opening, out);
  if constexpr (kPrefixed) return length <= kLongestInstruction ? length : nothing(out);
  return length;
}

/// Any number of 66, one of F2 F3, and one of the segments that compilers name.
template <bool kMode64, class How>
unsigned decode_prefixed(const std::uint8_t* p, Instruction& out) {
  constexpr unsigned kMostPrefixes = 8, kRepeats = kPrefixRep | kPrefixRepne, kSegment = 7U << kSegmentShift;
  unsigned prefixes = 0, at = 0;
  for (; is_usual_prefix(p[at]); ++at) {
    const unsigned more = kPrefixActions[p[at]].set;
    if (at == kMostPrefixes || ((more & kRepeats) != 0 && (prefixes & kRepeats) != 0) ||
        ((more & kSegment) != 0 && (prefixes & kSegment) != 0))
      return decode_slowly(p, kMode64 ? Mode::bits64 : Mode::bits32, out);
    prefixes |= more;
  }
  return decode_quickly<kMode64, true, How>(p, out, at, prefixes);
}

}  // namespace

namespace {

/// The end of a buffer: what lies after it reads as zeros, and counts nothing.
[[gnu::noinline]] unsigned decode_at_end(std::span<const std::uint8_t> bytes, Mode mode, Instruction& into) {
  std::uint8_t padded[kReadable] = {};
  if (!bytes.empty()) std::memcpy(padded, bytes.data(), bytes.size());
  const unsigned length = mode == Mode::bits64 ? decode_quickly<true, false, Gather>(padded, into)
                                               : decode_quickly<false, false, Gather>(padded, into);
  return length <= bytes.size() ? length : nothing(into);
}

template <bool kMode64, class How>
[[gnu::always_inline]] inline std::size_t decode_run_quickly(std::span<const std::uint8_t> bytes, std::size_t extent,
                                                             std::span<Instruction> into) {
  const std::uint8_t* at = bytes.data();
  const std::uint8_t* const end = at + std::min(extent, bytes.size());
  const std::uint8_t* const readable =
      bytes.size() < kReadable ? at : at + std::min(extent, bytes.size() - kReadable + 1);
  Instruction* out = into.data();
  Instruction* const full = out + into.size();
  for (; at < readable && out != full; ++out) {
    const unsigned length = decode_quickly<kMode64, false, How>(at, *out);
    if (length == 0) return static_cast<std::size_t>(out - into.data());
    at += length;
  }
  for (; at < end && out != full; ++out) {
    const auto rest = bytes.subspan(static_cast<std::size_t>(at - bytes.data()));
    const unsigned length = decode_at_end(rest, kMode64 ? Mode::bits64 : Mode::bits32, *out);
    if (length == 0) break;
    at += length;
  }
  return static_cast<std::size_t>(out - into.data());
}

#if defined(__x86_64__)
bool has_bmi2() { return __builtin_cpu_supports("bmi2") != 0; }

// The same for processors with BMI2, whose shifts take their count from any register too.
[[gnu::target("bmi,bmi2")]] std::size_t decode_run_with_bmi2(std::span<const std::uint8_t> bytes, std::size_t extent,
                                                             std::span<Instruction> into) {
  return decode_run_quickly<true, GatherByBmi2>(bytes, extent, into);
}
[[gnu::target("bmi,bmi2")]] unsigned decode_with_bmi2(const std::uint8_t* bytes, Instruction& into) {
  return decode_quickly<true, false, GatherByBmi2>(bytes, into);
}
#endif

}  // namespace

std::size_t decode_run(std::span<const std::uint8_t> bytes, std::size_t extent, Mode mode,
                       std::span<Instruction> into) noexcept {
#if defined(__x86_64__)
  if (mode == Mode::bits64 && has_bmi2()) return decode_run_with_bmi2(bytes, extent, into);
#endif
  return mode == Mode::bits64 ? decode_run_quickly<true, Gather>(bytes, extent, into)
                              : decode_run_quickly<false, Gather>(bytes, extent, into);
}

unsigned decode(std::span<const std::uint8_t> bytes, Mode mode, Instruction& into) noexcept {
  if (bytes.size() < kReadable) [[unlikely]]
    return decode_at_end(bytes, mode, into);
#if defined(__x86_64__)
  if (mode == Mode::bits64 && has_bmi2()) return decode_with_bmi2(bytes.data(), into);
#endif
  return mode == Mode::bits64 ? decode_quickly<true, false, Gather>(bytes.data(), into)
                              : decode_quickly<false, false, Gather>(bytes.data(), into);
}

Instruction decode(std::span<const std::uint8_t> bytes, Mode mode) noexcept {
  Instruction instruction;
  (void)decode(bytes, mode, instruction);
  return instruction;
}

}  // namespace deeptrace::isa
