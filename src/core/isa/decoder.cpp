// Reads prefixes, asks the decision tree which row the opcode names, then measures ModRM, displacement and
// immediates (Intel SDM volume 2, chapter 2; AMD64 manual volume 3, chapter 1).
//
// Bytes are read without a check each: `decode` sees to it that 32 may be read, and what lay beyond the given bytes
// is found out at the end, from the length.
#include <algorithm>
#include <array>
#include <cstring>
#include <iterator>

#include "isa/instruction.h"

namespace deeptrace::isa {

namespace tables {
#include "isa_table.inc"
extern const std::size_t kRowCount = std::size(kRows);
}  // namespace tables

namespace {

using namespace tables;

constexpr std::uint32_t kNoRow = std::size(kRows);
/// Bytes that may be read from the start of an instruction: the longest one and the widest fields behind it.
constexpr std::size_t kReadable = kLongestInstruction + 9 + 8;

/// What the generator packs of an opcode into an entry of kCells: what the length needs stands here, so that the next
/// instruction can be looked at before this one's row is known.
struct Cell {
  std::uint64_t bits;

  [[nodiscard]] constexpr std::uint32_t root() const { return static_cast<std::uint32_t>(bits); }
  /// Bytes of immediates for operand sizes of 2, 4 and 8 bytes.
  [[nodiscard]] constexpr unsigned immediate_bytes(unsigned size_index) const {
    return (bits >> (32 + 4 * size_index)) & 15;
  }
  [[nodiscard]] constexpr unsigned modrm() const { return (bits >> 44) & 1; }
  /// Bits that ModRM is read with whatever stands there: 0xc0 where mod means nothing.
  [[nodiscard]] constexpr unsigned modrm_or() const { return ((bits >> 46) & 1) * 0xc0; }
  [[nodiscard]] constexpr bool by_row() const { return ((bits >> 45) & 1) != 0; }  ///< the row tells the immediates
};

/// What the generator packs of a row into a word of kShapes.
struct Shape {
  std::uint32_t bits;

  [[nodiscard]] bool has(unsigned bit) const { return ((bits >> bit) & 1) != 0; }
  [[nodiscard]] Field immediate() const { return static_cast<Field>(bits & 15); }
  [[nodiscard]] bool second_byte() const { return has(4); }  ///< a second immediate
  [[nodiscard]] bool mandatory() const { return has(5); }    ///< the 66, F2 or F3 is part of the opcode
  [[nodiscard]] bool near() const { return has(8); }
  [[nodiscard]] bool stack() const { return has(9); }
  [[nodiscard]] bool lock() const { return has(10); }
  [[nodiscard]] bool uses_vvvv() const { return has(11); }
  [[nodiscard]] bool mask() const { return has(12); }
  [[nodiscard]] bool zero() const { return has(13); }
  [[nodiscard]] bool mask_needed() const { return has(14); }
  [[nodiscard]] bool rounding() const { return has(15); }
  [[nodiscard]] bool suppress() const { return has(16); }
  [[nodiscard]] unsigned broadcast() const { return (bits >> 17) & 3; }  ///< log2 of the element's bytes, or 0
  [[nodiscard]] unsigned scale() const { return (bits >> 19) & 15; }     ///< log2 of a short displacement's factor
  [[nodiscard]] bool scale_by_length() const { return has(23); }
  [[nodiscard]] bool needs_sib() const { return has(24); }
  [[nodiscard]] bool memory_first() const { return has(25); }
  [[nodiscard]] bool no_rip() const { return has(26); }
  [[nodiscard]] bool general_reg() const { return has(27); }  ///< EVEX: ModRM.reg is a general register
  [[nodiscard]] bool distinct() const { return has(28); }
  [[nodiscard]] bool small_reg() const { return has(29); }
  [[nodiscard]] bool small_vvvv() const { return has(30); }
  [[nodiscard]] bool small_rm() const { return has(31); }
  /// Log2 of the factor of a one-byte displacement under EVEX (Intel SDM volume 2, 2.7.5).
  [[nodiscard]] unsigned displacement_scale(const Instruction& in) const {
    if ((in.evex & kEvexBroadcast) != 0) return broadcast();
    return scale() + (scale_by_length() ? (in.vector >> kVectorLengthShift) & 3 : 0);
  }
};

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
constexpr auto kStarts = starts();

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
constexpr auto kPrefixActions = prefix_actions();

/// The mandatory-prefix answer (none, 66, F3, F2) by the three prefix bits rep, repne, operand size.
constexpr std::uint8_t kMandatory[8] = {0, 2, 3, 2, 1, 2, 3, 2};

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
constexpr auto kAddressShapes = address_shapes();

/// Bytes of an immediate field by mode and operand size (2, 4, 8 as 0, 1, 2); the absolute address is left out.
constexpr std::uint8_t kFieldBytes[2][3][9] = {
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
constexpr std::uint64_t kFieldMask[9] = {
    0, 0xff, 0xffff, 0xffffff, 0xffffffff, 0xffffffffff, 0xffffffffffff, 0xffffffffffffff, ~std::uint64_t(0)};
constexpr std::uint32_t kSignBit[5] = {0, 0x80, 0x8000, 0x800000, 0x80000000};

/// What stands before the opcode byte.
struct Head {
  unsigned at = 0;          ///< of the opcode
  unsigned map = kOneByte;  ///< a Map
  unsigned mandatory = 0;   ///< none, 66, F3, F2 as 0 to 3
  unsigned prefixes = 0;    ///< as in Instruction
  unsigned rex = 0, vector = 0, evex = 0;
};

/// Reads what stands before the opcode in one mode; all of it, prefixes included. Slow and complete.
template <bool kMode64>
class HeadReader {
 public:
  explicit HeadReader(const std::uint8_t* bytes) : p_(bytes) { head_.prefixes = kMode64 ? kPrefixMode64 : 0; }

  bool read() {
    if (!read_prefixes()) return false;
    const std::uint8_t byte = p_[head_.at];
    const std::uint8_t start = kStarts[kMode64][byte];
    if (start == kEscape) {
      read_escape();
    } else if (start == kVectorPrefix && is_vector_prefix(byte, p_[head_.at + 1])) {
      return read_vector_prefix(byte);
    }
    return true;
  }

  [[nodiscard]] const Head& head() const { return head_; }

 private:
  /// Legacy prefixes in any order, then at most one REX directly before the opcode.
  bool read_prefixes() {
    for (;; ++head_.at) {
      const std::uint8_t byte = p_[head_.at];
      const std::uint8_t start = kStarts[kMode64][byte];
      if (start == kRexPrefix) {
        head_.rex = byte;  // forgotten again when another prefix follows
      } else if (start == kLegacyPrefix) {
        head_.rex = 0;
        if (kMode64 && is_ignored_segment(byte)) continue;
        head_.prefixes = (head_.prefixes & kPrefixActions[byte].keep) | kPrefixActions[byte].set;
      } else {
        head_.mandatory = kMandatory[(head_.prefixes >> 1) & 7];
        return true;
      }
      if (head_.at + 1 >= kLongestInstruction) return false;
    }
  }

  /// es, cs, ss and ds are no overrides in 64-bit mode: fs or gs before them stays (AMD64 manual volume 3, 1.2.4).
  [[nodiscard]] bool is_ignored_segment(std::uint8_t byte) const {
    return (byte & 0xe7) == 0x26 && ((head_.prefixes >> kSegmentShift) & 7) > kFs;
  }

  void read_escape() {
    const std::uint8_t next = p_[++head_.at];
    head_.map = next == 0x38 ? kMap0F38 : next == 0x3a ? kMap0F3A : next == 0x0f ? kMap3dNow : kMap0F;
    if (head_.map != kMap0F) ++head_.at;
  }

  /// Outside 64-bit mode C4, C5 and 62 are other instructions when a memory operand follows; 8F is `pop` when the
  /// map number would be below 8.
  [[nodiscard]] static bool is_vector_prefix(std::uint8_t byte, std::uint8_t next) {
    if (byte == 0x8f) return (next & 0x1f) >= 8;
    return kMode64 || next >= 0xc0;
  }

  /// VEX (Intel SDM volume 2, 2.3.5), EVEX (2.7.1), XOP (AMD64 manual volume 3, 1.2.4): any of 66 F2 F3 F0 REX before
  /// them faults.
  bool read_vector_prefix(std::uint8_t byte) {
    constexpr unsigned kForbidden = kPrefixLock | kPrefixRep | kPrefixRepne | kPrefixOperandSize;
    if ((head_.prefixes & kForbidden) != 0 || head_.rex != 0) return false;
    if (byte == 0x62) return read_evex();
    const std::uint8_t first = p_[head_.at + 1];
    const std::uint8_t last = byte == 0xc5 ? first : p_[head_.at + 2];
    const unsigned map = byte == 0xc5 ? 1U : first & 0x1fU;
    head_.rex = (first & 0x80) == 0 ? kRexR : 0;
    if (byte != 0xc5) head_.rex |= extension_bits(first) | ((last & 0x80) != 0 ? kRexW : 0);
    head_.at += byte == 0xc5 ? 2 : 3;
    take_last_byte(last);
    head_.vector |= (last & 4U) << (kVectorLengthShift - 2);
    head_.prefixes |= byte == 0x8f ? kPrefixXop : kPrefixVex;
    head_.map = byte == 0x8f ? kXop8 + map - 8 : kVex0F + map - 1;
    return byte == 0x8f ? map <= 10 : map >= 1 && map <= 3;
  }

  bool read_evex() {
    const std::uint8_t first = p_[head_.at + 1], second = p_[head_.at + 2], third = p_[head_.at + 3];
    const unsigned map = first & 7;
    if ((first & 8) != 0 || (second & 4) == 0 || map == 0 || map == 4 || map == 7) return false;
    head_.rex = ((first & 0x80) == 0 ? kRexR : 0U) | extension_bits(first) | ((second & 0x80) != 0 ? kRexW : 0U);
    head_.at += 4;
    take_last_byte(second);
    head_.vector |= (third & 0x60U) | ((third & 8) == 0 ? 0x10U : 0U);
    if ((first & 0x10) == 0) head_.vector |= kVectorHighReg;
    head_.evex = (third & 7U) | (third & 0x10U) >> 1 | (third & 0x80U) >> 3;
    if constexpr (!kMode64) {
      if ((head_.vector & 0x10) != 0) return false;
      head_.vector &= ~unsigned(kVectorHighReg);
    }
    head_.prefixes |= kPrefixEvex;
    head_.map = map < 4 ? kEvex0F + map - 1 : kEvexM5 + map - 5;
    return true;
  }

  static unsigned extension_bits(std::uint8_t byte) {
    return ((byte & 0x40) == 0 ? kRexX : 0U) | ((byte & 0x20) == 0 ? kRexB : 0U);
  }

  /// The byte with vvvv and pp is the same in all three.
  void take_last_byte(std::uint8_t last) {
    head_.mandatory = last & 3;
    head_.vector = (~unsigned(last) >> 3) & (kMode64 ? 0xf : 7);
    if constexpr (!kMode64) head_.rex &= kRexW;
  }

  const std::uint8_t* p_;
  Head head_;
};

/// What may be wrong with vector-encoded and locked instructions.
class Check {
 public:
  Check(Instruction& instruction, Shape shape) : out_(instruction), shape_(shape) {}

  bool passes() {
    if ((out_.prefixes & kPrefixEvex) != 0 && out_.displacement_size == 1)
      out_.displacement *= 1 << shape_.displacement_scale(out_);
    const bool rip = (out_.prefixes & kPrefixMode64) != 0 && out_.modrm < 0x40 && (out_.modrm & 7) == 5;
    if (shape_.no_rip() && rip) return false;
    if (shape_.needs_sib() && out_.address_size == 2) return false;
    if ((out_.prefixes & kPrefixLock) != 0) return shape_.lock() && out_.modrm_at != 0 && out_.modrm < 0xc0;
    return !out_.is_vector_encoded() || vector_allowed();
  }

 private:
  bool vector_allowed() const {
    if (!shape_.uses_vvvv()) {
      const unsigned unused = shape_.needs_sib() ? 0xf : kVectorRegister;
      if ((out_.vector & unused) != 0) return false;
    }
    const bool memory = out_.modrm_at != 0 && out_.modrm < 0xc0;
    if (shape_.needs_sib() && (out_.modrm & 7) != 4) return false;
    if (!small_registers_fit()) return false;
    if (shape_.distinct() && !registers_differ()) return false;
    return (out_.prefixes & kPrefixEvex) == 0 || evex_allowed(memory);
  }

  /// There are eight mask registers and tiles, and sixteen general registers; a higher number faults.
  [[nodiscard]] bool small_registers_fit() const {
    if (shape_.general_reg() && (out_.vector & kVectorHighReg) != 0) return false;
    if (shape_.small_reg() && ((out_.rex & kRexR) != 0 || (out_.vector & kVectorHighReg) != 0)) return false;
    if (shape_.small_vvvv() && (out_.vector & 0x18) != 0) return false;
    return !shape_.small_rm() || out_.modrm < 0xc0 || (out_.rex & kRexB) == 0;
  }

  /// Masks, broadcast and rounding only where the row has them (Intel SDM volume 2, 2.7.11).
  [[nodiscard]] bool evex_allowed(bool memory) const {
    const unsigned mask = out_.evex & kEvexMask;
    if (mask != 0 && !shape_.mask() && !shape_.mask_needed()) return false;
    if (mask == 0 && shape_.mask_needed()) return false;
    if ((out_.evex & kEvexZero) != 0 && (!shape_.zero() || mask == 0 || (memory && shape_.memory_first())))
      return false;
    if ((out_.evex & kEvexBroadcast) != 0 &&
        !(memory ? shape_.broadcast() != 0 : shape_.rounding() || shape_.suppress()))
      return false;
    // A length of 3 is a rounding mode or nothing.
    return ((out_.vector >> kVectorLengthShift) & 3) != 3 || out_.has_rounding();
  }

  /// Gathers fault when destination, index and mask are not different registers; so do tile products.
  [[nodiscard]] bool registers_differ() const {
    const unsigned reg = ((out_.modrm >> 3) & 7U) + ((out_.rex & kRexR) != 0 ? 8U : 0U) +
                         ((out_.vector & kVectorHighReg) != 0 ? 16U : 0U);
    const unsigned vvvv = out_.vector & kVectorRegister;
    if (!shape_.needs_sib()) {
      const bool evex = (out_.prefixes & kPrefixEvex) != 0;
      const unsigned rm =
          (out_.modrm & 7U) + ((out_.rex & kRexB) != 0 ? 8U : 0U) + (evex && (out_.rex & kRexX) != 0 ? 16U : 0U);
      return reg != vvvv && (out_.modrm < 0xc0 || reg != rm) && (evex || vvvv != rm);
    }
    if ((out_.prefixes & kPrefixEvex) != 0 && shape_.memory_first()) return true;
    const unsigned high = (out_.prefixes & kPrefixEvex) != 0 ? vvvv & 0x10 : 0;
    const unsigned index = ((out_.sib >> 3) & 7U) + ((out_.rex & kRexX) != 0 ? 8U : 0U) + high;
    if ((out_.prefixes & kPrefixEvex) != 0) return reg != index;
    return reg != index && reg != vvvv && index != vvvv;
  }

  Instruction& out_;
  Shape shape_;
};

[[gnu::noinline]] bool passes_check(Instruction& out, Shape shape) { return Check(out, shape).passes(); }

/// The answers to all questions of the trees; DIMENSIONS in generate_table.py says which lies where.
inline std::uint32_t context_of(const Head& head, unsigned modrm, unsigned raw_size, unsigned address_size) {
  const bool rounding = (head.evex & kEvexBroadcast) != 0 && modrm >= 0xc0;
  const unsigned length = rounding ? 2 : (head.vector >> kVectorLengthShift) & 3;
  return (modrm & 0x3fU) | (modrm >= 0xc0 ? 1U << 6 : 0) | head.mandatory << 8 | (head.rex & kRexW) << 7 |
         length << 11 | (raw_size >> 2) << 13 | (address_size >> 2U) << 15 | (head.rex & kRexB) << 17U;
}

/// One question: where the answer leads. Rows lead to themselves.
inline std::uint32_t ask(const std::uint32_t* nodes, std::uint32_t node, std::uint32_t answers) {
  return nodes[(node & 0xffff) + ((answers >> ((node >> 16) & 31)) & (node >> 21))];
}

/// Follows the tree from an opcode to its row. Most opcodes need no question or one, so the first is asked in any case.
inline std::uint32_t find_row(const std::uint32_t* nodes, std::uint32_t node, std::uint32_t answers) {
  node = ask(nodes, node, answers);
  while ((node >> 21) != 0) node = ask(nodes, node, answers);
  return node;
}

/// A number that is 0 where a field is absent.
inline std::uint8_t place(unsigned at, bool present) {
  return static_cast<std::uint8_t>(at & (0U - static_cast<unsigned>(present)));
}

/// From the opcode on. Lengths are found without waiting for the row, and mostly without branches. False when no
/// instruction stands there. The length may be more than the bytes there are.
template <bool kMode64>
[[gnu::always_inline]] inline bool finish(const std::uint8_t* p, const Head& head, Instruction& out) {
  unsigned at = head.at;
  const unsigned opcode_byte = head.map == kMap3dNow ? 0U : p[at];
  // 3DNow!: the opcode is the last byte, behind the operand (AMD64 manual volume 3, 1.2.1).
  const Cell cell{head.map == kMap3dNow ? std::uint64_t(3) << 44 : kCells[kMode64][head.map][opcode_byte]};
  if (head.map != kMap3dNow) ++at;

  // ModRM, SIB and displacement (Intel SDM volume 2, tables 2-1 to 2-3), where the opcode has them.
  constexpr unsigned kNative = kMode64 ? 8 : 4;
  const unsigned address_size = kNative >> ((head.prefixes & kPrefixAddressSize) != 0 ? 1 : 0);
  const unsigned has_modrm = cell.modrm();
  const unsigned first = p[at] | cell.modrm_or();
  const unsigned modrm = first & (0U - has_modrm);
  out.modrm_at = place(at, has_modrm != 0);
  unsigned shape_of_address = kAddressShapes[first] & (0U - has_modrm);
  if (!kMode64 && address_size == 2) [[unlikely]] {
    const unsigned mod = modrm >> 6;
    shape_of_address = mod == 1 ? 1 : mod == 2 || (has_modrm != 0 && (modrm & 0xc7) == 6) ? 2 : 0;
  }
  at += has_modrm;
  const unsigned has_sib = shape_of_address >> 3;
  const unsigned sib = p[at] & (0U - has_sib);
  at += has_sib;
  // Without a base a SIB byte brings four bytes of displacement.
  const unsigned no_base = has_sib & static_cast<unsigned>((sib & 7) == 5) & static_cast<unsigned>(modrm < 0x40);
  const unsigned displacement_size = (shape_of_address & 7) + 4 * no_base;
  const std::uint32_t raw = load<std::uint32_t>(p + at) & static_cast<std::uint32_t>(kFieldMask[displacement_size]);
  out.displacement = static_cast<std::int32_t>((raw ^ kSignBit[displacement_size]) - kSignBit[displacement_size]);
  out.displacement_at = place(at, displacement_size != 0);
  out.displacement_size = static_cast<std::uint8_t>(displacement_size);
  out.modrm = static_cast<std::uint8_t>(modrm);
  out.sib = static_cast<std::uint8_t>(sib);
  at += displacement_size;

  const unsigned raw_size = (head.rex & kRexW) != 0 ? 8 : (head.prefixes & kPrefixOperandSize) != 0 ? 2 : 4;
  const unsigned immediate_at = at;
  at += cell.immediate_bytes(raw_size >> 2);

  std::uint32_t root = cell.root();
  out.opcode_at = static_cast<std::uint8_t>(head.at);
  out.opcode = static_cast<std::uint8_t>(opcode_byte);
  if (head.map == kMap3dNow) [[unlikely]] {
    out.opcode_at = static_cast<std::uint8_t>(at);
    out.opcode = p[at++];
    root = Cell{kCells[kMode64][kMap3dNow][out.opcode]}.root();
  }
  const std::uint32_t row = find_row(kNodes, root, context_of(head, modrm, raw_size, address_size));
  if (row == kNoRow) [[unlikely]]
    return false;
  const Shape shape{kShapes[row]};
  unsigned size = raw_size, more = shape.mandatory() ? kPrefixMandatory : 0;
  if constexpr (kMode64) {
    const unsigned near = (shape.bits >> 8) & 1;
    const unsigned stack = (shape.bits >> 9) & (raw_size >> 2) & 1;
    size = (near | stack) != 0 ? 8 : raw_size;
    more |= near * (raw_size == 2 ? kPrefixVendor : 0);
  }
  if (cell.by_row() && head.map != kMap3dNow) [[unlikely]] {
    const Field field = shape.immediate();
    at += field == Field::address ? address_size
                                  : kFieldBytes[kMode64][size == 2 ? 0 : size >> 2][static_cast<std::size_t>(field)];
    at += shape.second_byte() ? 1 : 0;
  }
  const unsigned bytes = head.map == kMap3dNow ? 0 : at - immediate_at;  // of two immediates the second has one byte
  const unsigned second = shape.second_byte() ? 1 : 0;
  out.immediate = load<std::uint64_t>(p + immediate_at) & kFieldMask[bytes];
  out.immediate_at = place(immediate_at, bytes != 0);
  out.immediate_size[0] = static_cast<std::uint8_t>(bytes - second);
  out.immediate_size[1] = static_cast<std::uint8_t>(second);
  out.row = static_cast<std::uint16_t>(row);
  out.prefixes = static_cast<std::uint16_t>(head.prefixes | more);
  out.rex = static_cast<std::uint8_t>(head.rex);
  out.vector = static_cast<std::uint8_t>(head.vector);
  out.evex = static_cast<std::uint8_t>(head.evex);
  out.operand_size = static_cast<std::uint8_t>(size);
  out.address_size = static_cast<std::uint8_t>(address_size);
  out.length = static_cast<std::uint8_t>(at);
  constexpr unsigned kRare = kPrefixLock | kPrefixVex | kPrefixEvex | kPrefixXop;
  const bool rare = (head.prefixes & kRare) != 0 || shape.no_rip();
  return !rare || passes_check(out, shape);
}

/// No instruction.
inline unsigned nothing(Instruction& out) {
  out = {};
  return 0;
}

/// Any instruction; its length, or 0.
template <bool kMode64>
[[gnu::noinline]] unsigned decode_slowly(const std::uint8_t* p, Instruction& out) {
  out = {};
  HeadReader<kMode64> reader(p);
  if (!reader.read() || !finish<kMode64>(p, reader.head(), out) || out.length > kLongestInstruction)
    return nothing(out);
  return out.length;
}

/// What the quick way asks of a ModRM byte, packed into one word; all of it is 0 for opcodes without one.
struct QuickShape {
  std::uint64_t bits;

  /// ModRM, SIB and displacement together, in bytes.
  [[nodiscard]] unsigned operand_bytes() const { return bits & 15; }
  /// 4 where a SIB byte without base brings as many bytes of displacement.
  [[nodiscard]] unsigned without_base() const { return (bits >> 4) & 4; }
  [[nodiscard]] unsigned displacement_size() const { return (bits >> 8) & 15; }
  /// The row of kPlaces.
  [[nodiscard]] unsigned places() const { return (bits >> 12) & 15; }
  /// Which of the two bytes behind the opcode are ModRM and SIB.
  [[nodiscard]] unsigned byte_mask() const { return (bits >> 16) & 0xffff; }
  /// The answers that ModRM gives to the trees' questions.
  [[nodiscard]] std::uint32_t answers() const { return static_cast<std::uint32_t>(bits >> 32); }
};

/// The ways in which fields can follow an opcode: none, ModRM, with a displacement of one and of four bytes, and the
/// same with SIB. A SIB byte that turns out to have no base goes from `sib` to `sib_long`, two rows on.
enum Places : std::uint8_t { kNothing, kBare, kShort, kLong, kSib, kSibShort, kSibLong };

constexpr std::array<std::uint64_t, 256> quick_shapes() {
  std::array<std::uint64_t, 256> result{};
  for (unsigned modrm = 0; modrm < 256; ++modrm) {
    const unsigned shape = kAddressShapes[modrm], size = shape & 7, sib = shape >> 3;
    const std::uint64_t places = (sib != 0 ? kSib : kBare) + (size == 4 ? 2U : size);
    const std::uint64_t without_base = modrm < 0x40 && sib != 0 ? 4 : 0;
    const std::uint64_t answers = (modrm & 0x3fU) | (modrm >= 0xc0 ? 1U << 6 : 0);
    result[modrm] = (1 + size + sib) | without_base << 4 | std::uint64_t(size) << 8 | places << 12 |
                    std::uint64_t(sib != 0 ? 0xffff : 0xff) << 16 | answers << 32;
  }
  return result;
}

/// Word 2 of an instruction by where its opcode stands and by Places, without its immediate: the length so far, and
/// where opcode, ModRM and displacement lie.
constexpr std::array<std::array<std::uint64_t, 8>, 12> places() {
  std::array<std::array<std::uint64_t, 8>, 12> result{};
  for (unsigned at = 0; at < result.size(); ++at) {
    for (unsigned kind = kNothing; kind <= kSibLong; ++kind) {
      const unsigned modrm = kind != kNothing ? 1 : 0, sib = kind >= kSib ? 1 : 0;
      const unsigned size = kind == kShort || kind == kSibShort ? 1 : kind == kLong || kind == kSibLong ? 4 : 0;
      const unsigned displacement_at = size != 0 ? at + 2 + sib : 0;
      result[at][kind] = (at + 1 + modrm + sib + size) | at << 8 | modrm * (at + 1) << 16 | displacement_at << 24 |
                         std::uint64_t(size) << 32;
    }
  }
  return result;
}

/// The answers that REX gives to the trees' questions, without an operand-size prefix.
template <bool kMode64>
constexpr std::array<std::uint32_t, 16> rex_answers() {
  std::array<std::uint32_t, 16> result{};
  for (std::uint32_t rex = 0; rex < 16; ++rex) {
    const std::uint32_t size = (rex & kRexW) != 0 ? 8 : 4;
    result[rex] = (rex & kRexW) << 7 | (size >> 2) << 13 | (kMode64 ? 8U : 4U) >> 2 << 15 | (rex & kRexB) << 17U;
  }
  return result;
}
/// The cells of the first two maps, with ModRM told by the highest bit as well, and the bit below it where the quick
/// way ends: prefixes, escapes, vector encodings, and ModRM bytes of which some bits mean nothing.
constexpr std::uint64_t kQuickModRm = std::uint64_t(1) << 63, kNotQuick = std::uint64_t(1) << 62;
template <bool kMode64>
constexpr std::array<std::array<std::uint64_t, 256>, 2> quick_cells() {
  std::array<std::array<std::uint64_t, 256>, 2> result{};
  for (std::size_t map = 0; map < 2; ++map) {
    for (std::size_t byte = 0; byte < 256; ++byte) {
      const Cell cell{kCells[kMode64][map][byte]};
      const bool plain = map == 0 ? kStarts[kMode64][byte] == kOpcode : byte != 0x0f && (byte & 0xfd) != 0x38;
      const bool quick = plain && cell.modrm_or() == 0 && (!cell.by_row() || (map == 0 && (byte & 0xfe) == 0xf6));
      result[map][byte] = cell.bits | (cell.modrm() != 0 ? kQuickModRm : 0) | (quick ? 0 : kNotQuick);
    }
  }
  return result;
}
/// All that the quick way looks up, in one place, so that one register leads to it.
struct Quick {
  std::array<std::array<std::uint64_t, 256>, 2> cells;
  std::array<std::uint64_t, 256> shapes;
  std::array<std::array<std::uint64_t, 8>, 12> places;
  std::array<std::uint32_t, 16> rex_answers;
  std::array<std::uint64_t, 9> field_mask;
  std::array<std::uint64_t, 9> immediate_place;  ///< the byte of word 2 that says where an immediate of that size lies
  std::array<std::uint32_t, 5> displacement_mask, sign_bit;
  std::uint32_t row_shapes[std::size(kShapes)];
  std::uint32_t nodes[std::size(kNodes)];
};

template <bool kMode64>
constexpr Quick quick() {
  Quick q{};
  q.cells = quick_cells<kMode64>();
  q.shapes = quick_shapes();
  q.places = places();
  q.rex_answers = rex_answers<kMode64>();
  for (std::size_t i = 0; i < 9; ++i) {
    q.field_mask[i] = kFieldMask[i];
    q.immediate_place[i] = i == 0 ? 0 : std::uint64_t(0xff) << 40;
  }
  for (std::size_t i = 0; i < 5; ++i) {
    q.displacement_mask[i] = static_cast<std::uint32_t>(kFieldMask[i]);
    q.sign_bit[i] = kSignBit[i];
  }
  std::copy(std::begin(kShapes), std::end(kShapes), q.row_shapes);
  std::copy(std::begin(kNodes), std::end(kNodes), q.nodes);
  return q;
}
template <bool kMode64>
constexpr Quick kQuick = quick<kMode64>();

/// Stores one of the four words of an Instruction.
inline void store_word(Instruction& to, std::size_t word, std::uint64_t value) {
  std::memcpy(reinterpret_cast<unsigned char*>(&to) + 8 * word, &value, sizeof value);
}

/// What the quick way knows when it has found the opcode.
struct Opening {
  std::uint64_t bits;    ///< the quick cell
  std::uint64_t shape;   ///< the quick shape of the byte behind the opcode
  std::uint64_t behind;  ///< the bytes behind the opcode, ModRM and SIB if there are any
  unsigned opcode, at;   ///< the opcode byte, and where it stands
  unsigned rex;
  unsigned prefixes;  ///< those before it, as in Instruction
};

inline bool is_usual_prefix(std::uint8_t byte) {
  return byte == 0x66 || byte == 0x2e || (byte & 0xfe) == 0xf2 || (byte & 0xfe) == 0x64;
}

template <bool kMode64>
[[gnu::noinline]] unsigned decode_prefixed(const std::uint8_t* p, Instruction& out);

/// From the opcode on. The length does not wait for the row, and no branch depends on what instruction it is but for
/// the rare ones.
template <bool kMode64, bool kPrefixed>
[[gnu::always_inline]] inline unsigned finish_quickly(const std::uint8_t* p, const Opening& opening, Instruction& out) {
  constexpr const Quick& q = kQuick<kMode64>;
  const Cell cell{opening.bits};
  const QuickShape shape{opening.shape & static_cast<std::uint64_t>(static_cast<std::int64_t>(opening.bits) >> 63)};
  const bool wide = (opening.rex & kRexW) != 0;
  const bool narrow = kPrefixed && (opening.prefixes & kPrefixOperandSize) != 0;
  const unsigned no_base = shape.without_base() & ((opening.behind & 0x700) == 0x500 ? 4 : 0);
  const unsigned immediate_at = opening.at + 1 + shape.operand_bytes() + no_base;
  unsigned bytes = cell.immediate_bytes(wide ? 2 : narrow ? 0 : 1);

  const unsigned displacement_size = shape.displacement_size() + no_base;
  const std::uint32_t raw =
      load<std::uint32_t>(p + immediate_at - displacement_size) & q.displacement_mask[displacement_size];
  const std::uint32_t displacement = (raw ^ q.sign_bit[displacement_size]) - q.sign_bit[displacement_size];

  std::uint32_t answers = shape.answers() | q.rex_answers[opening.rex & 15];
  if constexpr (kPrefixed) {
    answers |= unsigned(kMandatory[(opening.prefixes >> 1) & 7]) << 8;
    if (narrow && !wide) answers &= ~(3U << 13);
  }
  const std::uint32_t row = find_row(q.nodes, cell.root(), answers);
  const Shape of_row{q.row_shapes[row]};
  unsigned size = wide ? 8 : narrow ? 2 : 4;
  // Near branches have 64 bits in 64-bit mode, stack operations 64 or 16.
  if constexpr (kMode64) size = (of_row.bits & (narrow ? 0x100 : 0x300)) != 0 ? 8 : size;
  if (cell.by_row()) [[unlikely]]
    bytes = kFieldBytes[kMode64][size == 2 ? 0 : size >> 2][static_cast<std::size_t>(of_row.immediate())];
  // Word by word: what is read next must not wait for narrower stores to come together.
  store_word(out, 0, load<std::uint64_t>(p + immediate_at) & q.field_mask[bytes]);
  std::uint32_t prefixes = (kMode64 ? std::uint32_t(kPrefixMode64) : 0U) | (of_row.bits & kPrefixMandatory);
  if constexpr (kPrefixed) {
    prefixes |= opening.prefixes;
    if (kMode64 && narrow && !wide && of_row.near()) prefixes |= kPrefixVendor;
  }
  store_word(out, 1, displacement | std::uint64_t(row | prefixes << 16) << 32);
  store_word(out, 2,
             (q.places[opening.at][shape.places() + (no_base >> 1)] |
              ((std::uint64_t(immediate_at) << 40) & q.immediate_place[bytes])) +
                 (bytes | std::uint64_t(bytes) << 48));
  const std::uint64_t modrm_and_sib = opening.behind & shape.byte_mask();
  store_word(out, 3,
             (modrm_and_sib | opening.opcode << 16) | std::uint64_t(size | (kMode64 ? 8U : 4U) << 8 | opening.rex << 24)
                                                          << 32);
  // The shape of no row at all asks for the check too.
  if (of_row.no_rip() && (row == kNoRow || !passes_check(out, of_row))) [[unlikely]]
    return nothing(out);
  return immediate_at + bytes;
}

/// Instructions of the first two maps with REX or without, behind `before` bytes of prefixes; the others go the slow
/// way. Returns the length, which may be more than the bytes there are, or 0.
template <bool kMode64, bool kPrefixed>
[[gnu::always_inline]] inline unsigned decode_quickly(const std::uint8_t* p, Instruction& out, unsigned before = 0,
                                                      unsigned prefixes = 0) {
  const auto ahead = load<std::uint64_t>(p + before);
  const bool has_rex = kMode64 && (ahead & 0xf0) == 0x40;
  Opening opening{};
  opening.prefixes = prefixes;
  const unsigned rex_bytes = has_rex ? 1 : 0;
  opening.at = before + rex_bytes;
  opening.rex = static_cast<unsigned>(ahead & 0xff) & (0U - rex_bytes);
  const std::uint64_t from_opcode = ahead >> (8 * rex_bytes);
  opening.opcode = from_opcode & 0xff;
  opening.behind = from_opcode >> 8;
  opening.bits = kQuick<kMode64>.cells[0][opening.opcode];
  opening.shape = kQuick<kMode64>.shapes[opening.behind & 0xff];
  if ((opening.bits & kNotQuick) != 0) {
    if (opening.opcode != 0x0f) {
      if constexpr (!kPrefixed) {
        if (!has_rex && is_usual_prefix(static_cast<std::uint8_t>(opening.opcode)))
          return decode_prefixed<kMode64>(p, out);
      }
      return decode_slowly<kMode64>(p, out);
    }
    opening.opcode = opening.behind & 0xff;
    opening.bits = kQuick<kMode64>.cells[1][opening.opcode];
    if ((opening.bits & kNotQuick) != 0) return decode_slowly<kMode64>(p, out);
    ++opening.at;
    opening.behind >>= 8;
    opening.shape = kQuick<kMode64>.shapes[opening.behind & 0xff];
  }
  const unsigned length = finish_quickly<kMode64, kPrefixed>(p, opening, out);
  if constexpr (kPrefixed) return length <= kLongestInstruction ? length : nothing(out);
  return length;
}

/// Any number of 66, one of F2 F3, and one of the segments that compilers name.
template <bool kMode64>
unsigned decode_prefixed(const std::uint8_t* p, Instruction& out) {
  constexpr unsigned kMostPrefixes = 8, kRepeats = kPrefixRep | kPrefixRepne, kSegment = 7U << kSegmentShift;
  unsigned prefixes = 0, at = 0;
  for (; is_usual_prefix(p[at]); ++at) {
    const unsigned more = kPrefixActions[p[at]].set;
    if (at == kMostPrefixes || ((more & kRepeats) != 0 && (prefixes & kRepeats) != 0) ||
        ((more & kSegment) != 0 && (prefixes & kSegment) != 0))
      return decode_slowly<kMode64>(p, out);
    prefixes |= more;
  }
  return decode_quickly<kMode64, true>(p, out, at, prefixes);
}

}  // namespace

namespace {

/// The end of a buffer: what lies behind it reads as zeros, and counts nothing.
[[gnu::noinline]] unsigned decode_at_end(std::span<const std::uint8_t> bytes, Mode mode, Instruction& into) {
  std::uint8_t padded[kReadable] = {};
  if (!bytes.empty()) std::memcpy(padded, bytes.data(), bytes.size());
  const unsigned length =
      mode == Mode::bits64 ? decode_quickly<true, false>(padded, into) : decode_quickly<false, false>(padded, into);
  return length <= bytes.size() ? length : nothing(into);
}

template <bool kMode64>
[[gnu::always_inline]] inline std::size_t decode_run_quickly(std::span<const std::uint8_t> bytes, std::size_t extent,
                                                             std::span<Instruction> into) {
  std::size_t at = 0, count = 0;
  const std::size_t readable = bytes.size() < kReadable ? 0 : bytes.size() - kReadable + 1;
  for (const std::size_t end = std::min(extent, readable); at < end && count < into.size(); ++count) {
    const unsigned length = decode_quickly<kMode64, false>(bytes.data() + at, into[count]);
    if (length == 0) return count;
    at += length;
  }
  for (; at < std::min(extent, bytes.size()) && count < into.size(); ++count) {
    const unsigned length = decode_at_end(bytes.subspan(at), kMode64 ? Mode::bits64 : Mode::bits32, into[count]);
    if (length == 0) return count;
    at += length;
  }
  return count;
}

#if defined(__x86_64__)
/// The same for processors with BMI2, whose shifts take their count from any register: a twentieth quicker.
[[gnu::target("bmi,bmi2")]] std::size_t decode_run_with_bmi2(std::span<const std::uint8_t> bytes, std::size_t extent,
                                                             std::span<Instruction> into) {
  return decode_run_quickly<true>(bytes, extent, into);
}
#endif

}  // namespace

std::size_t decode_run(std::span<const std::uint8_t> bytes, std::size_t extent, Mode mode,
                       std::span<Instruction> into) noexcept {
#if defined(__x86_64__)
  if (mode == Mode::bits64 && __builtin_cpu_supports("bmi2") != 0) return decode_run_with_bmi2(bytes, extent, into);
#endif
  return mode == Mode::bits64 ? decode_run_quickly<true>(bytes, extent, into)
                              : decode_run_quickly<false>(bytes, extent, into);
}

unsigned decode(std::span<const std::uint8_t> bytes, Mode mode, Instruction& into) noexcept {
  if (bytes.size() < kReadable) [[unlikely]]
    return decode_at_end(bytes, mode, into);
  return mode == Mode::bits64 ? decode_quickly<true, false>(bytes.data(), into)
                              : decode_quickly<false, false>(bytes.data(), into);
}

Instruction decode(std::span<const std::uint8_t> bytes, Mode mode) noexcept {
  Instruction instruction;
  (void)decode(bytes, mode, instruction);
  return instruction;
}

Instruction decode_the_long_way(std::span<const std::uint8_t> bytes, Mode mode) noexcept {
  std::uint8_t padded[kReadable] = {};
  const std::size_t size = std::min(bytes.size(), kReadable);
  if (size != 0) std::memcpy(padded, bytes.data(), size);
  Instruction instruction;
  const unsigned length =
      mode == Mode::bits64 ? decode_slowly<true>(padded, instruction) : decode_slowly<false>(padded, instruction);
  return length <= size ? instruction : Instruction{};
}

std::string_view mnemonic_of(const Row& row) { return kMnemonics[row.mnemonic]; }
std::string_view att_mnemonic_of(const Row& row) { return kMnemonics[row.att_mnemonic]; }
std::string_view feature_of(const Row& row) { return kFeatures[row.feature]; }
std::string_view encoding_of(const Row& row) { return kEncodings[row.encoding]; }
std::span<const Condition> conditions() { return kConditions; }

bool condition_holds(unsigned code, std::uint64_t flags) {
  const bool c = (flags & 1) != 0, p = (flags & 4) != 0, z = (flags & 0x40) != 0, s = (flags & 0x80) != 0,
             o = (flags & 0x800) != 0;
  const bool answers[] = {o, c, z, c || z, s, p, s != o, z || s != o};
  return answers[(code >> 1) & 7] != ((code & 1) != 0);
}

unsigned short_displacement_scale(const Instruction& instruction) {
  if ((instruction.prefixes & kPrefixEvex) == 0) return 0;
  return Shape{kShapes[instruction.row]}.displacement_scale(instruction);
}

std::string_view vendor_difference(const Instruction& instruction) {
  if ((instruction.prefixes & kPrefixVendor) == 0) return {};
  return "read as Intel's processors do: the operand-size prefix has no effect on a near branch; AMD's take a 16-bit "
         "displacement and cut the target to 16 bits";
}

}  // namespace deeptrace::isa
