#include "isa/effects.h"

namespace deeptrace::isa {
namespace {

void add(Effects& effects, RegisterPart part, Access access, Rest rest) {
  if (!part || part.file == RegisterFile::instruction_pointer || effects.register_count == effects.registers.size())
    return;
  effects.registers[effects.register_count++] = {part, access, rest};
}

Rest rest_of(const Operand& operand, const Instruction& instruction) {
  if (operand.reg.file == RegisterFile::general) return operand.reg.width == 32 ? Rest::zeroed : Rest::kept;
  return (instruction.prefixes & kPrefixVex) != 0 ? Rest::zeroed : Rest::kept;
}

}  // namespace

Effects effects_of(const Instruction& instruction) {
  Effects effects;
  const Row& row = row_of(instruction);
  effects.flags = operation_of(row).flags;
  effects.flow = flow_of(instruction);
  effects.faults = (row.traits & kFaults) != 0;
  effects.nondeterministic = (row.traits & kNondeterministic) != 0;
  for (const Operand& operand : operands_of(instruction)) {
    if (operand.kind == Operand::Kind::reg) {
      add(effects, operand.reg, operand.access, rest_of(operand, instruction));
      effects.touches_vector |= writes(operand.access) &&
                                (operand.reg.file == RegisterFile::vector || operand.reg.file == RegisterFile::mxcsr);
    } else if (operand.kind == Operand::Kind::memory) {
      add(effects, operand.memory.base, Access::read, Rest::kept);
      add(effects, operand.memory.index, Access::read, Rest::kept);
      effects.reads_memory |= reads(operand.access) && operand.width != 0;
      effects.writes_memory |= writes(operand.access) && operand.width != 0;
    }
  }
  // Scalar and packed float arithmetic leaves its exceptions in mxcsr (Intel SDM volume 1, 10.2.3).
  if ((row.traits & kFloat) != 0) {
    add(effects, {RegisterFile::mxcsr, 0, 0, 32}, Access::read_may_write, Rest::kept);
    effects.touches_vector = true;
  }
  if (is_repeated(instruction)) {
    add(effects, {RegisterFile::general, kRcx, 0, static_cast<std::uint16_t>(instruction.address_size * 8U)},
        Access::read_write, instruction.address_size == 4 ? Rest::zeroed : Rest::kept);
  }
  return effects;
}

}  // namespace deeptrace::isa
