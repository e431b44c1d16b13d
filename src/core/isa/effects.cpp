#include "isa/effects.h"

#include <memory>
#include <new>

namespace deeptrace::isa {
namespace {

void add(Effects& effects, RegisterPart part, Access access, Rest rest) {
  if (!part || part.file == RegisterFile::instruction_pointer || effects.register_count == effects.registers.size())
    return;
  new (&effects.registers[effects.register_count++]) RegisterEffect{part, access, rest};
}

Rest rest_of(RegisterPart part, const Instruction& instruction) {
  if (part.file == RegisterFile::general) return part.width == 32 ? Rest::zeroed : Rest::kept;
  if (part.file == RegisterFile::mask) return Rest::zeroed;
  return instruction.is_vector_encoded() ? Rest::zeroed : Rest::kept;
}

void add_register(Effects& effects, const Operand& operand, const Instruction& instruction) {
  add(effects, operand.reg, operand.access, rest_of(operand.reg, instruction));
  if (!writes(operand.access)) return;
  switch (operand.reg.file) {
    case RegisterFile::vector:
    case RegisterFile::mask:
    case RegisterFile::mxcsr: effects.touches_vector = true; break;
    case RegisterFile::x87:
    case RegisterFile::mmx:
    case RegisterFile::x87_control:
    case RegisterFile::x87_status: effects.touches_x87 = true; break;
    default: break;
  }
}

/// Products of several registers name the first one only.
void add_neighbours(Effects& effects, const Row& row, const Operands& operands) {
  if ((row.traits & kFour) != 0) {
    RegisterPart part = operands[1].reg;
    const auto first = static_cast<std::uint8_t>(part.index & ~3);
    for (std::uint8_t i = 0; i < 4; ++i) {
      part.index = static_cast<std::uint8_t>(first + i);
      if (part.index != operands[1].reg.index) add(effects, part, Access::read, Rest::kept);
    }
  }
  if ((row.traits & kPair) != 0) {
    RegisterPart part = operands[0].reg;
    part.index ^= 1;
    add(effects, part, Access::write, Rest::zeroed);
  }
}

/// What the traits say of state that no operand names.
void add_by_traits(Effects& effects, const Row& row, const Instruction& instruction, const Operands& operands) {
  // Scalar and packed float arithmetic leaves its exceptions in mxcsr (Intel SDM volume 1, 10.2.3).
  if ((row.traits & kFloat) != 0) {
    const bool quiet = instruction.has_rounding() && (instruction.prefixes & kPrefixEvex) != 0;
    add(effects, {RegisterFile::mxcsr, 0, 0, 32}, quiet ? Access::read : Access::read_may_write, Rest::kept);
    effects.touches_vector = true;
  }
  if ((row.traits & (kX87 | kX87Push | kX87Pop | kX87State)) != 0) {
    add(effects, {RegisterFile::x87_status, 0, 0, 16}, Access::may_write, Rest::kept);
    effects.touches_x87 = true;
    if ((row.traits & kX87Push) != 0) effects.x87_pushes = 1;
    if ((row.traits & kX87Pop) != 0) effects.x87_pushes = mnemonic_of(row).ends_with("pp") ? -2 : -1;
  }
  constexpr std::uint32_t kVectors = kVectorState | kZeroUpper | kZeroAll;
  effects.touches_vector |= (row.traits & kVectors) != 0;
  effects.unknown_memory = (row.traits & kUnknownExtent) != 0;
  if ((row.traits & (kFour | kPair)) != 0) add_neighbours(effects, row, operands);
}

}  // namespace

Effects effects_of(const Instruction& instruction) { return effects_of(instruction, operands_of(instruction)); }

Effects effects_of(const Instruction& instruction, const Operands& operands) {
  Effects effects;
  std::uninitialized_default_construct_n(effects.registers.data(), Effects::kUsual);
  const Row& row = row_of(instruction);
  effects.flags = operation_of(row).flags;
  effects.flow = flow_of(instruction);
  effects.faults = (row.traits & kFaults) != 0;
  effects.nondeterministic = (row.traits & kNondeterministic) != 0;
  for (const Operand& operand : operands) {
    if (operand.kind == Operand::Kind::reg) {
      add_register(effects, operand, instruction);
    } else if (operand.kind == Operand::Kind::memory) {
      const MemoryRecipe recipe = operand.memory();
      add(effects, recipe.base, Access::read, Rest::kept);
      add(effects, recipe.index, Access::read, Rest::kept);
      const bool touched = operand.width != 0 || operand.unknown_size;
      effects.reads_memory |= reads(operand.access) && touched;
      effects.writes_memory |= writes(operand.access) && touched;
    }
  }
  constexpr std::uint32_t kBeyondOperands = kFloat | kX87 | kX87Push | kX87Pop | kX87State | kVectorState | kZeroUpper |
                                            kZeroAll | kUnknownExtent | kFour | kPair;
  if ((row.traits & kBeyondOperands) != 0) add_by_traits(effects, row, instruction, operands);
  if ((instruction.prefixes & (kPrefixRep | kPrefixRepne)) != 0 && is_repeated(instruction)) {
    add(effects, {RegisterFile::general, kRcx, 0, static_cast<std::uint16_t>(instruction.address_size * 8U)},
        Access::read_write, instruction.address_size == 4 ? Rest::zeroed : Rest::kept);
  }
  return effects;
}

}  // namespace deeptrace::isa
