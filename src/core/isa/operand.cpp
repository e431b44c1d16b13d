#include "isa/operand.h"

namespace deeptrace::isa {
namespace {

constexpr std::uint8_t kRexB = 1, kRexX = 2, kRexR = 4, kRexW = 8;

RegisterPart general(unsigned index, unsigned width) {
  return {RegisterFile::general, static_cast<std::uint8_t>(index), 0, static_cast<std::uint16_t>(width)};
}
RegisterPart segment(unsigned index) { return {RegisterFile::segment, static_cast<std::uint8_t>(index), 0, 16}; }

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

  Operands run() {
    Operands out;
    out.shown = row_.shown;
    for (const OperandUse use : uses_of(row_)) {
      Operand& operand = out.items[out.count];
      operand = build(kind_of(use));
      operand.access = use.access;
      operand.hidden = out.count >= out.shown;
      ++out.count;
    }
    return out;
  }

 private:
  [[nodiscard]] unsigned native_bits() const { return mode64_ ? 64 : 32; }

  [[nodiscard]] unsigned bits_of(Width width) const {
    const unsigned operand_bits = in_.operand_size * 8U;
    switch (width) {
      case Width::none: return 0;
      case Width::b8: return 8;
      case Width::b16: return 16;
      case Width::b32: return 32;
      case Width::b64: return 64;
      case Width::b128: return 128;
      case Width::high64: return 64;
      case Width::operand: return operand_bits;
      case Width::operand32: return operand_bits < 32 ? operand_bits : 32;
      case Width::operand_twice: return 2 * operand_bits;
      case Width::rexw: return (in_.rex & kRexW) != 0 && mode64_ ? 64 : 32;
      case Width::address: return in_.address_size * 8U;
      case Width::stack: return native_bits();
      case Width::native: return native_bits();
      case Width::far_pointer: return operand_bits + 16;
      case Width::table_register: return native_bits() + 16;
      case Width::low16_of_32: return 32;
      case Width::stack_slots: return operand_bits;
    }
    return 0;
  }

  [[nodiscard]] RegisterPart register_part(const OperandKind& kind, unsigned index, unsigned bits) const {
    if (kind.file == RegisterFile::general && bits == 8 && in_.rex == 0 && (in_.prefixes & kPrefixVex) == 0 &&
        index >= 4 && index < 8) {
      return {RegisterFile::general, static_cast<std::uint8_t>(index - 4), 8, 8};  // ah ch dh bh
    }
    if (kind.file == RegisterFile::segment) return segment(index);
    return {kind.file, static_cast<std::uint8_t>(index), kind.offset, static_cast<std::uint16_t>(bits)};
  }

  [[nodiscard]] Operand from_register(const OperandKind& kind, unsigned index) const {
    Operand operand;
    operand.kind = Operand::Kind::reg;
    operand.reg = register_part(kind, index, bits_of(kind.width));
    operand.width = operand.reg.width;
    return operand;
  }

  /// Segment registers have only three bits; REX does not extend them.
  [[nodiscard]] unsigned reg_field(RegisterFile file) const {
    const unsigned low = (in_.modrm >> 3) & 7;
    return file == RegisterFile::segment || (in_.rex & kRexR) == 0 ? low : low + 8;
  }

  [[nodiscard]] unsigned extended(unsigned low, std::uint8_t rex_bit) const {
    return (in_.rex & rex_bit) != 0 ? low + 8 : low;
  }

  [[nodiscard]] Operand from_rm(const OperandKind& kind) const {
    if (in_.modrm >= 0xc0) return from_register(kind, extended(in_.modrm & 7, kRexB));
    Operand operand = memory(kind.width == Width::native ? 0 : bits_of(kind.width));
    if (kind.width == Width::low16_of_32) operand.width = 16;
    return operand;
  }

  void choose_segment(MemoryRecipe& recipe, unsigned fallback) const {
    const int forced = in_.segment_override();
    recipe.segment_forced = forced >= 0;
    recipe.segment = segment(forced >= 0 ? static_cast<unsigned>(forced) : fallback);
  }

  [[nodiscard]] Operand memory(unsigned bits) const {
    Operand operand;
    operand.kind = Operand::Kind::memory;
    operand.width = static_cast<std::uint16_t>(bits);
    MemoryRecipe& recipe = operand.memory;
    recipe.address_size = in_.address_size;
    recipe.displacement = in_.displacement;
    if (in_.address_size == 2) {
      address16(recipe);
    } else {
      address32(recipe);
    }
    const bool on_stack =
        recipe.base.file == RegisterFile::general && (recipe.base.index == kRsp || recipe.base.index == kRbp);
    choose_segment(recipe, on_stack ? kSs : kDs);
    if (recipe.base.file == RegisterFile::general && recipe.base.index == kRsp && pops()) {
      recipe.hidden_displacement = in_.operand_size;
    }
    if ((row_.traits & kBitOffset) != 0) {
      recipe.bit_number = general(extended((in_.modrm >> 3) & 7, kRexR), in_.operand_size * 8U);
    }
    return operand;
  }

  [[nodiscard]] bool pops() const {
    for (const OperandUse use : uses_of(row_)) {
      if (kind_of(use).source == Source::pop) return true;
    }
    return false;
  }

  /// Intel SDM volume 2, table 2-1.
  void address16(MemoryRecipe& recipe) const {
    struct Pair {
      std::int8_t base, index;
    };
    constexpr Pair kPairs[] = {{kRbx, kRsi}, {kRbx, kRdi}, {kRbp, kRsi}, {kRbp, kRdi},
                               {kRsi, -1},   {kRdi, -1},   {kRbp, -1},   {kRbx, -1}};
    if ((in_.modrm >> 6) == 0 && (in_.modrm & 7) == 6) return;
    const Pair pair = kPairs[in_.modrm & 7];
    recipe.base = general(static_cast<unsigned>(pair.base), 16);
    if (pair.index >= 0) recipe.index = general(static_cast<unsigned>(pair.index), 16);
  }

  /// Intel SDM volume 2, tables 2-2 and 2-3; RIP-relative: 2.2.1.6.
  void address32(MemoryRecipe& recipe) const {
    const unsigned bits = in_.address_size * 8U;
    const unsigned mod = in_.modrm >> 6;
    const unsigned rm = in_.modrm & 7;
    if (mod == 0 && rm == 5) {
      if (mode64_) {
        recipe.base = {RegisterFile::instruction_pointer, 0, 0, static_cast<std::uint16_t>(bits)};
      }
      return;
    }
    if (rm != 4) {
      recipe.base = general(extended(rm, kRexB), bits);
      return;
    }
    const unsigned index = extended((in_.sib >> 3) & 7, kRexX);
    if (index != 4) {
      recipe.index = general(index, bits);
      recipe.scale = static_cast<std::uint8_t>(1U << (in_.sib >> 6));
    }
    if ((in_.sib & 7) != 5 || mod != 0) recipe.base = general(extended(in_.sib & 7, kRexB), bits);
  }

  [[nodiscard]] Operand string_memory(const OperandKind& kind, unsigned base, bool source) const {
    Operand operand;
    operand.kind = Operand::Kind::memory;
    operand.width = static_cast<std::uint16_t>(bits_of(kind.width));
    operand.repeated = is_repeated(in_);
    operand.memory.address_size = in_.address_size;
    operand.memory.base = general(base, in_.address_size * 8U);
    if (source || (row_.traits & (kRep | kRepz)) == 0) {
      choose_segment(operand.memory, kDs);
    } else {
      operand.memory.segment = segment(kEs);
    }
    return operand;
  }

  /// `slots` stack slots from `displacement` bytes off `base`.
  [[nodiscard]] Operand stack_memory(unsigned base, unsigned slots, std::int32_t displacement) const {
    Operand operand;
    operand.kind = Operand::Kind::memory;
    operand.stack_slot = true;
    operand.width = static_cast<std::uint16_t>(slots * in_.operand_size * 8U);
    operand.memory.segment = segment(kSs);
    operand.memory.base = general(base, native_bits());
    operand.memory.address_size = mode64_ ? 8 : 4;
    operand.memory.hidden_displacement = displacement;
    return operand;
  }

  [[nodiscard]] Operand immediate(std::int64_t value, unsigned bits, bool extended_by_sign) const {
    Operand operand;
    operand.kind = Operand::Kind::immediate;
    operand.width = static_cast<std::uint16_t>(bits);
    operand.value = value;
    operand.sign_extended = extended_by_sign;
    return operand;
  }

  /// The next immediate field, in order.
  std::uint64_t take_field(unsigned& bytes) {
    const unsigned shift = field_ == 0 ? 0 : in_.immediate_size[0] * 8U;
    bytes = in_.immediate_size[field_++];
    const std::uint64_t value = shift < 64 ? in_.immediate >> shift : 0;
    return bytes >= 8 ? value : value & ((std::uint64_t(1) << (8 * bytes)) - 1);
  }

  [[nodiscard]] Operand build(const OperandKind& kind) {
    unsigned bytes = 0;
    Operand operand;
    switch (kind.source) {
      case Source::rm: return from_rm(kind);
      case Source::reg: return from_register(kind, reg_field(kind.file));
      case Source::opcode: return from_register(kind, extended(in_.opcode & 7, kRexB));
      case Source::vvvv: return from_register(kind, in_.vector & (mode64_ ? 15U : 7U));
      case Source::fixed:
        operand.kind = Operand::Kind::reg;
        operand.width = static_cast<std::uint16_t>(bits_of(kind.width));
        operand.reg = {kind.file, kind.index, kind.offset, operand.width};
        return operand;
      case Source::one: return immediate(1, 8, false);
      case Source::immediate: return wide_immediate(kind);
      case Source::immediate_signed: {
        const std::uint64_t value = take_field(bytes);
        return immediate(sign_extend(value, 8), in_.operand_size * 8U, true);
      }
      case Source::relative: {
        const std::uint64_t value = take_field(bytes);
        operand.kind = Operand::Kind::target;
        operand.width = static_cast<std::uint16_t>(native_bits());
        operand.value = sign_extend(value, bytes * 8) + in_.length;
        return operand;
      }
      case Source::absolute:
        operand.kind = Operand::Kind::memory;
        operand.width = static_cast<std::uint16_t>(bits_of(kind.width));
        operand.memory.address_size = in_.address_size;
        operand.memory.displacement = static_cast<std::int64_t>(take_field(bytes));
        choose_segment(operand.memory, kDs);
        return operand;
      case Source::far: {
        const std::uint64_t value = take_field(bytes);
        operand.kind = Operand::Kind::far;
        operand.width = static_cast<std::uint16_t>(bytes * 8);
        operand.value = static_cast<std::int64_t>(value & ((std::uint64_t(1) << (8 * (bytes - 2))) - 1));
        operand.selector = static_cast<std::uint16_t>(value >> (8 * (bytes - 2)));
        return operand;
      }
      case Source::string_source: return string_memory(kind, kRsi, true);
      case Source::string_destination: return string_memory(kind, kRdi, false);
      case Source::push: return stack_memory(kRsp, kind.index, -std::int32_t(kind.index) * in_.operand_size);
      case Source::pop: return stack_memory(kRsp, kind.index, 0);
      case Source::enter: {
        const unsigned slots = 1 + ((in_.immediate >> 16) & 31);
        return stack_memory(kRsp, slots, -static_cast<std::int32_t>(slots * in_.operand_size));
      }
      case Source::leave: return stack_memory(kRbp, 1, 0);
      case Source::xlat:
        operand.kind = Operand::Kind::memory;
        operand.width = 8;
        operand.memory.address_size = in_.address_size;
        operand.memory.base = general(kRbx, in_.address_size * 8U);
        operand.memory.index = general(kRax, 8);
        choose_segment(operand.memory, kDs);
        return operand;
    }
    return operand;
  }

  /// An immediate as wide as its field; a 32-bit field of a 64-bit operation is sign-extended.
  [[nodiscard]] Operand wide_immediate(const OperandKind& kind) {
    unsigned bytes = 0;
    const std::uint64_t value = take_field(bytes);
    if (kind.width == Width::operand32 && in_.operand_size == 8) {
      return immediate(sign_extend(value, bytes * 8), 64, true);
    }
    return immediate(static_cast<std::int64_t>(value), bytes * 8, false);
  }

  const Instruction& in_;
  const Row& row_;
  bool mode64_;
  unsigned field_ = 0;
};

}  // namespace

Operands operands_of(const Instruction& instruction) { return Builder(instruction).run(); }

bool direct_target(const Instruction& instruction, std::uint64_t address, std::uint64_t& target) {
  const auto uses = uses_of(row_of(instruction));
  if (uses.empty() || kind_of(uses[0]).source != Source::relative) return false;
  target = address + static_cast<std::uint64_t>(operands_of(instruction)[0].value);
  if (instruction.mode() == Mode::bits32) target &= instruction.operand_size == 2 ? 0xffff : 0xffffffff;
  return true;
}

bool fixed_memory_address(const Instruction& instruction, std::uint64_t address, std::uint64_t& target) {
  for (const Operand& operand : operands_of(instruction)) {
    if (operand.kind != Operand::Kind::memory || operand.hidden) continue;
    const MemoryRecipe& recipe = operand.memory;
    const bool own_segment = recipe.segment.index == kFs || recipe.segment.index == kGs;
    if (own_segment || (!recipe.is_ip_relative() && !recipe.is_absolute())) return false;
    target = static_cast<std::uint64_t>(recipe.displacement);
    if (recipe.is_ip_relative()) target += address + instruction.length;
    if (recipe.address_size < 8) target &= 0xffffffff;
    return true;
  }
  return false;
}

bool does_nothing(const Instruction& instruction) {
  const std::string_view name = operation_of(row_of(instruction)).name;
  if (name == "nop") return true;
  const Operands operands = operands_of(instruction);
  return name == "xchg" && operands[0].kind == Operand::Kind::reg && operands[0].reg == operands[1].reg;
}

}  // namespace deeptrace::isa
