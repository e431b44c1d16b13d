// Reads prefixes, asks the decision tree which row the opcode names, then measures ModRM, displacement and
// immediates (Intel SDM volume 2, chapter 2; AMD64 manual volume 3, chapter 1).
//
// Bytes are read without a check each: `decode` sees to it that 32 may be read, and what lay beyond the given bytes
// is found out at the end, from the length.
#include <algorithm>
#include <array>
#include <cstring>

#include "isa/instruction.h"

namespace deeptrace::isa {
namespace {

#include "isa_table.inc"

constexpr std::uint16_t kNoRow = 0xffff;
constexpr std::uint16_t kBranch = 0x8000;
constexpr std::uint8_t kRexW = 8, kRexR = 4, kRexX = 2, kRexB = 1;
/// Bytes that may be read from the start of an instruction: the longest one and the widest field behind it.
constexpr std::size_t kReadable = kLongestInstruction + 9 + 8;

/// Opcode maps, as MAPS of generate_table.py numbers them.
enum Map : unsigned { kOneByte, kMap0F, kMap0F38, kMap0F3A, kMap3dNow, kVex0F, kEvex0F = 8, kEvexM5 = 11, kXop8 = 13 };

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
  [[nodiscard]] bool rip_only() const { return has(27); }
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

/// What a legacy prefix byte does to Instruction::prefixes: clear some bits, set others. REX has a mark of its own.
struct PrefixAction {
  std::uint16_t keep = 0xffff, set = 0;
  std::uint8_t kind = 0;  ///< 0 no prefix, 1 a legacy one, 2 REX
};

constexpr std::array<std::array<PrefixAction, 256>, 2> prefix_actions() {
  std::array<std::array<PrefixAction, 256>, 2> actions{};
  constexpr auto kNoSegment = static_cast<std::uint16_t>(~(7U << kSegmentShift));
  const auto segment = [](unsigned number) { return static_cast<std::uint16_t>((number + 1) << kSegmentShift); };
  for (std::size_t mode = 0; mode < 2; ++mode) {
    auto& a = actions[mode];
    a[0xf0] = {0xffff, kPrefixLock, 1};
    a[0xf2] = {static_cast<std::uint16_t>(~kPrefixRep), kPrefixRepne, 1};
    a[0xf3] = {static_cast<std::uint16_t>(~kPrefixRepne), kPrefixRep, 1};
    a[0x66] = {0xffff, kPrefixOperandSize, 1};
    a[0x67] = {0xffff, kPrefixAddressSize, 1};
    a[0x26] = {kNoSegment, segment(kEs), 1};
    a[0x2e] = {kNoSegment, segment(kCs), 1};
    a[0x36] = {kNoSegment, segment(kSs), 1};
    a[0x3e] = {kNoSegment, segment(kDs), 1};
    a[0x64] = {kNoSegment, segment(kFs), 1};
    a[0x65] = {kNoSegment, segment(kGs), 1};
    for (std::size_t byte = 0x40; mode == 1 && byte < 0x50; ++byte) a[byte] = {0xffff, 0, 2};
  }
  return actions;
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

class Decoder {
 public:
  Decoder(const std::uint8_t* bytes, Mode mode) : p_(bytes), mode_(mode == Mode::bits64 ? 1 : 0) {
    if (mode_ != 0) out_.prefixes = kPrefixMode64;
  }

  /// The length of the result may be more than the bytes there are.
  Instruction run() {
    if (!read_prefixes() || !read_opcode()) return {};
    if (map_ == kMap3dNow ? !finish_3dnow() : !(find_row() && finish_modrm())) return {};
    read_immediates();
    if ((out_.prefixes & (kPrefixLock | kPrefixVex | kPrefixEvex | kPrefixXop)) != 0 && !is_allowed()) return {};
    if (shape_.no_rip() && out_.modrm < 0x40 && (out_.modrm & 7) == 5 && mode_ != 0) return {};
    out_.length = static_cast<std::uint8_t>(at_);
    return out_;
  }

 private:
  /// Legacy prefixes in any order, then at most one REX directly before the opcode.
  bool read_prefixes() {
    const auto& actions = kPrefixActions[mode_];
    for (;; ++at_) {
      const PrefixAction& action = actions[p_[at_]];
      if (action.kind == 0) return true;
      if (action.kind == 2) {
        out_.rex = p_[at_];  // forgotten again when another prefix follows
      } else {
        out_.rex = 0;
        out_.prefixes = static_cast<std::uint16_t>((out_.prefixes & action.keep) | action.set);
      }
      if (at_ + 1 >= kLongestInstruction) return false;
    }
  }

  bool read_opcode() {
    const std::uint8_t byte = p_[at_];
    if (byte == 0x0f) {
      const std::uint8_t next = p_[++at_];
      map_ = kMap0F;
      if (next == 0x38 || next == 0x3a) {
        map_ = next == 0x38 ? kMap0F38 : kMap0F3A;
        ++at_;
      } else if (next == 0x0f) {
        map_ = kMap3dNow;
      }
    } else if (byte == 0xc5 || byte == 0xc4 || byte == 0x62 || byte == 0x8f) {
      bool valid = true;
      if (is_vector_prefix(byte, p_[at_ + 1])) {
        valid = read_vector_prefix(byte);
        take_opcode();
        return valid;
      }
    }
    const unsigned prefixes = out_.prefixes;
    mandatory_ = kMandatory[(prefixes >> 1) & 7];
    take_opcode();
    return true;
  }

  void take_opcode() {
    out_.opcode_at = static_cast<std::uint8_t>(at_);
    out_.opcode = p_[at_++];
  }

  /// Outside 64-bit mode C4, C5 and 62 are other instructions when a memory operand follows; 8F is `pop` when the
  /// map number would be below 8.
  [[nodiscard]] bool is_vector_prefix(std::uint8_t byte, std::uint8_t next) const {
    if (byte == 0x8f) return (next & 0x1f) >= 8;
    return mode_ != 0 || next >= 0xc0;
  }

  /// VEX (Intel SDM volume 2, 2.3.5), EVEX (2.7.1), XOP (AMD64 manual volume 3, 1.2.4): any of 66 F2 F3 F0 REX before
  /// them faults.
  bool read_vector_prefix(std::uint8_t byte) {
    constexpr std::uint16_t kForbidden = kPrefixLock | kPrefixRep | kPrefixRepne | kPrefixOperandSize;
    if ((out_.prefixes & kForbidden) != 0 || out_.rex != 0) return false;
    if (byte == 0x62) return read_evex();
    const std::uint8_t first = p_[at_ + 1];
    std::uint8_t last = first;
    out_.rex = (first & 0x80) == 0 ? kRexR : 0;
    unsigned map = 1;
    if (byte != 0xc5) {
      last = p_[at_ + 2];
      if ((first & 0x40) == 0) out_.rex |= kRexX;
      if ((first & 0x20) == 0) out_.rex |= kRexB;
      if ((last & 0x80) != 0) out_.rex |= kRexW;
      map = first & 0x1f;
    }
    at_ += byte == 0xc5 ? 2 : 3;
    finish_vector_prefix(last);
    out_.vector |= static_cast<std::uint8_t>((last & 4) << (kVectorLengthShift - 2));
    if (byte == 0x8f) {
      out_.prefixes |= kPrefixXop;
      map_ = kXop8 + map - 8;
      return map <= 10;
    }
    out_.prefixes |= kPrefixVex;
    map_ = kVex0F + map - 1;
    return map >= 1 && map <= 3;
  }

  bool read_evex() {
    const std::uint8_t first = p_[at_ + 1], second = p_[at_ + 2], third = p_[at_ + 3];
    const unsigned map = first & 7;
    if ((first & 8) != 0 || (second & 4) == 0 || map == 0 || map == 4 || map == 7) return false;
    out_.rex = static_cast<std::uint8_t>((((~first) >> 5) & 7) | ((second & 0x80) >> 4));
    out_.rex = static_cast<std::uint8_t>(((first & 0x80) == 0 ? kRexR : 0) | ((first & 0x40) == 0 ? kRexX : 0) |
                                         ((first & 0x20) == 0 ? kRexB : 0) | ((second & 0x80) != 0 ? kRexW : 0));
    at_ += 4;
    finish_vector_prefix(second);
    out_.vector |= static_cast<std::uint8_t>((third & 0x60) | ((third & 8) == 0 ? 0x10 : 0));
    if ((first & 0x10) == 0) out_.vector |= kVectorHighReg;
    out_.evex = static_cast<std::uint8_t>((third & 7) | ((third & 0x10) >> 1) | ((third & 0x80) >> 3));
    if (mode_ == 0) {
      if ((out_.vector & 0x10) != 0) return false;
      out_.vector &= static_cast<std::uint8_t>(~kVectorHighReg);
    }
    out_.prefixes |= kPrefixEvex;
    map_ = map < 4 ? kEvex0F + map - 1 : kEvexM5 + map - 5;
    return true;
  }

  /// The byte with vvvv and pp is the same in all three.
  void finish_vector_prefix(std::uint8_t last) {
    constexpr std::uint8_t kFromPp[] = {0, 1, 2, 3};
    mandatory_ = kFromPp[last & 3];
    out_.vector = static_cast<std::uint8_t>((~last >> 3) & 0xf);
    if (mode_ == 0) {
      out_.rex &= kRexW;
      out_.vector &= 7;
    }
  }

  [[nodiscard]] unsigned raw_operand_size() const {
    if ((out_.rex & kRexW) != 0) return 8;
    return (out_.prefixes & kPrefixOperandSize) != 0 ? 2 : 4;
  }

  [[nodiscard]] unsigned address_size() const {
    const unsigned native = mode_ != 0 ? 8 : 4;
    return (out_.prefixes & kPrefixAddressSize) != 0 ? native / 2 : native;
  }

  /// The answers to all questions of the trees; DIMENSIONS in generate_table.py says which lies where.
  [[nodiscard]] std::uint32_t context() const {
    const unsigned length = out_.has_rounding() ? 2 : (out_.vector >> kVectorLengthShift) & 3;
    return (out_.modrm & 0x3fU) | (out_.modrm >= 0xc0 ? 1U << 6 : 0) | mandatory_ << 8 |
           static_cast<unsigned>((out_.rex & kRexW) != 0) << 10 | length << 11 | (raw_operand_size() >> 2) << 13 |
           (out_.address_size >> 2U) << 15 | (out_.rex & kRexB) << 17U;
  }

  bool find_row() {
    const std::uint8_t cell = kCells[mode_][map_][out_.opcode];
    if ((cell & 1) != 0) {
      out_.modrm_at = static_cast<std::uint8_t>(at_);
      out_.modrm = p_[at_++];
    }
    out_.address_size = static_cast<std::uint8_t>(address_size());
    std::uint16_t node = kRoots[mode_][map_][out_.opcode];
    if ((node & kBranch) != 0 && node != kNoRow) {
      const std::uint32_t answers = context();
      do {
        const std::uint16_t* branch = kTree + (node & ~kBranch);
        const unsigned question = branch[0];
        node = branch[1 + ((answers >> (question & 31)) & ((1U << (question >> 8)) - 1))];
      } while ((node & kBranch) != 0 && node != kNoRow);
    }
    if (node == kNoRow) return false;
    take_row(node);
    if (shape_.mandatory()) out_.prefixes |= kPrefixMandatory;
    return true;
  }

  void take_row(std::uint16_t row) {
    out_.row = row;
    shape_ = Shape{kShapes[row]};
    unsigned size = raw_operand_size();
    if (mode_ != 0) {
      if (shape_.near()) {
        if (size == 2) out_.prefixes |= kPrefixVendor;
        size = 8;
      }
      if (shape_.stack() && size == 4) size = 8;
    }
    out_.operand_size = static_cast<std::uint8_t>(size);
  }

  /// Displacement and SIB of a memory operand (Intel SDM volume 2, tables 2-1 to 2-3).
  bool finish_modrm() {
    if (out_.modrm >= 0xc0 || out_.modrm_at == 0) return true;
    if (out_.address_size == 2) {
      const unsigned mod = out_.modrm >> 6;
      if (shape_.needs_sib()) return false;
      read_displacement(mod == 1 ? 1 : mod == 2 || (out_.modrm & 0xc7) == 6 ? 2 : 0);
      return true;
    }
    const unsigned shape = kAddressShapes[out_.modrm];
    unsigned size = shape & 7;
    if ((shape & 8) != 0) {
      out_.sib = p_[at_++];
      if (out_.modrm < 0x40 && (out_.sib & 7) == 5) size = 4;
    }
    read_displacement(size);
    return true;
  }

  void read_displacement(unsigned size) {
    if (size == 0) return;
    out_.displacement_at = static_cast<std::uint8_t>(at_);
    out_.displacement_size = static_cast<std::uint8_t>(size);
    const unsigned shift = 32 - 8 * size;
    out_.displacement = static_cast<std::int32_t>(load<std::uint32_t>(p_ + at_) << shift) >> shift;
    if (size == 1 && (out_.prefixes & kPrefixEvex) != 0) out_.displacement *= 1 << displacement_scale();
    at_ += size;
  }

  [[nodiscard]] unsigned displacement_scale() const { return shape_.displacement_scale(out_); }

  /// 3DNow!: the opcode is the last byte, behind the operand (AMD64 manual volume 3, 1.2.1).
  bool finish_3dnow() {
    out_.modrm_at = static_cast<std::uint8_t>(at_);
    out_.modrm = p_[at_++];
    out_.address_size = static_cast<std::uint8_t>(address_size());
    finish_modrm();
    take_opcode();
    const std::uint16_t row = kRoots[mode_][kMap3dNow][out_.opcode];
    if (row == kNoRow) return false;
    take_row(row);
    return true;
  }

  [[nodiscard]] unsigned size_of(Field field) const {
    if (field == Field::address) return out_.address_size;
    return kFieldBytes[mode_][out_.operand_size == 2 ? 0 : out_.operand_size >> 2][static_cast<std::size_t>(field)];
  }

  void read_immediates() {
    if ((shape_.bits & 0xf) == 0) return;
    const unsigned first = size_of(shape_.immediate());
    out_.immediate_at = static_cast<std::uint8_t>(at_);
    out_.immediate_size[0] = static_cast<std::uint8_t>(first);
    const unsigned second = shape_.second_byte() ? 1 : 0;
    out_.immediate_size[1] = static_cast<std::uint8_t>(second);
    const unsigned unused = 64 - 8 * (first + second);
    out_.immediate = load<std::uint64_t>(p_ + at_) << unused >> unused;
    at_ += first + second;
  }

  /// What locked and vector-encoded instructions may not do.
  [[nodiscard]] bool is_allowed() const {
    if ((out_.prefixes & kPrefixLock) != 0) return shape_.lock() && out_.modrm_at != 0 && out_.modrm < 0xc0;
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

  /// There are eight mask registers and tiles; a higher number faults.
  [[nodiscard]] bool small_registers_fit() const {
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

  const std::uint8_t* p_;
  unsigned mode_;
  unsigned at_ = 0;
  unsigned map_ = kOneByte;
  unsigned mandatory_ = 0;
  Shape shape_{0};
  Instruction out_;
};

}  // namespace

Instruction decode(std::span<const std::uint8_t> bytes, Mode mode) noexcept {
  const std::size_t limit = std::min<std::size_t>(bytes.size(), kLongestInstruction);
  Instruction instruction;
  if (bytes.size() >= kReadable) {
    instruction = Decoder(bytes.data(), mode).run();
  } else {
    std::uint8_t padded[kReadable] = {};
    std::memcpy(padded, bytes.data(), limit);
    instruction = Decoder(padded, mode).run();
  }
  if (instruction.length > limit) return {};
  return instruction;
}

std::span<const Row> rows() { return kRows; }
const Row& row_of(const Instruction& instruction) { return kRows[instruction.row]; }
const Operation& operation_of(const Row& row) { return kOperations[row.operation]; }
std::string_view mnemonic_of(const Row& row) { return kMnemonics[row.mnemonic]; }
std::string_view att_mnemonic_of(const Row& row) { return kMnemonics[row.att_mnemonic]; }
std::string_view feature_of(const Row& row) { return kFeatures[row.feature]; }
std::span<const OperandUse> uses_of(const Row& row) { return {kOperandUses + row.operands_at, row.operand_count}; }
const OperandKind& kind_of(OperandUse use) { return kOperandKinds[use.kind]; }

ControlFlow flow_of(const Instruction& instruction) {
  const Row& row = row_of(instruction);
  if ((row.traits & kGate) != 0 && (instruction.immediate & 0xff) == 0x80) return ControlFlow::system;
  return operation_of(row).flow;
}

bool is_repeated(const Instruction& instruction) {
  return (row_of(instruction).traits & (kRep | kRepz)) != 0 &&
         (instruction.prefixes & (kPrefixRep | kPrefixRepne)) != 0;
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
