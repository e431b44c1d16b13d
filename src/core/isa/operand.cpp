#include "isa/operand.h"

#include <algorithm>
#include <memory>
#include <new>

namespace deeptrace::isa {
namespace {

RegisterPart general(unsigned index, unsigned width) {
  return {RegisterFile::general, static_cast<std::uint8_t>(index), 0, static_cast<std::uint16_t>(width)};
}
RegisterPart segment(unsigned index) { return {RegisterFile::segment, static_cast<std::uint8_t>(index), 0, 16}; }
/// A register in a packed recipe.
std::uint8_t packed(unsigned index) { return static_cast<std::uint8_t>(index + 1); }

std::int64_t sign_extend(std::uint64_t value, unsigned bits) {
  if (bits >= 64) return static_cast<std::int64_t>(value);
  const std::uint64_t sign = std::uint64_t(1) << (bits - 1);
  value &= (sign << 1) - 1;
  return static_cast<std::int64_t>((value ^ sign) - sign);
}

class Builder {
 public:
  explicit Builder(const Instruction& instruction)
      : in_(instruction), row_(row_of(instruction)), mode64_(instruction.mode() == Mode::bits64) {}

  void run(Operands& out) {
    out.shown = row_.shown;
    for (const OperandUse use : uses_of(row_)) {
      Operand& operand = *new (&out.items[out.count]) Operand;
      operand.access = use.access;
      operand.hidden = out.count >= out.shown;
      build(operand, kind_of(use));
      ++out.count;
    }
    if ((in_.prefixes & kPrefixEvex) == 0) return;
    if ((in_.evex & kEvexMask) != 0) {
      apply_mask(out);
    } else if ((row_.traits & kBlend) != 0) {
      out.items[1].access = Access::none;  // all elements are taken from the other source
    }
  }

 private:
  [[nodiscard]] unsigned native_bits() const { return mode64_ ? 64 : 32; }

  [[nodiscard]] unsigned bits_of(Width width) const {
    if (width <= Width::b4096) return fixed_bits(width);
    const unsigned operand_bits = in_.operand_size * 8U;
    switch (width) {
      case Width::vector: return in_.vector_bits();
      case Width::vector_half: return in_.vector_bits() / 2;
      case Width::vector_fourth: return in_.vector_bits() / 4;
      case Width::vector_eighth: return in_.vector_bits() / 8;
      case Width::high64: return 64;
      case Width::high96: return 96;
      case Width::high112: return 112;
      case Width::low96: return 96;
      case Width::high32: return 32;
      case Width::elements8: return in_.vector_bits() / 8;
      case Width::elements16: return in_.vector_bits() / 16;
      case Width::elements32: return in_.vector_bits() / 32;
      case Width::elements64: return in_.vector_bits() / 64;
      case Width::operand: return operand_bits;
      case Width::operand32: return operand_bits < 32 ? operand_bits : 32;
      case Width::operand_twice: return 2 * operand_bits;
      case Width::rexw: return (in_.rex & kRexW) != 0 && mode64_ ? 64 : 32;
      case Width::address: return in_.address_size * 8U;
      case Width::far_pointer: return operand_bits + 16;
      case Width::table_register: return native_bits() + 16;
      case Width::low16_of_32: return 32;
      case Width::stack_slots: return operand_bits;
      case Width::bounds: return 2 * native_bits();
      case Width::tile: return 16 * 512;
      case Width::x87_environment: return in_.operand_size == 2 ? 14 * 8 : 28 * 8;
      case Width::x87_state: return in_.operand_size == 2 ? 94 * 8 : 108 * 8;
      default: return native_bits();
    }
  }

  [[nodiscard]] RegisterPart register_part(const OperandKind& kind, unsigned index, unsigned bits) const {
    const auto number = static_cast<std::uint8_t>(index);
    switch (kind.file) {
      case RegisterFile::general:
        if (bits == 8 && in_.rex == 0 && !in_.is_vector_encoded() && index >= 4 && index < 8)
          return {RegisterFile::general, static_cast<std::uint8_t>(index - 4), 8, 8};  // ah ch dh bh
        break;
      case RegisterFile::segment: return segment(index & 7);
      case RegisterFile::mask:
      case RegisterFile::mmx:
      case RegisterFile::x87:
      case RegisterFile::tile:
      case RegisterFile::bound:  // REX does not extend them
        return {kind.file, static_cast<std::uint8_t>(index & 7), 0, static_cast<std::uint16_t>(bits)};
      default: break;
    }
    return {kind.file, number, kind.offset, static_cast<std::uint16_t>(bits)};
  }

  void from_register(Operand& operand, const OperandKind& kind, unsigned index) const {
    operand.kind = Operand::Kind::reg;
    operand.reg = register_part(kind, index, bits_of(kind.width));
    operand.width = operand.reg.width;
  }

  [[nodiscard]] unsigned extended(unsigned low, std::uint8_t rex_bit) const {
    return (in_.rex & rex_bit) != 0 ? low + 8 : low;
  }

  /// Segment registers have only three bits; REX does not extend them. EVEX extends vector registers once more.
  [[nodiscard]] unsigned reg_field(RegisterFile file) const {
    const unsigned index = extended((in_.modrm >> 3) & 7, kRexR);
    return file == RegisterFile::vector ? index + ((in_.vector & kVectorHighReg) >> 3) : index;
  }

  void from_rm(Operand& operand, const OperandKind& kind) const {
    if (in_.modrm >= 0xc0) {
      unsigned index = extended(in_.modrm & 7, kRexB);
      if (kind.file == RegisterFile::vector && (in_.prefixes & kPrefixEvex) != 0 && (in_.rex & kRexX) != 0) index += 16;
      from_register(operand, kind, index);
      return;
    }
    memory(operand, kind.width == Width::native ? 0 : bits_of(kind.width));
    if (kind.width == Width::low16_of_32) operand.width = 16;
    operand.unknown_size = kind.width == Width::unknown;
    if (operand.unknown_size) operand.width = 0;
    if ((in_.evex & kEvexBroadcast) != 0 && row_.element != 0) {
      operand.broadcast = static_cast<std::uint8_t>(operand.width >> (row_.element + 3));
      operand.width = static_cast<std::uint16_t>(8U << row_.element);
    }
  }

  /// Masked elements are not touched; what is not written of the destination keeps its value or becomes 0 (Intel SDM
  /// volume 1, 15.6.1).
  void apply_mask(Operands& out) const {
    const bool scalar = (row_.hints & kHintLIgnored) != 0, merges = (in_.evex & kEvexZero) == 0;
    const std::uint16_t element = row_.mask_element * 8U;
    bool by_element = false;
    unsigned elements = 1;
    RegisterPart merged;
    for (Operand& operand : out.items_so_far()) {
      if (operand.kind == Operand::Kind::memory) {
        by_element |= operand.recipe.has_vector_index();
        if (by_element) elements = operand.elements;
        if (!scalar && !by_element && elements == 1) elements = operand.width * operand.broadcast / element;
        operand.access = writes(operand.access) ? Access::may_write : Access::may_read;
      } else if (operand.kind == Operand::Kind::reg && operand.reg.file == RegisterFile::vector) {
        if (!scalar && !by_element && elements == 1) elements = operand.width / element;
        if (operand.access != Access::write || (row_.traits & kBlend) != 0 || !merges) continue;
        if (scalar) merged = operand.reg;
        if (!scalar) operand.access = Access::read_may_write;
      }
    }
    if (merged) {  // of a scalar's destination only the one element is kept
      merged.width = element;
      add_hidden(out, merged, Access::may_read);
    }
    // Gathers and scatters clear the bit of each element that is done.
    const RegisterPart mask{RegisterFile::mask, static_cast<std::uint8_t>(in_.evex & kEvexMask), 0,
                            static_cast<std::uint16_t>(elements)};
    add_hidden(out, mask, by_element ? Access::read_write : Access::read);
  }

  static void add_hidden(Operands& out, RegisterPart reg, Access access) {
    Operand& operand = *new (&out.items[out.count++]) Operand;
    operand.kind = Operand::Kind::reg;
    operand.hidden = true;
    operand.access = access;
    operand.reg = reg;
    operand.width = reg.width;
  }

  void choose_segment(PackedRecipe& recipe, unsigned fallback) const {
    const int forced = in_.segment_override();
    recipe.forced = forced >= 0;
    recipe.segment = (forced >= 0 ? static_cast<unsigned>(forced) : fallback) & 7;
  }

  /// Memory with an address of that many bytes.
  static void make_memory(Operand& operand, unsigned bits, unsigned address_size) {
    operand.kind = Operand::Kind::memory;
    operand.width = static_cast<std::uint16_t>(bits);
    operand.recipe.address_size = address_size & 15;
    operand.recipe.scale = 1;
  }

  void memory(Operand& operand, unsigned bits) const {
    make_memory(operand, bits, in_.address_size);
    PackedRecipe& recipe = operand.recipe;
    operand.value = in_.displacement;
    if (in_.address_size == 2) {
      address16(recipe);
    } else {
      address32(recipe);
    }
    const bool on_stack = recipe.base == packed(kRsp) || recipe.base == packed(kRbp);
    choose_segment(recipe, on_stack ? kSs : kDs);
    if (recipe.base == packed(kRsp) && pops()) recipe.hidden_displacement = in_.operand_size;
    if ((row_.traits & kBitOffset) != 0) recipe.bit_number = packed(extended((in_.modrm >> 3) & 7, kRexR));
  }

  /// Memory with a vector register as its index (Intel SDM volume 2, 2.3.12): the kind says how wide an index is
  /// (`index`, bytes) and how wide the register that holds them (`offset`: 0 the vector length, 1 half of it, 2 to 4
  /// for 128 to 512 bits).
  void gather(Operand& operand, const OperandKind& kind) const {
    memory(operand, bits_of(kind.width));
    const unsigned bits = kind.offset == 0   ? in_.vector_bits()
                          : kind.offset == 1 ? std::max(in_.vector_bits() / 2, 128U)
                                             : 64U << (kind.offset - 1);
    unsigned index = extended((in_.sib >> 3) & 7, kRexX);
    if ((in_.prefixes & kPrefixEvex) != 0) index += in_.vector & 0x10U;
    operand.recipe.index = packed(index);
    operand.recipe.index_bytes = static_cast<std::uint8_t>(bits / 8);
    operand.recipe.scale = (1U << (in_.sib >> 6)) & 15;
    const unsigned values = in_.vector_bits() / operand.width;
    operand.elements = static_cast<std::uint16_t>(std::min(bits / (kind.index * 8U), values));
  }

  [[nodiscard]] bool pops() const {
    for (const OperandUse use : uses_of(row_)) {
      if (kind_of(use).source == Source::pop) return true;
    }
    return false;
  }

  /// Intel SDM volume 2, table 2-1.
  void address16(PackedRecipe& recipe) const {
    struct Pair {
      std::int8_t base, index;
    };
    constexpr Pair kPairs[] = {{kRbx, kRsi}, {kRbx, kRdi}, {kRbp, kRsi}, {kRbp, kRdi},
                               {kRsi, -1},   {kRdi, -1},   {kRbp, -1},   {kRbx, -1}};
    if ((in_.modrm >> 6) == 0 && (in_.modrm & 7) == 6) return;
    const Pair pair = kPairs[in_.modrm & 7];
    recipe.base = packed(static_cast<unsigned>(pair.base));
    if (pair.index >= 0) set_index(recipe, static_cast<unsigned>(pair.index));
  }

  void set_index(PackedRecipe& recipe, unsigned index) const {
    recipe.index = packed(index);
    recipe.index_bytes = in_.address_size;
  }

  /// Intel SDM volume 2, tables 2-2 and 2-3; RIP-relative: 2.2.1.6.
  void address32(PackedRecipe& recipe) const {
    const unsigned mod = in_.modrm >> 6;
    const unsigned rm = in_.modrm & 7;
    if (mod == 0 && rm == 5) {
      if (mode64_) recipe.base = PackedRecipe::kInstructionPointer;
      return;
    }
    if (rm != 4) {
      recipe.base = packed(extended(rm, kRexB));
      return;
    }
    const unsigned index = extended((in_.sib >> 3) & 7, kRexX);
    if (index != 4) {
      set_index(recipe, index);
      recipe.scale = (1U << (in_.sib >> 6)) & 15;
    }
    if ((in_.sib & 7) != 5 || mod != 0) recipe.base = packed(extended(in_.sib & 7, kRexB));
  }

  void string_memory(Operand& operand, const OperandKind& kind, unsigned base, bool source) const {
    make_memory(operand, bits_of(kind.width), in_.address_size);
    operand.repeated = is_repeated(in_);
    operand.recipe.base = packed(base);
    if (source || (row_.traits & (kRep | kRepz)) == 0) {
      choose_segment(operand.recipe, kDs);
    } else {
      operand.recipe.segment = kEs;
    }
  }

  /// `slots` stack slots from `displacement` bytes off `base`.
  void stack_memory(Operand& operand, unsigned base, unsigned slots, std::int32_t displacement) const {
    make_memory(operand, slots * in_.operand_size * 8U, mode64_ ? 8 : 4);
    operand.stack_slot = true;
    operand.recipe.segment = kSs;
    operand.recipe.base = packed(base);
    operand.recipe.hidden_displacement = static_cast<std::int16_t>(displacement);
  }

  static void immediate(Operand& operand, std::int64_t value, unsigned bits, bool extended_by_sign) {
    operand.kind = Operand::Kind::immediate;
    operand.width = static_cast<std::uint16_t>(bits);
    operand.value = value;
    operand.sign_extended = extended_by_sign;
  }

  /// The next immediate field, in order.
  std::uint64_t take_field(unsigned& bytes) {
    const unsigned shift = field_ == 0 ? 0 : in_.immediate_size[0] * 8U;
    bytes = in_.immediate_size[field_++];
    const std::uint64_t value = shift < 64 ? in_.immediate >> shift : 0;
    return bytes >= 8 ? value : value & ((std::uint64_t(1) << (8 * bytes)) - 1);
  }

  void build(Operand& operand, const OperandKind& kind) {
    unsigned bytes = 0;
    switch (kind.source) {
      case Source::rm: return from_rm(operand, kind);
      case Source::reg: return from_register(operand, kind, reg_field(kind.file));
      case Source::opcode: return from_register(operand, kind, extended(in_.opcode & 7, kRexB));
      case Source::vvvv: return from_register(operand, kind, in_.vector & kVectorRegister);
      case Source::is4:
        return from_register(operand, kind, static_cast<unsigned>(take_field(bytes) >> 4) & (mode64_ ? 15 : 7));
      case Source::gather: return gather(operand, kind);
      case Source::fixed: return from_register_fixed(operand, kind);
      case Source::one: return immediate(operand, 1, 8, false);
      case Source::immediate: return wide_immediate(operand, kind);
      case Source::immediate_low4: return immediate(operand, static_cast<std::int64_t>(in_.immediate & 15), 8, false);
      case Source::immediate_signed:
        return immediate(operand, sign_extend(take_field(bytes), 8), in_.operand_size * 8U, true);
      case Source::relative: {
        const std::uint64_t value = take_field(bytes);
        operand.kind = Operand::Kind::target;
        operand.width = static_cast<std::uint16_t>(native_bits());
        operand.value = sign_extend(value, bytes * 8) + in_.length;
        return;
      }
      case Source::absolute:
        implied_memory(operand, kind, 0);
        operand.value = static_cast<std::int64_t>(take_field(bytes));
        return;
      case Source::far: {
        const std::uint64_t value = take_field(bytes);
        operand.kind = Operand::Kind::far;
        operand.width = static_cast<std::uint16_t>(bytes * 8);
        operand.value = static_cast<std::int64_t>(value & ((std::uint64_t(1) << (8 * (bytes - 2))) - 1));
        operand.selector = static_cast<std::uint16_t>(value >> (8 * (bytes - 2)));
        return;
      }
      case Source::string_source: return string_memory(operand, kind, kRsi, true);
      case Source::string_destination: return string_memory(operand, kind, kRdi, false);
      case Source::push: return stack_memory(operand, kRsp, kind.index, -std::int32_t(kind.index) * in_.operand_size);
      case Source::pop: return stack_memory(operand, kRsp, kind.index, 0);
      case Source::enter: {
        const unsigned slots = 1 + ((in_.immediate >> 16) & 31);
        return stack_memory(operand, kRsp, slots, -static_cast<std::int32_t>(slots * in_.operand_size));
      }
      case Source::display: {
        const unsigned level = (in_.immediate >> 16) & 31, slots = level > 1 ? level - 1 : 0;
        return stack_memory(operand, kRbp, slots, -static_cast<std::int32_t>(slots * in_.operand_size));
      }
      case Source::leave: return stack_memory(operand, kRbp, 1, 0);
      case Source::xlat:
        implied_memory(operand, kind, packed(kRbx));
        operand.recipe.index = packed(kRax);
        operand.recipe.index_bytes = 1;
        return;
      case Source::at_reg:
        implied_memory(operand, kind, packed(reg_field(RegisterFile::general)));
        operand.recipe.segment = kEs;
        operand.recipe.forced = false;
        return;
      case Source::at_ax: return implied_memory(operand, kind, packed(kRax));
    }
  }

  void from_register_fixed(Operand& operand, const OperandKind& kind) const {
    operand.kind = Operand::Kind::reg;
    operand.width = static_cast<std::uint16_t>(bits_of(kind.width));
    operand.reg = {kind.file, kind.index, kind.offset, operand.width};
  }

  /// Memory in segment ds whose address no ModRM byte gives; the base as in a packed recipe.
  void implied_memory(Operand& operand, const OperandKind& kind, std::uint8_t base) const {
    make_memory(operand, bits_of(kind.width), in_.address_size);
    operand.recipe.base = base;
    choose_segment(operand.recipe, kDs);
  }

  /// An immediate as wide as its field; a 32-bit field of a 64-bit operation is sign-extended.
  void wide_immediate(Operand& operand, const OperandKind& kind) {
    unsigned bytes = 0;
    const std::uint64_t value = take_field(bytes);
    if ((kind.width == Width::operand32 || kind.width == Width::b32) && in_.operand_size == 8)
      return immediate(operand, sign_extend(value, bytes * 8), 64, true);
    immediate(operand, static_cast<std::int64_t>(value), bytes * 8, false);
  }

  const Instruction& in_;
  const Row& row_;
  bool mode64_;
  unsigned field_ = 0;
};

}  // namespace

MemoryRecipe Operand::memory() const {
  MemoryRecipe whole;
  whole.segment = segment(recipe.segment);
  whole.segment_forced = recipe.forced;
  whole.scale = recipe.scale;
  whole.address_size = recipe.address_size;
  whole.displacement = value;
  whole.hidden_displacement = recipe.hidden_displacement;
  const unsigned bits = recipe.address_size * 8U;
  if (recipe.base == PackedRecipe::kInstructionPointer) {
    whole.base = {RegisterFile::instruction_pointer, 0, 0, static_cast<std::uint16_t>(bits)};
  } else if (recipe.base != 0) {
    whole.base = general(recipe.base - 1U, bits);
  }
  if (recipe.index != 0) {
    whole.index = general(recipe.index - 1U, recipe.index_bytes * 8U);
    if (recipe.has_vector_index()) whole.index.file = RegisterFile::vector;
  }
  if (recipe.bit_number != 0) whole.bit_number = general(recipe.bit_number - 1U, width);
  return whole;
}

Operands operands_of(const Instruction& instruction) {
  Operands operands;
  std::uninitialized_default_construct_n(operands.items.data(), Operands::kUsual);
  Builder(instruction).run(operands);
  return operands;
}

namespace {

/// The displacement of a memory operand that no register takes part in but perhaps the instruction pointer.
bool lone_displacement(const Instruction& in, std::uint64_t& displacement, bool& from_next) {
  const auto uses = uses_of(row_of(in));
  from_next = false;
  if (in.modrm_at == 0) {
    displacement = in.immediate;
    return brief_of(in.row).has_absolute() && in.immediate_at != 0;
  }
  displacement = static_cast<std::uint64_t>(std::int64_t(in.displacement));
  if (in.modrm >= 0x40) return false;
  const unsigned rm = in.modrm & 7;
  if (in.address_size == 2) return rm == 6;
  from_next = rm == 5 && in.mode() == Mode::bits64;
  if (rm == 5) return true;
  const bool bare_sib = rm == 4 && (in.sib & 0x3f) == 0x25 && (in.rex & kRexX) == 0;
  return bare_sib && std::ranges::none_of(uses, [](OperandUse use) { return kind_of(use).source == Source::gather; });
}

}  // namespace

bool surely_fixed_memory_address(const Instruction& instruction, std::uint64_t address, std::uint64_t& target) {
  bool from_next = false;
  if (instruction.segment_override() >= kFs || !lone_displacement(instruction, target, from_next)) return false;
  if (from_next) target += address + instruction.length;
  if (instruction.address_size < 8) target &= instruction.address_size == 2 ? 0xffff : 0xffffffff;
  return true;
}

bool does_nothing(const Instruction& instruction) {
  const std::string_view name = operation_of(instruction).name;
  if (name == "nop") return true;
  if (name != "xchg" && name != "lea") return false;
  const Operands operands = operands_of(instruction);
  if (operands[0].kind != Operand::Kind::reg) return false;
  if (name == "xchg") return operands[0].reg == operands[1].reg;
  // The 32-bit fillers: the address of a register's value goes to that register.
  const MemoryRecipe recipe = operands[1].memory();
  return recipe.base == operands[0].reg && !recipe.index && recipe.displacement == 0 &&
         operands[0].width == (instruction.mode() == Mode::bits64 ? 64 : 32);
}

}  // namespace deeptrace::isa
