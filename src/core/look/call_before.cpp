#include "look/call_before.h"

#include "isa/text.h"
#include "program/code_starts.h"
#include "state/execute.h"

namespace deeptrace::look {

std::optional<PlacedCall> call_before(Modules& modules, std::uint64_t return_address) {
  const Module* module = modules.at(return_address - 1);
  if (module == nullptr || modules.function_at(return_address - 1) == nullptr) return std::nullopt;
  const program::Program& program = *module->program;
  const std::uint64_t last = return_address - 1 - module->bias;
  const std::uint64_t start = program::boundaries_around(program, last).before;
  const isa::Instruction one = isa::decode(program.elf().bytes_at(start), program.mode());
  if (!one || isa::flow_of(one) != isa::ControlFlow::call || start + one.length != last + 1) return std::nullopt;
  return PlacedCall{start + module->bias, one};
}

std::optional<PlacedCall> likely_call_before(Modules& modules, std::uint64_t return_address) {
  for (const std::uint64_t length : {5, 2, 3, 6, 7, 4, 8}) {
    const std::uint64_t address = return_address - length;
    const Module* module = modules.at(address);
    if (module == nullptr) continue;
    const isa::Instruction call =
        isa::decode(module->program->elf().bytes_at(address - module->bias), module->program->mode());
    if (call && call.length == length && isa::flow_of(call) == isa::ControlFlow::call) return PlacedCall{address, call};
  }
  return std::nullopt;
}

std::optional<std::uint64_t> flow_target(const isa::Instruction& instruction, const state::StateView& view) {
  std::uint64_t target = 0;
  if (isa::direct_target(instruction, view.registers()[state::Reg::rip], target)) return target;
  const state::Outcome outcome = state::execute(instruction, view);
  if (outcome.ending != state::Ending::done) return std::nullopt;
  return outcome.registers[state::Reg::rip];
}

}  // namespace deeptrace::look
