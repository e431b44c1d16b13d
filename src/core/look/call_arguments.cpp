#include "look/call_arguments.h"

#include <algorithm>

#include "look/call_before.h"
#include "look/scope.h"
#include "look/signature.h"
#include "state/touched.h"

namespace deeptrace::look {
namespace {

using state::Reg;

/// Where arguments on the stack begin: before a jump the return address lies below them.
std::optional<std::uint64_t> stack_of(const CallState& state) {
  if ((state.known_registers() >> static_cast<unsigned>(Reg::rsp) & 1) == 0) return std::nullopt;
  const bool jumps = isa::flow_of(state.instruction()) == isa::ControlFlow::jump;
  return state.registers()[Reg::rsp] + (jumps ? arch::machine_of(state.mode()).word : 0);
}

}  // namespace

std::size_t arguments_set(const CallState& state) {
  const auto& registers = arch::machine_of(state.mode()).arguments;
  std::size_t count = 0;
  for (; count < registers.size(); ++count) {
    const CallState::Origin origin = state.origin(registers[count]);
    if (origin.address == 0 || origin.by_call) break;
  }
  return count;
}

std::optional<std::uint64_t> call_target(const CallState& state) {
  const isa::Operand operand = isa::operands_of(state.instruction())[0];
  const bool memory = operand.kind == isa::Operand::Kind::memory;
  isa::MemoryRecipe recipe;
  if (memory) recipe = operand.memory();
  if (operand.kind == isa::Operand::Kind::reg) recipe.base = operand.reg;
  for (const isa::RegisterPart& part : {recipe.base, recipe.index}) {
    if (part.file == isa::RegisterFile::general && !state.value(part)) return std::nullopt;
  }
  return flow_target(state.instruction(), state);
}

CallMade call_made(Modules& modules, const state::StateView& thread, const inspect::Frame& caller,
                   const CallState& state) {
  CallMade made;
  made.address = state.address();
  made.target = call_target(state).value_or(0);
  if (made.target != 0) made.function = modules.called_name(made.target);
  Scope scope(modules, thread, caller);
  debuginfo::Types& home = Modules::debug(*modules.at(caller.inside())).types;
  const Signature signature = signature_of(modules, made.target, made.function, home, state.mode());
  made.typed = signature.known;
  made.function = abi::source_name(made.function);
  made.arguments = arguments_of(signature, {state, scope, stack_of(state)});
  if (!signature.known) made.arguments.resize(std::min(made.arguments.size(), arguments_set(state)));
  return made;
}

std::optional<CallMade> call_made(Modules& modules, const state::StateView& thread, const inspect::Frame& caller) {
  const auto state = CallState::before_call(modules, thread, caller);
  if (!state || isa::flow_of(state->instruction()) != isa::ControlFlow::call) return std::nullopt;
  return call_made(modules, thread, caller, *state);
}

}  // namespace deeptrace::look
