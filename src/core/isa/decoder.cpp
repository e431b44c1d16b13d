// The complete way: reads prefixes, asks the decision tree which row the opcode names, then measures ModRM,
// displacement and immediates. Most instructions do not come here: see quick_decoder.cpp.
#include <algorithm>
#include <array>
#include <cstring>
#include <iterator>

#include "isa/encoding.h"

namespace deeptrace::isa {

namespace tables {
#include "isa_table.inc"
extern const std::size_t kRowCount = std::size(kRows);
}  // namespace tables

namespace {

using namespace tables;
using namespace encoding;

constexpr std::uint32_t kNoRow = std::size(kRows);

/// What the generator packs of an opcode into an entry of kCells: where its tree begins, and what its length is made
/// of.
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

/// The answers to all questions of the trees; DIMENSIONS in generator/trees.py says which lies where.
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
bool finish(const std::uint8_t* p, const Head& head, Instruction& out) {
  unsigned at = head.at;
  const unsigned opcode_byte = head.map == kMap3dNow ? 0U : p[at];
  // 3DNow!: the opcode is the last byte, after the operand (AMD64 manual volume 3, 1.2.1).
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
  if (kMode64 && (shape.near() || (shape.stack() && raw_size == 4))) size = 8;
  if (kMode64 && shape.near() && raw_size == 2) more |= kPrefixVendor;
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
  return !rare || passes_check(out);
}

template <bool kMode64>
unsigned decode_slowly_in(const std::uint8_t* p, Instruction& out) {
  out = {};
  HeadReader<kMode64> reader(p);
  if (!reader.read() || !finish<kMode64>(p, reader.head(), out) || out.length > kLongestInstruction)
    return nothing(out);
  return out.length;
}

}  // namespace

bool encoding::passes_check(Instruction& instruction) {
  return Check(instruction, Shape{kShapes[instruction.row]}).passes();
}

unsigned encoding::decode_slowly(const std::uint8_t* bytes, Mode mode, Instruction& out) {
  return mode == Mode::bits64 ? decode_slowly_in<true>(bytes, out) : decode_slowly_in<false>(bytes, out);
}

Instruction decode_the_long_way(std::span<const std::uint8_t> bytes, Mode mode) noexcept {
  std::uint8_t padded[kReadable] = {};
  const std::size_t size = std::min(bytes.size(), kReadable);
  if (size != 0) std::memcpy(padded, bytes.data(), size);
  Instruction instruction;
  return decode_slowly(padded, mode, instruction) <= size ? instruction : Instruction{};
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
