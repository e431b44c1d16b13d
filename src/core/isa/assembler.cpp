#include "isa/assembler.h"

#include <algorithm>
#include <array>

namespace deeptrace::isa {
namespace {

/// The order in which the assembler writes legacy prefixes; one of each class.
enum PrefixClass : std::uint8_t { kRexClass, kSegmentClass, kAddressClass, kOperandClass, kRepeatClass, kLockClass };

PrefixClass class_of(std::uint8_t prefix) {
  if (prefix >= 0x40 && prefix < 0x50) return kRexClass;
  switch (prefix) {
    case 0x67: return kAddressClass;
    case 0x66: return kOperandClass;
    case 0xf2:
    case 0xf3: return kRepeatClass;
    case 0xf0: return kLockClass;
    default: return kSegmentClass;
  }
}

Segment segment_of(std::uint8_t prefix) {
  if (prefix >= 0x64) return prefix == 0x64 ? kFs : kGs;
  return static_cast<Segment>((prefix >> 3) & 3);
}

bool fits_signed_byte(std::int64_t value) { return value >= -128 && value <= 127; }

class Composer {
 public:
  Composer(const Instruction& instruction, std::span<const std::uint8_t> bytes, std::uint64_t address, Syntax syntax,
           const Names& names)
      : in_(instruction),
        row_(row_of(instruction)),
        bytes_(bytes),
        address_(address),
        syntax_(syntax),
        names_(names),
        operands_(operands_of(instruction)) {
    for (unsigned i = 0; i < operands_.shown; ++i) {
      if (operands_[i].kind == Operand::Kind::memory) memory_ = &operands_[i];
    }
  }

  AssemblerText run() {
    if (!write()) {
      out_ = {};
      add_bytes(out_.text, bytes_);
      out_.form = Form::bytes;
    }
    return out_;
  }

 private:
  [[nodiscard]] bool has(std::uint16_t prefix) const { return (in_.prefixes & prefix) != 0; }
  [[nodiscard]] bool hint(std::uint32_t bit) const { return (row_.hints & bit) != 0; }
  [[nodiscard]] bool is_register_form() const { return in_.modrm_at != 0 && in_.modrm >= 0xc0; }

  /// False when no text gives these bytes.
  bool write() {
    if (is_filler()) {
      for (std::size_t i = 11; i < bytes_.size(); ++i) out_.text.add("data16\n");
      out_.text.add(bytes_.size() == 10 ? ".nops 10" : ".nops 11");
      out_.form = Form::padding;
      return true;
    }
    if ((row_.traits & kAlias) != 0 || shorter_form_exists()) return false;
    if (in_.is_vector_encoded() && !vector_bits_are_plain()) return false;
    if (is_register_form() && operands_.shown == 2 && !two_registers_are_plain()) return false;
    if (syntax_ == Syntax::att && hint(kHintBothSuffixes) && operands_[0].width == operands_[1].width) return false;
    if (!register_immediate_is_plain()) return false;
    if (is_relative() && in_.operand_size == 2) return false;
    if (in_.mode() == Mode::bits64 && has(kPrefixAddressSize) && in_.immediate_size[0] == 4 && memory_ != nullptr &&
        in_.modrm_at == 0)
      return false;  // absolute addresses have 64 bits in the assembler
    if (feature_of(row_) == "mpx" && has(kPrefixAddressSize)) return false;
    if (operands_.shown == 1 && operands_[0].kind == Operand::Kind::far && prefix_count() != 0) return false;
    if ((row_.traits & kNear) != 0 && in_.operand_size == 2 && memory_ != nullptr) return false;
    if (in_.operand_size == 2 && operands_.shown == 1 && has_width(Width::far_pointer)) return false;
    if (in_.modrm_at != 0 && bytes_[in_.modrm_at] != in_.modrm) return false;
    if (hint(kHintRmFree) && (in_.modrm & 7) != 0) return false;
    if ((row_.traits & kStack) != 0 && has(kPrefixOperandSize) && in_.operand_size != 2) return false;
    if (in_.address_size == 2 && memory_ != nullptr && memory_->recipe.is_absolute()) return false;
    if (hint(kHintRegFree) && ((in_.modrm >> 3) & 7) != 0) return false;
    if (memory_ != nullptr && memory_->width == 80 && has_width(Width::far_pointer))
      return false;  // 64-bit far pointers
    if (!add_prefixes()) return false;
    if (!in_.is_vector_encoded() && !add_rex()) return false;
    if (in_.is_vector_encoded()) add_vector_hints();
    add_direction();
    add_displacement_hint();
    add_branch_hint();
    if (!choose_immediate()) return false;
    add_bare_text(out_.text, in_, address_, syntax_, names_);
    return true;
  }

  /// The assembler takes the form with the register in the opcode or with the accumulator when there is one.
  [[nodiscard]] bool shorter_form_exists() const {
    const bool exists = !hint(kHintShortIn32Bits) || in_.mode() == Mode::bits32;
    if (hint(kHintShortRegister) && exists && is_register_form()) {
      if (is_exchange()) return uses_accumulator();
      // 64-bit `mov` of a 32-bit immediate is shorter than the form with the register in the opcode.
      return !(operands_.shown == 2 && in_.operand_size == 8 && operands_[0].width == 64);
    }
    if (hint(kHintShortAccumulator) && is_register_form() && operands_[0].reg.index == kRax &&
        operands_[0].reg.offset == 0)
      return true;
    return hint(kHintAbsoluteElsewhere) && in_.mode() == Mode::bits32 && memory_ != nullptr &&
           memory_->recipe.is_absolute() && (in_.modrm & 7) != 4 && ((in_.modrm >> 3) & 7) == kRax;
  }

  [[nodiscard]] bool is_exchange() const {
    return hint(kHintShortRegister) && operands_.shown == 2 && operands_[1].kind == Operand::Kind::reg;
  }
  [[nodiscard]] bool uses_accumulator() const {
    return operands_[0].width > 8 && (operands_[0].reg.index == kRax || operands_[1].reg.index == kRax);
  }

  [[nodiscard]] std::int64_t signed_immediate() const {
    const unsigned bits = in_.immediate_size[0] * 8U;
    return static_cast<std::int64_t>(in_.immediate << (64 - bits)) >> (64 - bits);
  }

  /// The half of an immediate byte that no register uses is 0 in what the assembler writes.
  [[nodiscard]] bool register_immediate_is_plain() const {
    unsigned used = 0xff;
    for (const OperandUse use : uses_of(row_)) {
      if (kind_of(use).source == Source::is4) used &= in_.mode() == Mode::bits64 ? 0xf0 : 0x70;
      if (kind_of(use).source == Source::immediate_low4) used |= 3;
    }
    return used == 0xff || (in_.immediate & 0xff & ~used) == 0;
  }

  /// Moves from and to segment registers are written in their shortest form, and arithmetic of st with itself with
  /// st as the destination.
  [[nodiscard]] bool two_registers_are_plain() const {
    const RegisterPart to = operands_[0].reg, from = operands_[1].reg;
    if (to.file == RegisterFile::segment) return in_.operand_size == 4;
    if (from.file == RegisterFile::segment) return in_.operand_size != 8;
    return !hint(kHintTopElsewhere) || to != from;
  }

  /// The fillers of 10 and more bytes, whose prefixes the assembler writes in this order only as padding.
  [[nodiscard]] bool is_filler() const {
    static constexpr std::array<std::uint8_t, 15> kFiller = {0x66, 0x66, 0x66, 0x66, 0x66, 0x66, 0x2e, 0x0f,
                                                             0x1f, 0x84, 0,    0,    0,    0,    0};
    if (in_.mode() != Mode::bits64 || bytes_.size() < 10) return false;
    return std::ranges::equal(bytes_, std::span(kFiller).last(bytes_.size()));
  }

  // ---- REX, VEX, EVEX

  /// The REX bits that the operands ask for.
  [[nodiscard]] unsigned needed_rex() const {
    unsigned needed = hint(kHintW) ? in_.rex & kRexW : 0U;
    const auto uses = uses_of(row_);
    for (const OperandUse use : uses) {
      const OperandKind& kind = kind_of(use);
      const bool extends = kind.file == RegisterFile::general || kind.file == RegisterFile::vector ||
                           kind.file == RegisterFile::control || kind.file == RegisterFile::debug;
      if (kind.source == Source::reg && extends) needed |= kRexR;
      if (kind.source == Source::opcode) needed |= kRexB;
      if (kind.source == Source::rm && is_register_form() && extends) {
        needed |= kRexB;
        if (has(kPrefixEvex) && kind.file == RegisterFile::vector) needed |= kRexX;
      }
    }
    if (memory_ != nullptr && in_.modrm_at != 0) {
      if (memory_->memory().base.file == RegisterFile::general) needed |= kRexB;
      if (memory_->recipe.index != 0) needed |= kRexX;
    }
    return needed & in_.rex;
  }

  [[nodiscard]] bool names_low_byte_register() const {
    return std::any_of(operands_.begin(), operands_.begin() + operands_.shown, [](const Operand& operand) {
      return operand.kind == Operand::Kind::reg && operand.reg.file == RegisterFile::general && operand.width == 8 &&
             operand.reg.offset == 0 && operand.reg.index >= 4 && operand.reg.index < 8;
    });
  }

  /// REX bits that no operand tells, as a word.
  bool add_rex() {
    if (in_.rex == 0) return true;
    const unsigned needed = needed_rex();
    const unsigned more = in_.rex & 0xfU & ~needed;
    if (more == 0 && (needed != 0 || names_low_byte_register())) return true;
    // The assembler does not find x87 mnemonics with a suffix after the word.
    const bool alone = syntax_ == Syntax::att && hint(kHintFloatSuffix | kHintIntegerSuffix);
    if (alone && (needed != 0 || prefix_count() != 0)) return false;
    out_.text.add("rex");
    if (more != 0) out_.text.add('.');
    for (const auto& [bit, letter] : {std::pair{kRexW, 'W'}, {kRexR, 'R'}, {kRexX, 'X'}, {kRexB, 'B'}}) {
      if ((more & bit) != 0) out_.text.add(letter);
    }
    out_.text.add(alone ? '\n' : ' ');
    if (alone) out_.form = Form::apart;
    return true;
  }

  [[nodiscard]] bool has_width(Width width) const {
    const auto uses = uses_of(row_);
    return std::ranges::any_of(uses, [width](OperandUse use) { return kind_of(use).width == width; });
  }

  [[nodiscard]] bool names_high_register() const {
    const auto uses = uses_of(row_);
    return std::any_of(uses.begin(), uses.end(), [](OperandUse use) {
      return kind_of(use).source == Source::reg && kind_of(use).file == RegisterFile::vector;
    });
  }

  /// Bits that mean nothing in this instruction are 0 in what the assembler writes.
  [[nodiscard]] bool vector_bits_are_plain() const {
    const unsigned length = (in_.vector >> kVectorLengthShift) & 3;
    if (hint(kHintLIgnored) && length != 0 && !in_.has_rounding()) return false;
    if (in_.mode() == Mode::bits32 && (in_.rex & kRexW) != 0 && has_width(Width::rexw)) return false;
    if (hint(kHintWZero) && (in_.rex & kRexW) != 0) return false;
    if (in_.has_rounding() && row_.rounding != Rounding::mode && (length != 0 || row_.rounding == Rounding::ignored))
      return false;
    if (hint(kHintRegistersElsewhere) && is_register_form()) return false;
    if ((in_.vector & kVectorHighReg) != 0 && !names_high_register()) return false;
    return (in_.rex & 0xf & ~needed_rex()) == 0;
  }

  void add_vector_hints() {
    if (has(kPrefixEvex)) {
      if (hint(kHintAlsoVex) && fits_vex()) out_.text.add("{evex} ");
      return;
    }
    if (hint(kHintAlsoEvex)) out_.text.add("{vex} ");
    if (has(kPrefixXop) || bytes_[prefix_count()] != 0xc4) return;
    const bool short_possible = row_.map == kVex0F && (in_.rex & (kRexW | kRexX | kRexB)) == 0;
    // The assembler exchanges the sources of commutative operations to save a byte.
    const bool exchange_possible = row_.map == kVex0F && (in_.rex & (kRexW | kRexX | kRexB)) == kRexB &&
                                   is_register_form() && operands_.shown >= 3 && (in_.vector & 8) == 0;
    if (short_possible || exchange_possible) out_.text.add("{vex3} ");
  }

  /// True when all of an EVEX instruction can be said with VEX.
  [[nodiscard]] bool fits_vex() const {
    if (in_.evex != 0 || ((in_.vector >> kVectorLengthShift) & 3) > 1) return false;
    for (unsigned i = 0; i < operands_.shown; ++i) {
      const Operand& operand = operands_[i];
      if (operand.kind == Operand::Kind::reg && operand.reg.file == RegisterFile::vector && operand.reg.index >= 16)
        return false;
      if (operand.kind == Operand::Kind::memory && operand.recipe.has_vector_index() && operand.recipe.index > 16)
        return false;
    }
    return true;
  }

  /// Two registers can be encoded in two directions; plain arithmetic and moves prefer rm as the destination, the
  /// rest reg.
  void add_direction() {
    if (!is_register_form()) return;
    const bool prefers_store = row_.map == 0;
    if (hint(kHintLoad) && prefers_store) out_.text.add("{load} ");
    if (hint(kHintStore) && !prefers_store) out_.text.add("{store} ");
    // A two-byte VEX would be possible the other way round.
    const bool shorter = has(kPrefixVex) && row_.map == kVex0F && (in_.rex & 0xf) == kRexB;
    if (hint(kHintLoad) && !prefers_store && shorter) out_.text.add("{load} ");
  }

  // ---- legacy prefixes

  [[nodiscard]] unsigned prefix_count() const {
    unsigned end = in_.opcode_at;
    const std::uint8_t map = row_.map;
    if (has(kPrefixEvex)) return end - 4;
    if (has(kPrefixVex | kPrefixXop)) {
      // C5 stands two bytes before the opcode, C4 and 8F three.
      return bytes_[end - 2] == 0xc5 && (end < 3 || (bytes_[end - 3] != 0xc4 && bytes_[end - 3] != 0x8f)) ? end - 2
                                                                                                          : end - 3;
    }
    if (map == kMap3dNow) end = in_.modrm_at;
    end -= map == 0 ? 0 : map == 1 ? 1 : 2;
    if (in_.rex != 0) --end;
    return end;
  }

  bool add_prefixes() {
    const std::span<const std::uint8_t> prefixes = bytes_.first(prefix_count());
    // The longest end of the list that is in the assembler's order goes with the instruction.
    std::size_t together = prefixes.size();
    while (together > 0 &&
           (together == prefixes.size() || class_of(prefixes[together - 1]) < class_of(prefixes[together])) &&
           !must_stand_apart(prefixes[together - 1]))
      --together;
    for (std::size_t i = 0; i < together; ++i) {
      add_word(prefixes[i], true);
      // The thread-local storage ABI pads the call of __tls_get_addr with two of them.
      const bool pads_call = prefixes[i] == 0x66 && operation_of(row_).flow == ControlFlow::call;
      if (out_.form != Form::apart) out_.form = pads_call ? Form::padding : Form::apart;
    }
    // What the text says must not have been written apart.
    unsigned seen = 0;
    for (const std::uint8_t prefix : prefixes.subspan(together)) {
      if (is_told(prefix)) {
        seen |= 1U << class_of(prefix);
      } else {
        add_word(prefix, false);
      }
    }
    for (const std::uint8_t prefix : prefixes.first(together)) {
      if (is_told(prefix) && (seen & (1U << class_of(prefix))) == 0) return false;
    }
    return true;
  }

  [[nodiscard]] bool is_relative() const { return operands_.shown != 0 && operands_[0].kind == Operand::Kind::target; }

  /// The assembler refuses repetition words on what does not repeat, and those of segments that mean nothing.
  [[nodiscard]] bool must_stand_apart(std::uint8_t prefix) const {
    const bool bits64 = in_.mode() == Mode::bits64;
    switch (class_of(prefix)) {
      case kOperandClass:
        return row_.map == kMap3dNow || (is_relative() && operation_of(row_).flow != ControlFlow::call) ||
               (has(kPrefixMandatory) && !is_told(prefix));
      case kRepeatClass:
        if (is_told(prefix) || (row_.traits & (kRep | kRepz)) != 0) return false;
        if (operands_.count > 1 && operation_of(row_).flow == ControlFlow::conditional) return true;
        return (row_.traits & kNear) == 0 || (prefix == 0xf3 && operation_of(row_).flow != ControlFlow::return_);
      case kSegmentClass:
        return ((prefix == 0x26 || prefix == 0x36) && bits64) ||
               (is_relative() && ((prefix != 0x2e && prefix != 0x3e) || operation_of(row_).flow == ControlFlow::call));
      case kAddressClass: return is_relative() && !hint(kHintAddressSize);
      case kRexClass: return true;  // one that another prefix follows is ignored
      default: return false;
    }
  }

  void add_word(std::uint8_t prefix, bool alone) {
    const bool wordless = (prefix == 0x26 || prefix == 0x36) && in_.mode() == Mode::bits64;
    if (alone && (wordless || class_of(prefix) == kRexClass)) {
      add_bytes(out_.text, {&prefix, 1});
      out_.text.add('\n');
      return;
    }
    const bool near = (row_.traits & kNear) != 0 && !alone;
    std::string_view word;
    switch (prefix) {
      case 0x3e: word = near && in_.modrm_at != 0 ? "notrack" : segment_name(kDs); break;
      case 0x66: word = "data16"; break;
      case 0x67: word = in_.mode() == Mode::bits64 ? "addr32" : "addr16"; break;
      case 0xf0: word = "lock"; break;
      case 0xf2: word = near ? "bnd" : "repne"; break;
      case 0xf3: word = (row_.traits & kRepz) != 0 ? "repe" : "rep"; break;
      default: word = segment_name(segment_of(prefix)); break;
    }
    out_.text.add(word);
    out_.text.add(alone ? '\n' : ' ');
  }

  static std::string_view segment_name(Segment segment) { return name_of({RegisterFile::segment, segment, 0, 16}); }

  /// True when mnemonic and operands tell the prefix, so that no word is needed.
  [[nodiscard]] bool is_told(std::uint8_t prefix) const {
    switch (class_of(prefix)) {
      case kRexClass: return false;
      case kSegmentClass:
        return memory_ != nullptr && memory_->recipe.forced && segment_of(prefix) == memory_->recipe.segment &&
               (memory_->recipe.segment >= kFs || in_.mode() == Mode::bits32) &&
               memory_->recipe.segment != memory_->memory().default_segment();
      case kAddressClass:
        return hint(kHintAddressSize) ||
               (memory_ != nullptr && in_.modrm_at != 0 && (memory_->memory().base || has_general_index()));
      case kOperandClass:
        if (is_mandatory(prefix)) return true;
        return in_.operand_size == 2 && (hint(kHintOperandSize) || hint(kHintSizeInName));
      case kRepeatClass: return is_mandatory(prefix);
      case kLockClass: return false;
    }
    return false;
  }

  [[nodiscard]] bool has_general_index() const {
    return memory_->memory().index.file == RegisterFile::general || (in_.modrm & 7) == 4;
  }

  [[nodiscard]] bool is_mandatory(std::uint8_t prefix) const {
    if (!has(kPrefixMandatory)) return false;
    if (prefix == 0x66) return !has(kPrefixRep | kPrefixRepne);
    return prefix == (has(kPrefixRep) ? 0xf3 : 0xf2);
  }

  // ---- displacement, branch distance, immediate

  void add_displacement_hint() {
    if (in_.modrm_at == 0 || in_.modrm >= 0xc0 || !names_.displacement.empty()) return;
    const unsigned mod = in_.modrm >> 6;
    if (mod == 1 && in_.displacement == 0 && !base_needs_displacement()) out_.text.add("{disp8} ");
    if (mod == 2 && (fits_short_displacement() || in_.displacement == 0))
      out_.text.add(in_.address_size == 2 ? "{disp16} " : "{disp32} ");
  }

  /// rbp and r13 without a displacement do not exist; 16-bit addresses have it with bp alone.
  [[nodiscard]] bool base_needs_displacement() const {
    if (in_.address_size == 2) return (in_.modrm & 7) == 6;
    const unsigned base = (in_.modrm & 7) == 4 ? in_.sib & 7 : in_.modrm & 7;
    return base == 5;
  }

  [[nodiscard]] bool fits_short_displacement() const {
    if (!has(kPrefixEvex)) return fits_signed_byte(in_.displacement);
    const unsigned scale = short_displacement_scale(in_);
    return (in_.displacement & ((1 << scale) - 1)) == 0 && fits_signed_byte(in_.displacement >> scale);
  }

  void add_branch_hint() {
    if (!is_relative()) return;
    const bool has_short_form = operation_of(row_).flow != ControlFlow::call && row_.feature == 0;
    if (!has_short_form || in_.immediate_size[0] == 1) return;
    // The assembler makes all branches as short as they can be together. Where alignment kept them apart, more than the
    // plain distance counts: code of long branches only could shrink to a third.
    constexpr std::int64_t kNear = 3 * 128 + 6;
    const std::int64_t distance = signed_immediate();
    const bool could_be_short = names_.target.empty()
                                    ? fits_signed_byte(distance + (distance >= 0 ? 0 : in_.length - 2))
                                    : distance >= -kNear && distance <= kNear;
    if (could_be_short) out_.text.add("{disp32} ");
  }

  bool choose_immediate() {
    if (in_.immediate_size[0] == 0 || !names_.immediate.empty()) return true;
    const std::int64_t value = signed_immediate();
    const bool small = hint(kHintShortImmediate) && fits_signed_byte(value);
    const bool one = hint(kHintShortOne) && value == 1;
    const bool breakpoint = (row_.traits & kGate) != 0 && value == 3;
    if (!small && !one && !breakpoint) return true;
    out_.form = Form::late_symbol;
    out_.late_value = static_cast<std::int8_t>(value);
    if (syntax_ == Syntax::intel) late_.add("offset ");
    add_late_symbol_name(late_, out_.late_value);
    names_.immediate = late_.view();
    return true;
  }

  const Instruction& in_;
  const Row& row_;
  std::span<const std::uint8_t> bytes_;
  std::uint64_t address_;
  Syntax syntax_;
  Names names_;
  Operands operands_;
  const Operand* memory_ = nullptr;
  Text late_;
  AssemblerText out_;
};

}  // namespace

void add_late_symbol_name(Text& text, std::int8_t value) {
  text.add(value < 0 ? "late_minus_" : "late_");
  text.add(std::string_view(std::to_string(value < 0 ? -value : value)));
}

void add_bytes(Text& text, std::span<const std::uint8_t> bytes) {
  text.add(".byte ");
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    if (i != 0) text.add(',');
    text.add_hex(bytes[i]);
  }
}

AssemblerText assembler_text(const Instruction& instruction, std::span<const std::uint8_t> bytes, std::uint64_t address,
                             Syntax syntax, const Names& names) {
  return Composer(instruction, bytes, address, syntax, names).run();
}

void add_characters(Text& text, std::span<const std::uint8_t> bytes) {
  text.add(".ascii \"");
  for (const std::uint8_t byte : bytes) {
    if (byte == '"' || byte == '\\') text.add('\\');
    if (byte >= 0x20 && byte < 0x7f) {
      text.add(static_cast<char>(byte));
    } else {
      for (const char c : {'\\', char('0' + (byte >> 6)), char('0' + ((byte >> 3) & 7)), char('0' + (byte & 7))})
        text.add(c);
    }
  }
  text.add('"');
}

}  // namespace deeptrace::isa
