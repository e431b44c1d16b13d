// Reads prefixes, asks the decision tree which row the opcode names, then measures ModRM, displacement and
// immediates (Intel SDM volume 2, chapter 2).
#include <algorithm>

#include "isa/instruction.h"

namespace deeptrace::isa {
namespace {

#include "isa_table.inc"

constexpr std::uint16_t kNoRow = 0xffff;
constexpr std::uint16_t kBranch = 0x8000;
constexpr std::uint8_t kRexW = 8, kRexR = 4, kRexX = 2, kRexB = 1;

/// Encoding spaces and opcode maps, as generate_table.py numbers them.
enum Space : unsigned { kLegacy, kVex };
enum Map : unsigned { kOneByte, kMap0F, kMap0F38, kMap0F3A };
/// The mandatory-prefix selector's values.
enum Mandatory : unsigned { kNone, k66, kF3, kF2 };
/// Selectors, in the order of DIMENSIONS in generate_table.py.
enum class Selector : std::uint16_t {
  mode,
  mandatory,
  modrm_mod,
  modrm_reg,
  modrm_rm,
  w,
  l,
  operand_size,
  address_size,
  rexb
};

class Decoder {
 public:
  Decoder(std::span<const std::uint8_t> bytes, Mode mode)
      : bytes_(bytes.first(std::min<std::size_t>(bytes.size(), kLongestInstruction))), mode64_(mode == Mode::bits64) {
    if (mode64_) out_.prefixes = kPrefixMode64;
  }

  Instruction run() {
    if (!read_prefixes() || !read_opcode() || !find_row() || !read_modrm() || !read_immediates()) return {};
    if (!lock_allowed()) return {};
    out_.length = static_cast<std::uint8_t>(at_);
    return out_;
  }

 private:
  [[nodiscard]] bool has(unsigned count) const { return bytes_.size() - at_ >= count; }

  /// Legacy prefixes in any order, then at most one REX directly before the opcode.
  bool read_prefixes() {
    for (; has(1); ++at_) {
      const std::uint8_t byte = bytes_[at_];
      if (mode64_ && (byte & 0xf0) == 0x40) {
        out_.rex = byte;  // forgotten again when another prefix follows
        continue;
      }
      if (!take_legacy_prefix(byte)) return true;
      out_.rex = 0;
    }
    return false;
  }

  bool take_legacy_prefix(std::uint8_t byte) {
    switch (byte) {
      case 0xf0: out_.prefixes |= kPrefixLock; return true;
      case 0xf2: out_.prefixes = (out_.prefixes & ~kPrefixRep) | kPrefixRepne; return true;
      case 0xf3: out_.prefixes = (out_.prefixes & ~kPrefixRepne) | kPrefixRep; return true;
      case 0x66: out_.prefixes |= kPrefixOperandSize; return true;
      case 0x67: out_.prefixes |= kPrefixAddressSize; return true;
      case 0x26: set_segment(kEs); return true;
      case 0x2e: set_segment(kCs); return true;
      case 0x36: set_segment(kSs); return true;
      case 0x3e: set_segment(kDs); return true;
      case 0x64: set_segment(kFs); return true;
      case 0x65: set_segment(kGs); return true;
      default: return false;
    }
  }

  void set_segment(unsigned segment) {
    out_.prefixes =
        static_cast<std::uint16_t>((out_.prefixes & ~(7U << kSegmentShift)) | ((segment + 1) << kSegmentShift));
  }

  bool read_opcode() {
    const std::uint8_t byte = bytes_[at_];
    if ((byte == 0xc4 || byte == 0xc5) && has(2) && (mode64_ || bytes_[at_ + 1] >= 0xc0)) return read_vex();
    if (byte == 0x0f) {
      if (!has(2)) return false;
      ++at_;
      map_ = kMap0F;
      if (bytes_[at_] == 0x38 || bytes_[at_] == 0x3a) {
        map_ = bytes_[at_] == 0x38 ? kMap0F38 : kMap0F3A;
        ++at_;
      }
    }
    mandatory_ = (out_.prefixes & kPrefixRep) != 0           ? kF3
                 : (out_.prefixes & kPrefixRepne) != 0       ? kF2
                 : (out_.prefixes & kPrefixOperandSize) != 0 ? k66
                                                             : kNone;
    return take_opcode();
  }

  /// VEX prefixes (Intel SDM volume 2, 2.3.5): two or three bytes; any of 66 F2 F3 F0 REX before them faults.
  bool read_vex() {
    constexpr std::uint16_t kForbidden = kPrefixLock | kPrefixRep | kPrefixRepne | kPrefixOperandSize;
    if ((out_.prefixes & kForbidden) != 0 || out_.rex != 0) return false;
    const bool three = bytes_[at_] == 0xc4;
    if (!has(three ? 4 : 3)) return false;
    const std::uint8_t first = bytes_[at_ + 1];
    const std::uint8_t last = bytes_[at_ + (three ? 2 : 1)];
    out_.rex = (first & 0x80) == 0 ? kRexR : 0;
    map_ = kMap0F;
    if (three) {
      if ((first & 0x40) == 0) out_.rex |= kRexX;
      if ((first & 0x20) == 0) out_.rex |= kRexB;
      if ((last & 0x80) != 0) out_.rex |= kRexW;
      map_ = first & 0x1f;
      if (map_ < kMap0F || map_ > kMap0F3A) return false;
    }
    if (!mode64_) out_.rex &= kRexW;
    constexpr unsigned kFromPp[] = {kNone, k66, kF3, kF2};
    mandatory_ = kFromPp[last & 3];
    out_.vector = static_cast<std::uint8_t>(((~last >> 3) & 0xf) | ((last & 4) << 2));
    out_.prefixes |= kPrefixVex;
    space_ = kVex;
    at_ += three ? 3 : 2;
    return take_opcode();
  }

  bool take_opcode() {
    if (!has(1)) return false;
    out_.opcode_at = static_cast<std::uint8_t>(at_);
    out_.opcode = bytes_[at_++];
    return true;
  }

  [[nodiscard]] unsigned raw_operand_size() const {
    if ((out_.rex & kRexW) != 0) return 8;
    return (out_.prefixes & kPrefixOperandSize) != 0 && space_ == kLegacy ? 2 : 4;
  }

  [[nodiscard]] unsigned address_size() const {
    const bool other = (out_.prefixes & kPrefixAddressSize) != 0;
    if (mode64_) return other ? 4 : 8;
    return other ? 2 : 4;
  }

  [[nodiscard]] unsigned answer(Selector selector) const {
    switch (selector) {
      case Selector::mode: return mode64_ ? 1 : 0;
      case Selector::mandatory: return mandatory_;
      case Selector::modrm_mod: return out_.modrm >= 0xc0 ? 1 : 0;
      case Selector::modrm_reg: return (out_.modrm >> 3) & 7;
      case Selector::modrm_rm: return out_.modrm & 7;
      case Selector::w: return (out_.rex & kRexW) != 0 ? 1 : 0;
      case Selector::l: return (out_.vector >> 4) & 1;
      case Selector::operand_size: return raw_operand_size() >> 2;
      case Selector::address_size: return address_size() >> 2;
      case Selector::rexb: return out_.rex & kRexB;
    }
    return 0;
  }

  bool find_row() {
    if (kHasModrm[space_][map_][out_.opcode] != 0) {
      if (!has(1)) return false;
      out_.modrm_at = static_cast<std::uint8_t>(at_);
      out_.modrm = bytes_[at_];
    }
    std::uint16_t node = kRoots[space_][map_][out_.opcode];
    bool by_prefix = false;
    while (node != kNoRow && (node & kBranch) != 0) {
      const unsigned at = node & ~kBranch;
      const auto selector = static_cast<Selector>(kTree[at]);
      by_prefix |= selector == Selector::mandatory;
      node = kTree[at + 1 + answer(selector)];
    }
    if (node == kNoRow) return false;
    if (by_prefix && mandatory_ != kNone && space_ == kLegacy) out_.prefixes |= kPrefixMandatory;
    out_.row = node;
    const std::uint32_t traits = kRows[node].traits;
    unsigned size = raw_operand_size();
    if (mode64_ && (traits & kNear) != 0) size = 8;
    if (mode64_ && (traits & kStack) != 0 && size == 4) size = 8;
    out_.operand_size = static_cast<std::uint8_t>(size);
    out_.address_size = static_cast<std::uint8_t>(address_size());
    return true;
  }

  /// Displacement and SIB of a memory operand (Intel SDM volume 2, tables 2-1 to 2-3).
  bool read_modrm() {
    if (out_.modrm_at == 0) return true;
    ++at_;
    const unsigned mod = out_.modrm >> 6;
    if (mod == 3) return true;
    const unsigned rm = out_.modrm & 7;
    unsigned size = mod == 1 ? 1 : 0;
    if (out_.address_size == 2) {
      if (mod == 2 || (mod == 0 && rm == 6)) size = 2;
      return read_displacement(size);
    }
    if (mod == 2 || (mod == 0 && rm == 5)) size = 4;
    if (rm == 4) {
      if (!has(1)) return false;
      out_.sib = bytes_[at_++];
      if (mod == 0 && (out_.sib & 7) == 5) size = 4;
    }
    return read_displacement(size);
  }

  bool read_displacement(unsigned size) {
    if (size == 0) return true;
    if (!has(size)) return false;
    out_.displacement_at = static_cast<std::uint8_t>(at_);
    out_.displacement_size = static_cast<std::uint8_t>(size);
    std::uint32_t value = 0;
    for (unsigned i = 0; i < size; ++i) value |= std::uint32_t(bytes_[at_ + i]) << (8 * i);
    out_.displacement = size == 1   ? static_cast<std::int8_t>(value)
                        : size == 2 ? static_cast<std::int16_t>(value)
                                    : static_cast<std::int32_t>(value);
    at_ += size;
    return true;
  }

  [[nodiscard]] unsigned size_of(Field field) const {
    switch (field) {
      case Field::none: return 0;
      case Field::bytes1: return 1;
      case Field::bytes2: return 2;
      case Field::operand32: return std::min<unsigned>(out_.operand_size, 4);
      case Field::operand: return out_.operand_size;
      case Field::branch: return mode64_ ? 4 : std::min<unsigned>(out_.operand_size, 4);
      case Field::far: return std::min<unsigned>(out_.operand_size, 4) + 2;
      case Field::address: return out_.address_size;
    }
    return 0;
  }

  bool read_immediates() {
    unsigned shift = 0;
    for (unsigned i = 0; i < 2; ++i) {
      const unsigned size = size_of(kRows[out_.row].immediates[i]);
      if (size == 0) break;
      if (!has(size)) return false;
      if (i == 0) out_.immediate_at = static_cast<std::uint8_t>(at_);
      out_.immediate_size[i] = static_cast<std::uint8_t>(size);
      for (unsigned k = 0; k < size; ++k) out_.immediate |= std::uint64_t(bytes_[at_ + k]) << (8 * k + shift);
      at_ += size;
      shift += 8 * size;
    }
    return true;
  }

  /// A lock prefix faults unless the row allows it and its destination is memory (Intel SDM volume 2, LOCK).
  [[nodiscard]] bool lock_allowed() const {
    if ((out_.prefixes & kPrefixLock) == 0) return true;
    return (kRows[out_.row].traits & kLock) != 0 && out_.modrm_at != 0 && out_.modrm < 0xc0;
  }

  std::span<const std::uint8_t> bytes_;
  bool mode64_;
  std::size_t at_ = 0;
  unsigned space_ = kLegacy;
  unsigned map_ = kOneByte;
  unsigned mandatory_ = kNone;
  Instruction out_;
};

}  // namespace

Instruction decode(std::span<const std::uint8_t> bytes, Mode mode) noexcept { return Decoder(bytes, mode).run(); }

std::span<const Row> rows() { return kRows; }
const Row& row_of(const Instruction& instruction) { return kRows[instruction.row]; }
const Operation& operation_of(const Row& row) { return kOperations[row.operation]; }
std::string_view mnemonic_of(const Row& row) { return kMnemonics[row.mnemonic]; }
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

}  // namespace deeptrace::isa
