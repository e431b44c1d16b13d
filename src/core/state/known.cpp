#include "state/known.h"

#include "isa/effects.h"
#include "state/execute.h"
#include "state/touched.h"

namespace deeptrace::state {
namespace {

using isa::RegisterFile;

constexpr std::size_t kMostPushed = 64;

/// Bytes that a push or call takes on the stack.
std::int64_t slot_size(const isa::Instruction& instruction) {
  if (instruction.operand_size == 2) return 2;
  return arch::machine_of(instruction.mode()).word;
}

}  // namespace

GeneralUse general_use(const isa::Effects& effects) {
  GeneralUse use;
  use.needs_others = effects.flags.read != 0;
  for (unsigned i = 0; i < effects.register_count; ++i) {
    const isa::RegisterEffect& effect = effects.registers[i];
    if (effect.part.file == RegisterFile::general) {
      const std::uint32_t bit = 1U << effect.part.index;
      if (isa::writes(effect.access)) use.written |= bit;
      if (isa::reads(effect.access) || (isa::writes(effect.access) && effect.part.width < 32)) use.needed |= bit;
    } else if (effect.part.file != RegisterFile::instruction_pointer) {
      use.needs_others |= isa::reads(effect.access);
    }
  }
  return use;
}

bool clears(const isa::Instruction& instruction, const isa::Operands& operands) {
  const isa::Meaning meaning = isa::operation_of(instruction).meaning;
  return (meaning == isa::meaning::bit_xor || meaning == isa::meaning::sub) && operands.shown == 2 &&
         operands[0].kind == isa::Operand::Kind::reg && operands[0].reg == operands[1].reg && operands[0].width >= 32;
}

void Known::forget() {
  known_ = 0;
  pushed_.clear();
}

void Known::set(isa::General number, std::uint64_t value) {
  known_ |= 1U << number;
  registers_[reg_numbered(number)] = value;
}

std::optional<std::uint64_t> Known::value(isa::RegisterPart part) const {
  if (part.file == RegisterFile::instruction_pointer) return value_of(registers_, part);
  if (part.file != RegisterFile::general || (known_ >> part.index & 1) == 0) return std::nullopt;
  return value_of(registers_, part);
}

std::optional<std::uint64_t> Known::address_of(const isa::MemoryRecipe& recipe, std::uint64_t next,
                                               bool any_index) const {
  // The bases of fs and gs are unknown.
  if (recipe.segment.index == isa::kFs || recipe.segment.index == isa::kGs || recipe.bit_number) return std::nullopt;
  isa::MemoryRecipe whole = recipe;
  // Of [rdx+rax] either may be the array.
  if (any_index && recipe.base && recipe.index && recipe.scale == 1 && !value(recipe.base)) {
    if (!value(recipe.index)) return std::nullopt;
    whole.base = recipe.index;
    whole.index = {};
    return state::address_of(whole, registers_, next, 0);
  }
  if (recipe.base && recipe.base.file != RegisterFile::instruction_pointer && !value(recipe.base)) return std::nullopt;
  if (recipe.index && !value(recipe.index)) {
    // Where the base is unknown as well, the displacement alone may be the array.
    if (!any_index) return std::nullopt;
    whole.index = {};
  }
  return state::address_of(whole, registers_, next, 0);
}

void Known::read_memory(std::span<MemoryRequest> requests, Provenance /*provenance*/) const {
  for (MemoryRequest& request : requests) request.got = 0;
}

void Known::move_stack(std::int64_t bytes) {
  if ((known_ >> isa::kRsp & 1) != 0) registers_[Reg::rsp] += static_cast<std::uint64_t>(bytes);
}

bool Known::calls_next(const isa::Instruction& instruction, std::uint64_t address) const {
  std::uint64_t target = 0;
  return linked_ && isa::flow_of(instruction) == isa::ControlFlow::call &&
         isa::direct_target(instruction, address, target) && target == address + instruction.length;
}

bool Known::push_or_pop(const isa::Instruction& instruction, const isa::Operands& operands, std::uint64_t address) {
  const isa::Meaning meaning = isa::operation_of(instruction).meaning;
  if (meaning == isa::meaning::push) {
    std::optional<std::uint64_t> pushed;
    if (operands[0].kind == isa::Operand::Kind::immediate) pushed = static_cast<std::uint64_t>(operands[0].value);
    if (operands[0].kind == isa::Operand::Kind::reg) pushed = value(operands[0].reg);
    pushed_.push_back(pushed);
    move_stack(-slot_size(instruction));
  } else if (meaning == isa::meaning::pop && operands[0].kind == isa::Operand::Kind::reg &&
             operands[0].reg.file == RegisterFile::general) {
    std::optional<std::uint64_t> popped;
    if (!pushed_.empty()) {
      popped = pushed_.back();
      pushed_.pop_back();
    }
    move_stack(slot_size(instruction));
    forget(operands[0].reg.index);
    if (popped && operands[0].width >= 32) set(static_cast<isa::General>(operands[0].reg.index), *popped);
  } else if (meaning == isa::meaning::enter && (operands[1].value & 31) == 0) {
    move_stack(-slot_size(instruction));
    const auto frame = value({RegisterFile::general, isa::kRsp, 0, 64});
    pushed_.clear();
    forget(isa::kRbp);
    if (frame) set(isa::kRbp, *frame);
    move_stack(-operands[0].value);
  } else if (meaning == isa::meaning::leave) {
    // The frame pointer's old value is in memory; where the stack pointer goes is known.
    const auto frame = value({RegisterFile::general, isa::kRbp, 0, 64});
    pushed_.clear();
    forget(isa::kRsp);
    if (frame) set(isa::kRsp, *frame + static_cast<std::uint64_t>(slot_size(instruction)));
    forget(isa::kRbp);
  } else if (calls_next(instruction, address)) {
    move_stack(-slot_size(instruction));
    pushed_.push_back(address + instruction.length);
  } else {
    return false;
  }
  if (pushed_.size() > kMostPushed) pushed_.clear();
  return true;
}

void Known::take(const isa::Instruction& instruction) {
  const isa::Operands operands = isa::operands_of(instruction);
  if (push_or_pop(instruction, operands, registers_[Reg::rip])) return;
  const isa::Effects effects = isa::effects_of(instruction, operands);
  const GeneralUse use = general_use(effects);
  const bool certain = !effects.reads_memory && !use.needs_others && (use.needed & ~known_) == 0;
  const std::uint32_t written = use.written;
  if ((written >> isa::kRsp & 1) != 0) pushed_.clear();
  written_ = written;
  if (written == 0) return;
  if (clears(instruction, operands)) {
    set(static_cast<isa::General>(operands[0].reg.index), 0);
    return;
  }
  known_ &= ~written;
  if (!certain) return;
  const Outcome outcome = execute(instruction, *this);
  if (outcome.ending != Ending::done) return;
  for (unsigned number = 0; number < 16; ++number) {
    if ((written >> number & 1) == 0 || (outcome.undefined_registers >> number & 1) != 0) continue;
    set(static_cast<isa::General>(number), outcome.registers[reg_numbered(number)]);
  }
}

void Known::step(const isa::Instruction& instruction, std::uint64_t address) {
  registers_[Reg::rip] = address;
  written_ = 0;
  const bool stack_known = (known_ >> isa::kRsp & 1) != 0;
  const std::uint64_t stack = registers_[Reg::rsp];
  take(instruction);
  switch (isa::flow_of(instruction)) {
    case isa::ControlFlow::call: {
      if (calls_next(instruction, address)) break;
      // The return takes what the call pushed.
      if (stack_known) set(isa::kRsp, stack);
      known_ &= ~arch::machine_of(mode_).changed_by_call();
      written_ |= arch::machine_of(mode_).changed_by_call();
      pushed_.clear();
      break;
    }
    case isa::ControlFlow::system:
      known_ &= ~arch::machine_of(mode_).changed_by_call_instruction;
      written_ |= arch::machine_of(mode_).changed_by_call_instruction;
      break;
    default: break;
  }
}

}  // namespace deeptrace::state
