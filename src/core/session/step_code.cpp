#include "session/step_code.h"

#include <algorithm>

#include "isa/operand.h"
#include "isa/text.h"
#include "state/delta.h"
#include "state/execute.h"
#include "state/touched.h"

namespace deeptrace::session {

using isa::ControlFlow;
using state::Reg;
using state::RegisterSet;

namespace {

using isa::RegisterFile;

/// Which registers beyond the integer core an instruction may change.
void describe_wide(Code& code, const isa::Effects& effects) {
  const std::uint64_t traits = isa::row_of(code.instruction).traits;
  const bool whole = (traits & (isa::kVectorState | isa::kZeroUpper | isa::kZeroAll)) != 0;
  if (effects.touches_vector || effects.touches_x87)
    code.wide = whole || code.instruction.is_vector_encoded() ? Code::Wide::any : Code::Wide::legacy;
  code.beyond_compared = (traits & isa::kVectorState) != 0 && effects.unknown_memory;
  for (unsigned i = 0; i < effects.register_count; ++i) {
    const isa::RegisterEffect& effect = effects.registers[i];
    if (!isa::writes(effect.access)) continue;
    const RegisterFile file = effect.part.file;
    if (file == RegisterFile::vector || file == RegisterFile::mmx) code.wide_written.push_back(effect.part);
    code.beyond_compared |= file == RegisterFile::tile || file == RegisterFile::bound;
  }
}

}  // namespace

const abi::SystemCall* call_of(const Code& code, const RegisterSet& registers) {
  constexpr std::int64_t kKernelGate = 0x80;
  if ((isa::row_of(code.instruction).traits & isa::kGate) == 0)
    return abi::system_call(registers[Reg::rax], abi::call_table(code.mode));
  const bool kernel = isa::operands_of(code.instruction)[0].value == kKernelGate;
  return kernel ? abi::system_call(registers[Reg::rax] & 0xffffffff, abi::CallTable::i386) : nullptr;
}

std::uint64_t operand_address(const Code& code, const RegisterSet& before) {
  const state::Touched touched = state::touched_by(code.instruction, before);
  return touched.count != 0 ? touched.begin()->address : 0;
}

Code& CodeBook::at(std::uint64_t address, isa::Mode mode) {
  const auto [place, added] = known_.try_emplace(address);
  Code& code = place->second;
  if (!added && code.mode == mode) return code;
  code = {};
  code.mode = mode;
  describe(code, address);
  return code;
}

void CodeBook::keep_page(std::uint64_t number) {
  const auto [place, added] = pages_.try_emplace(number);
  if (added) memory_.read(number * place->second.size(), place->second);
}

void CodeBook::forget() {
  known_.clear();
  pages_.clear();
}

bool CodeBook::is_outdated() const {
  Page now{};
  return std::ranges::any_of(pages_, [&](const auto& page) {
    now = {};
    memory_.read(page.first * now.size(), now);
    return now != page.second;
  });
}

void CodeBook::describe(Code& code, std::uint64_t address) {
  std::uint8_t bytes[isa::kLongestInstruction] = {};
  const std::size_t size = memory_.read(address, bytes);
  keep_page(address / Page().size());
  keep_page((address + size) / Page().size());
  code.instruction = isa::decode({bytes, size}, code.mode);
  const look::Module* module = modules_.at(address);
  const std::uint64_t inside = address - module->bias;
  if (auto nearest = module->program->nearest_name(inside)) {
    code.function = std::move(nearest->name);
    code.function_start = nearest->address + module->bias;
  }
  if (const auto line = module->program->lines().at(inside)) {
    code.file = module->program->source_path(*line);
    code.line = line->line;
  }
  if (!code.instruction) {
    isa::Text text;
    text.add(".byte ");
    text.add_hex(bytes[0]);
    code.text = text.view();
    code.wide = Code::Wide::any;
    return;
  }
  describe_instruction(code, address, *module);
}

void CodeBook::describe_instruction(Code& code, std::uint64_t address, const look::Module& module) {
  const isa::Instruction& instruction = code.instruction;
  code.length = instruction.length;
  code.text = isa::text_of(instruction, address, isa::Syntax::intel).view();
  code.flow = isa::flow_of(instruction);
  const isa::Effects effects = isa::effects_of(instruction);
  code.writes_memory = effects.writes_memory || effects.unknown_memory;
  describe_wide(code, effects);
  code.general_written = state::written_registers(instruction);
  code.repeated = isa::is_repeated(instruction);
  code.flag_image = (isa::row_of(instruction).traits & isa::kFlagImage) != 0;
  bool exact = !effects.unknown_memory;
  const isa::Meaning meaning = isa::operation_of(instruction).meaning;
  const bool compares = meaning == isa::meaning::cmp || meaning == isa::meaning::test;
  for (const isa::Operand& operand : isa::operands_of(instruction)) {
    if (operand.kind != isa::Operand::Kind::memory) continue;
    if (isa::reads(operand.access)) code.reads.push_back({operand.memory(), operand.width});
    if (compares && operand.width <= 64) code.compared = code.reads.back();
    if (!isa::writes(operand.access)) continue;
    if (operand.width != 0) code.writes.push_back({operand.memory(), operand.width});
    exact &= !operand.unknown_size && !operand.recipe.has_vector_index();
  }
  code.plain = exact && code.wide == Code::Wide::none && !code.beyond_compared && !code.repeated && !code.flag_image &&
               code.flow != ControlFlow::trap && code.flow != ControlFlow::system;
  code.computed = code.plain && !effects.reads_memory && !effects.writes_memory && state::is_computed(instruction) &&
                  code.flow != ControlFlow::call && code.flow != ControlFlow::return_;
  code.text_into_other_mode =
      code.text + (code.mode == isa::Mode::bits64 ? "; 32-bit code follows" : "; 64-bit code follows");
  std::uint64_t target = 0;
  if (isa::direct_target(instruction, address, target) || isa::fixed_memory_address(instruction, address, target)) {
    program::Reference reference = module.program->reference(target - module.bias);
    code.target_name = std::move(reference.name);
    code.target_text = std::move(reference.text);
  }
  if ((isa::row_of(instruction).traits & isa::kShadow) == 0) return;
  code.shadowed = std::make_unique<Code>();
  code.shadowed->mode = code.mode;
  describe(*code.shadowed, address + instruction.length);
  code.text += "; " + code.shadowed->text;
  code.length = static_cast<std::uint8_t>(code.length + code.shadowed->length);
  code.flow = code.shadowed->flow;
  code.wide = std::max(code.wide, code.shadowed->wide);
  code.wide_written = code.shadowed->wide_written;
  for (const isa::RegisterPart& part : code.shadowed->general_written) code.general_written.push_back(part);
  code.beyond_compared |= code.shadowed->beyond_compared;
  code.plain = code.computed = false;
}

}  // namespace deeptrace::session
