#include "session/step_names.h"

#include <utility>

#include "isa/operand.h"
#include "isa/text.h"
#include "look/scope.h"
#include "state/with_registers.h"

namespace deeptrace::session {
namespace {

using state::Reg;

/// The operand that an instruction writes, where it is a fixed distance from the stack or frame pointer: as its text
/// has it, "[rbp-4]".
std::string frame_operand(const state::StateView& view, std::uint64_t address) {
  std::uint8_t bytes[isa::kLongestInstruction] = {};
  const std::size_t size = view.read_memory(address, bytes);
  const isa::Instruction instruction = isa::decode({bytes, size}, view.mode());
  if (!instruction) return {};
  const isa::Operands operands = isa::operands_of(instruction);
  for (unsigned i = 0; i < operands.shown; ++i) {
    const isa::Operand& operand = operands[i];
    if (operand.kind != isa::Operand::Kind::memory || !isa::writes(operand.access)) continue;
    const isa::MemoryRecipe recipe = operand.memory();
    const bool fixed = recipe.base.file == isa::RegisterFile::general && !recipe.index &&
                       (recipe.base.index == isa::kRsp || recipe.base.index == isa::kRbp);
    if (!fixed) return {};
    isa::Text text;
    isa::add_operand(text, instruction, operand, address, isa::Syntax::intel);
    const std::string_view words = text.view();
    const std::size_t open = words.find('[');
    return open != std::string_view::npos ? std::string(words.substr(open)) : std::string();
  }
  return {};
}

}  // namespace

look::AddressName StepNames::address(const StepRow& row, std::uint64_t value) {
  const state::RegisterSet& registers = row.after != nullptr ? *row.after : followed_.registers();
  return look::address_name(modules_, followed_.view(), value, registers[Reg::rsp]);
}

std::string StepNames::memory(const StepRow& row, const state::MemoryChange& change) {
  std::string name = look::memory_name(modules_, change.address, change.size);
  if (!name.empty() || row.before == nullptr || row.kind != StepRow::Kind::instruction) return name;
  const auto [known, added] = locals_.try_emplace(row.address);
  if (added) known->second = local(row, change);
  return known->second;
}

isa::Instruction StepNames::instruction_of(const StepRow& row) {
  const auto [known, added] = instructions_.try_emplace(row.address);
  if (added || known->second.mode() != row.mode) {
    std::uint8_t bytes[isa::kLongestInstruction] = {};
    const std::size_t size = followed_.view().read_memory(row.address, bytes);
    known->second = isa::decode({bytes, size}, row.mode);
  }
  return known->second;
}

std::string StepNames::reason(const StepRow& row) {
  if (std::exchange(asked_, row.number) != row.number) reason_ = find_reason(row);
  return reason_;
}

std::string StepNames::find_reason(const StepRow& row) {
  if (row.kind != StepRow::Kind::instruction || row.before == nullptr) {
    setter_.reset();
    return {};
  }
  const isa::Instruction instruction = instruction_of(row);
  if (!instruction) return {};
  std::string words;
  const auto code = isa::condition_of(instruction);
  const bool straight = setter_ && setter_->thread == row.thread && setter_->next == row.address;
  if (row.taken && code && straight)
    words = isa::decision_words(*code, *row.taken, setter_->instruction, setter_->values);
  if (isa::sets_condition_flags(instruction)) {
    keep_setter(row, instruction);
  } else if (straight && (isa::flow_of(instruction) == isa::ControlFlow::next || row.taken == false)) {
    setter_->next = row.address + instruction.length;  // flags pass it
  } else {
    setter_.reset();
  }
  return words;
}

void StepNames::keep_setter(const StepRow& row, const isa::Instruction& instruction) {
  setter_.reset();
  const isa::Operands operands = isa::operands_of(instruction);
  isa::Compared values;
  for (unsigned i = 0; i < 2 && i < operands.shown; ++i) {
    const isa::Operand& operand = operands[i];
    std::uint64_t& value = i == 0 ? values.first : values.second;
    if (operand.kind == isa::Operand::Kind::immediate) {
      value = static_cast<std::uint64_t>(operand.value);
    } else if (operand.kind == isa::Operand::Kind::memory && row.compared) {
      value = *row.compared;
    } else if (operand.kind == isa::Operand::Kind::reg && operand.reg.file == isa::RegisterFile::general) {
      value = state::value_of(*row.before, operand.reg);
      if (i == 0) values.result = state::value_of(*row.after, operand.reg);
    } else {
      return;
    }
  }
  setter_ = Setter{instruction, values, row.thread, row.address + instruction.length};
}

std::string StepNames::local(const StepRow& row, const state::MemoryChange& change) {
  const state::WithRegisters view(followed_.view(), *row.before);
  const std::string operand = frame_operand(view, row.address);
  if (operand.empty()) return {};
  look::Scope scope(modules_, view);
  scope.in_their_places();
  const std::string name = scope.name_of_memory(change.address, change.size);
  return name.empty() ? std::string() : operand + " " + name;
}

}  // namespace deeptrace::session
