#include "look/result_use.h"

#include "isa/effects.h"
#include "isa/walk.h"
#include "state/known.h"

namespace deeptrace::look {
namespace {

isa::Instruction instruction_at(const state::StateView& view, std::uint64_t address) {
  std::uint8_t bytes[isa::kLongestInstruction] = {};
  const std::size_t size = view.read_memory(address, bytes);
  return isa::decode({bytes, size}, view.mode());
}

/// True of a function in another file, which is called by the convention: no result's register carries an argument.
bool is_elsewhere(Modules& modules, std::uint64_t from, std::uint64_t target) {
  const Module* here = modules.at(from);
  const Module* there = modules.at(target);
  if (here == nullptr || there == nullptr) return false;
  if (here != there) return true;
  const program::Function* function = there->program->function_at(target - there->bias);
  return function != nullptr && function->origin == program::Function::Origin::plt;
}

}  // namespace

std::optional<Overwritten> overwritten_result(Modules& modules, const state::StateView& view, std::uint64_t address) {
  constexpr unsigned kMost = 32;
  const std::uint32_t result = 1U << arch::machine_of(view.mode()).result;
  for (unsigned i = 0; i < kMost; ++i) {
    const isa::Instruction instruction = instruction_at(view, address);
    if (!instruction) return std::nullopt;
    const state::GeneralUse use = state::general_use(isa::effects_of(instruction));
    const bool cleared = state::clears(instruction, isa::operands_of(instruction));
    if (!cleared && (use.needed & result) != 0) return std::nullopt;
    if ((use.written & result) != 0) return Overwritten{address, instruction};
    std::uint64_t target = 0;
    const bool direct = isa::direct_target(instruction, address, target);
    switch (isa::flow_of(instruction)) {
      case isa::ControlFlow::next: address += instruction.length; break;
      case isa::ControlFlow::jump:
        if (!direct) return std::nullopt;
        address = target;
        break;
      case isa::ControlFlow::call:
        if (direct && is_elsewhere(modules, address, target)) return Overwritten{address, instruction};
        return std::nullopt;
      default: return std::nullopt;
    }
  }
  return std::nullopt;
}

}  // namespace deeptrace::look
