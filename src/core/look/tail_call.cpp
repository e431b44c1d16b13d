#include "look/tail_call.h"

#include "isa/text.h"
#include "isa/walk.h"
#include "look/call_arguments.h"
#include "look/call_before.h"

namespace deeptrace::look {
namespace {

/// The jumps of a function that lead out of it.
std::optional<std::uint64_t> only_jump_out(Modules& modules, const state::StateView& thread, std::uint64_t target) {
  const Module* module = modules.at(target);
  const program::Function* function = modules.function_at(target);
  if (module == nullptr || function == nullptr) return std::nullopt;
  std::optional<std::uint64_t> found;
  const Bytes code = module->program->elf().bytes_at(function->address);
  for (const isa::Placed& one : isa::instructions_of(code, thread.mode())) {
    if (one.at >= function->size) break;
    if (isa::flow_of(one.instruction) != isa::ControlFlow::jump) continue;
    const std::uint64_t address = function->address + one.at;
    std::uint64_t to = 0;
    if (isa::direct_target(one.instruction, address, to) && function->range().holds(to)) continue;
    if (found) return std::nullopt;
    found = address + module->bias;
  }
  return found;
}

}  // namespace

bool is_same_or_part(const program::Function& one, const program::Function& whole) {
  const std::string_view symbol = one.symbol();
  return &one == &whole || (!whole.symbol().empty() && symbol.substr(0, symbol.find(".cold")) == whole.symbol());
}

std::optional<TailCall> tail_call(Modules& modules, const state::StateView& thread, const inspect::Frame& frame,
                                  const inspect::Frame& caller) {
  if (!caller.at_call || frame.signal) return std::nullopt;
  // Most calls are direct, and lead where the frame is.
  const auto call = call_before(modules, caller.address());
  std::uint64_t direct = 0;
  if (!call) return std::nullopt;
  if (isa::direct_target(call->instruction, call->address, direct) &&
      (!modules.is_own(direct) || modules.function_at(direct) == modules.function_at(frame.inside())))
    return std::nullopt;
  const auto state = CallState::before_call(modules, thread, caller);
  if (!state || isa::flow_of(state->instruction()) != isa::ControlFlow::call) return std::nullopt;
  const std::uint64_t target = call_target(*state).value_or(0);
  const program::Function* called = target != 0 ? modules.function_at(target) : nullptr;
  const program::Function* there = modules.function_at(frame.inside());
  if (called == nullptr || !modules.is_own(target)) return std::nullopt;
  if (there != nullptr && is_same_or_part(*there, *called)) return std::nullopt;
  return TailCall{called->name.str(), target, only_jump_out(modules, thread, target)};
}

}  // namespace deeptrace::look
