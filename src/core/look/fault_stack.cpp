#include "look/fault_stack.h"

#include <algorithm>

namespace deeptrace::look {
namespace {

using state::Reg;

std::string name_of_function(Modules& modules, const inspect::Frame& frame) {
  const program::Function* function = modules.function_at(frame.inside());
  return function != nullptr ? function->name.str() : modules.place_name(frame.inside());
}

/// How many functions call each other in turns, from a frame on; 0: they do not.
std::size_t period_of(const std::vector<std::uint64_t>& functions) {
  constexpr std::size_t kLongest = 16, kTurns = 8;
  for (std::size_t period = 1; period <= kLongest; ++period) {
    if (functions.size() < period * kTurns) return 0;
    bool repeats = true;
    for (std::size_t i = 0; repeats && i + period < period * kTurns; ++i)
      repeats = functions[i] == functions[i + period];
    if (repeats) return period;
  }
  return 0;
}

}  // namespace

std::optional<Finding> explain_overflow(const state::StateView& view, Modules& modules, const AddressSpace& space,
                                        const std::vector<inspect::Frame>& frames, const state::PendingSignal& signal) {
  const std::uint64_t stack = view.registers()[Reg::rsp], fault = signal.fault_address;
  if (!signal.fault_address_known || frames.size() < 2) return std::nullopt;
  const state::Mapping* at = space.mapping_at(fault);
  if (at != nullptr && (at->readable || at->writable)) return std::nullopt;
  // The stack is what the callers' frames lie in; the innermost frame reaches below it, or is about to.
  const std::uint64_t caller = frames[0].cfa != 0 ? frames[0].cfa : frames[1].registers[Reg::rsp];
  const state::Mapping* stack_memory = space.mapping_at(caller);
  constexpr std::uint64_t kBelow = 65536;  // bytes below the stack pointer that an instruction comes to
  if (stack_memory == nullptr || !stack_memory->writable || fault >= stack_memory->from) return std::nullopt;
  if (fault + kBelow < stack || fault >= caller) return std::nullopt;
  Finding finding;
  finding.kind = "stack_overflow";
  std::vector<std::uint64_t> functions;
  for (std::size_t i = 1; i < frames.size() && i < 256; ++i) {
    const program::Function* function = modules.function_at(frames[i].inside());
    functions.push_back(function != nullptr ? function->address : frames[i].address());
  }
  const std::size_t period = period_of(functions);
  if (period != 0) {
    std::string turn;
    for (std::size_t i = period; i-- > 0;)
      turn += (turn.empty() ? "" : " calls ") + name_of_function(modules, frames[1 + i]);
    turn += " calls " + name_of_function(modules, frames[period]);
    finding.text = "the stack is used up by recursion: " + turn;
    finding.evidence.push_back(std::to_string(frames.size()) +
                               (frames.size() >= kMostFaultFrames ? " frames and more" : " frames"));
    finding.evidence.push_back("a turn takes " + std::to_string(frames[1 + period].cfa - frames[1].cfa) +
                               " bytes of stack");
  } else {
    std::size_t largest = 0;
    std::uint64_t bytes = 0;
    for (std::size_t i = 0; i < frames.size(); ++i) {
      const std::uint64_t size = frames[i].cfa - frames[i].registers[Reg::rsp];
      if (frames[i].cfa != 0 && size > bytes && size < (std::uint64_t(1) << 40)) {
        bytes = size;
        largest = i;
      }
    }
    finding.text = "the stack is used up: the frame of " + name_of_function(modules, frames[largest]) + " takes " +
                   std::to_string(bytes) + " bytes";
  }
  finding.evidence.push_back("the stack ends at " + address_text(stack_memory->from) + "; the program came to " +
                             address_text(fault) + ", " + std::to_string(stack_memory->from - fault) + " bytes below");
  return finding;
}

}  // namespace deeptrace::look
