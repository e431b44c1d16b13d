#include "look/call_state.h"

#include <algorithm>

#include "isa/effects.h"
#include "program/flow_blocks.h"
#include "state/known.h"
#include "state/touched.h"

namespace deeptrace::look {
namespace {

using isa::RegisterFile;
using state::Reg;

/// The general registers that an instruction writes, as bits by number.
std::uint32_t written_by(const isa::Instruction& instruction, const arch::Machine& machine) {
  std::uint32_t written = state::general_use(isa::effects_of(instruction)).written;
  const isa::ControlFlow flow = isa::flow_of(instruction);
  // After a call the stack pointer is what it was before.
  if (flow == isa::ControlFlow::call) written = machine.changed_by_call() & ~(1U << machine.stack_pointer);
  if (flow == isa::ControlFlow::system) written |= machine.changed_by_call_instruction | 1U << machine.result;
  return written;
}

/// `mov rdi, rax`: the whole register.
bool copies(const isa::Instruction& instruction, const isa::Operands& operands) {
  return isa::operation_of(instruction).meaning == isa::meaning::copy && operands.shown == 2 &&
         operands[0].kind == isa::Operand::Kind::reg && operands[1].kind == isa::Operand::Kind::reg &&
         operands[0].reg.file == RegisterFile::general && operands[1].reg.file == RegisterFile::general &&
         operands[0].width == arch::machine_of(instruction.mode()).word * 8U && operands[1].width == operands[0].width;
}

}  // namespace

std::optional<CallState> CallState::before_call(Modules& modules, const state::StateView& thread,
                                                const inspect::Frame& caller) {
  if (!caller.at_call) return std::nullopt;
  return before(modules, thread, caller, true);
}

std::optional<CallState> CallState::before_tail_call(Modules& modules, const state::StateView& thread,
                                                     const inspect::Frame& frame, const inspect::Frame& caller,
                                                     std::uint64_t jump) {
  // The function has given all back but its return address.
  inspect::Frame end = caller;
  end.at_call = false;
  end.registers[Reg::rip] = jump;
  end.registers[Reg::rsp] =
      (frame.cfa != 0 ? frame.cfa : caller.registers[Reg::rsp]) - arch::machine_of(thread.mode()).word;
  return before(modules, thread, end, true);
}

std::optional<CallState> CallState::before_instruction(Modules& modules, const state::StateView& thread,
                                                       const inspect::Frame& innermost) {
  return before(modules, thread, innermost, false);
}

std::optional<CallState> CallState::before(Modules& modules, const state::StateView& thread, const inspect::Frame& end,
                                           bool call) {
  CallState result(thread);
  if (!result.find_way(modules, end.inside())) return std::nullopt;
  const arch::Machine& machine = arch::machine_of(thread.mode());
  const std::uint64_t stack = end.registers[Reg::rsp];
  std::uint32_t sure = 0;  // what is known at the end, whatever happened on the way
  for (unsigned i = 0; i < machine.general_registers(); ++i) {
    const bool kept = !call || machine.keeps(i) || i == machine.stack_pointer;
    const bool known = (end.known >> static_cast<unsigned>(state::reg_numbered(i)) & 1) != 0;
    if (!kept || !known) continue;
    sure |= 1U << i;
    result.registers_[state::reg_numbered(i)] = end.registers[state::reg_numbered(i)];
  }
  const state::RegisterSet ends = result.registers_;
  const std::uint32_t unchanged = sure & ~result.written_on_way();
  // How far the way moves the stack pointer is seen by going it once.
  result.run(unchanged, stack);
  std::optional<std::uint64_t> start;
  if (result.knows(machine.stack_pointer)) start = stack - (result.registers_[Reg::rsp] - stack);
  result.registers_ = ends;
  result.run(unchanged, start);
  for (unsigned i = 0; i < machine.general_registers(); ++i) {
    if ((sure >> i & 1) == 0) continue;
    result.registers_[state::reg_numbered(i)] = ends[state::reg_numbered(i)];
    result.known_ |= 1U << i;
    // What was copied from a register that is known at the end is known too.
    for (unsigned copy = 0; copy < machine.general_registers(); ++copy) {
      if (result.knows(copy) || result.origins_[copy] != result.origins_[i]) continue;
      result.registers_[state::reg_numbered(copy)] = ends[state::reg_numbered(i)];
      result.known_ |= 1U << copy;
    }
  }
  result.registers_[Reg::rip] = result.address_;
  return result;
}

/// The instructions before the one that holds an address: those of its block, and of blocks that alone lead there.
bool CallState::find_way(Modules& modules, std::uint64_t inside) {
  const Module* module = modules.at(inside);
  const program::Function* function = modules.function_at(inside);
  if (module == nullptr || function == nullptr) return false;
  const program::AddressRange range = function->range();
  const program::FlowBlocks flow(*module->program, Modules::scan(*module), {&range, 1});
  const auto code = flow.code();
  const std::uint64_t in_file = inside - module->bias;
  std::uint32_t number = flow.number_at(in_file);
  if (number == code.size() || code[number].address != in_file) {
    if (number == 0) return false;
    --number;
  }
  const auto& last = code[number];
  if (in_file - last.address >= last.instruction.length) return false;
  address_ = last.address + module->bias;
  instruction_ = last.instruction;
  constexpr std::size_t kMostBlocks = 8;
  std::vector<std::uint32_t> blocks = {flow.block_of(number)};
  while (blocks.size() < kMostBlocks && !flow.is_root(blocks.back())) {
    const auto& from = flow.blocks()[blocks.back()].from;
    if (from.size() != 1 || std::ranges::find(blocks, from.front()) != blocks.end()) break;
    blocks.push_back(from.front());
  }
  from_entry_ = blocks.back() == 0 && flow.blocks()[0].from.empty();
  std::ranges::reverse(blocks);
  for (const std::uint32_t block : blocks) {
    for (std::uint32_t i = flow.blocks()[block].first; i < flow.blocks()[block].end && code[i].address < last.address;
         ++i)
      way_.push_back({code[i].address + module->bias, code[i].instruction});
  }
  return true;
}

std::uint32_t CallState::written_on_way() const {
  std::uint32_t written = 0;
  for (const Code& code : way_) written |= written_by(code.instruction, arch::machine_of(mode()));
  return written;
}

void CallState::run(std::uint32_t known, std::optional<std::uint64_t> stack) {
  const unsigned pointer = arch::machine_of(mode()).stack_pointer;
  known_ = known & ~(1U << pointer);
  stored_.clear();
  values_ = 0;
  for (unsigned i = 0; i < origins_.size(); ++i) origins_[i] = {.entry = static_cast<std::uint8_t>(i)};
  if (stack) {
    registers_[Reg::rsp] = *stack;
    known_ |= 1U << pointer;
  }
  for (const Code& code : way_) step(code);
}

std::optional<std::uint64_t> CallState::value(isa::RegisterPart part) const {
  if (part.file != RegisterFile::general || !knows(part.index)) return std::nullopt;
  return state::value_of(registers_, part);
}

std::uint32_t CallState::known_registers() const {
  std::uint32_t result = 1U << static_cast<unsigned>(Reg::rip);
  for (unsigned i = 0; i < 16; ++i) {
    if (knows(i)) result |= 1U << static_cast<unsigned>(state::reg_numbered(i));
  }
  return result;
}

void CallState::read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const {
  thread_->read_memory(requests, provenance);
  for (const state::MemoryRequest& request : requests) {
    for (auto it = stored_.lower_bound(request.address);
         it != stored_.end() && it->first - request.address < request.got; ++it)
      request.into[it->first - request.address] = it->second;
  }
}

void CallState::step(const Code& code) {
  const arch::Machine& machine = arch::machine_of(mode());
  registers_[Reg::rip] = code.address;
  const isa::ControlFlow flow = isa::flow_of(code.instruction);
  const std::uint32_t written = written_by(code.instruction, machine);
  std::uint64_t target = 0;
  const bool next = flow == isa::ControlFlow::call && isa::direct_target(code.instruction, code.address, target) &&
                    target == code.address + code.instruction.length;
  if (next) return push_own_address(target);
  if (flow == isa::ControlFlow::call || flow == isa::ControlFlow::system) {
    known_ &= ~written;
    stored_.clear();  // whoever was called may have written there since
  } else {
    carry_out(code);
  }
  const isa::Operands operands = isa::operands_of(code.instruction);
  if (copies(code.instruction, operands)) {
    origins_[operands[0].reg.index] = origins_[operands[1].reg.index];
    return;
  }
  for (unsigned i = 0; i < origins_.size(); ++i) {
    if ((written >> i & 1) != 0) origins_[i] = {code.address, flow == isa::ControlFlow::call, 0, ++values_};
  }
}

/// A call of the next instruction is there to learn where it is.
void CallState::push_own_address(std::uint64_t address) {
  const unsigned word = arch::machine_of(mode()).word;
  if (!knows(isa::kRsp)) return stored_.clear();
  registers_[Reg::rsp] -= word;
  for (unsigned i = 0; i < word; ++i) stored_[registers_[Reg::rsp] + i] = static_cast<std::uint8_t>(address >> 8 * i);
}

void CallState::carry_out(const Code& code) {
  const isa::Instruction& instruction = code.instruction;
  const isa::Operands operands = isa::operands_of(instruction);
  const isa::Effects effects = isa::effects_of(instruction, operands);
  const state::GeneralUse use = state::general_use(effects);
  const std::uint32_t written = use.written;
  const bool certain = !use.needs_others && (use.needed & ~known_) == 0;
  if (state::clears(instruction, operands)) {
    known_ |= 1U << operands[0].reg.index;
    registers_[state::reg_numbered(operands[0].reg.index)] = 0;
    return;
  }
  std::optional<state::Outcome> outcome;
  if (certain) outcome = state::execute(instruction, *this);
  if (outcome && (outcome->ending != state::Ending::done || outcome->registers[Reg::rip] == code.address))
    outcome.reset();
  if (effects.writes_memory || effects.unknown_memory) keep_store(instruction, outcome ? &*outcome : nullptr);
  // A push moves the stack pointer whatever it pushes.
  const isa::Meaning meaning = isa::operation_of(instruction).meaning;
  if (!outcome && meaning == isa::meaning::push && knows(isa::kRsp)) {
    registers_[Reg::rsp] -= instruction.operand_size == 2 ? 2U : arch::machine_of(mode()).word;
    return;
  }
  known_ &= ~written;
  if (!outcome) return;
  for (unsigned number = 0; number < 16; ++number) {
    if ((written >> number & 1) == 0 || (outcome->undefined_registers >> number & 1) != 0) continue;
    registers_[state::reg_numbered(number)] = outcome->registers[state::reg_numbered(number)];
    known_ |= 1U << number;
  }
}

/// What was stored and is not known here is in memory, if nobody has written over it.
void CallState::keep_store(const isa::Instruction& instruction, const state::Outcome* outcome) {
  if (outcome != nullptr) {
    for (unsigned i = 0; i < outcome->store.size; ++i) {
      stored_.erase(outcome->store.address + i);
      if (!outcome->store.undefined) stored_[outcome->store.address + i] = outcome->store.bytes[i];
    }
    return;
  }
  const isa::Operands operands = isa::operands_of(instruction);
  for (unsigned i = 0; i < operands.count; ++i) {
    if (operands[i].kind != isa::Operand::Kind::memory) continue;
    const isa::MemoryRecipe recipe = operands[i].memory();
    const bool known = (recipe.base.file != RegisterFile::general || knows(recipe.base.index)) &&
                       (recipe.index.file != RegisterFile::general || knows(recipe.index.index));
    if (!known) return stored_.clear();
  }
  const state::Touched touched = state::touched_by(instruction, registers_);
  for (const state::TouchedRange& range : touched) {
    if (!isa::writes(range.access)) continue;
    std::erase_if(stored_, [&](const auto& one) { return one.first - range.address < range.size; });
  }
  if (!touched.complete) stored_.clear();
}

}  // namespace deeptrace::look
