#include "look/buffer_room.h"

#include "look/scope.h"

namespace deeptrace::look {
namespace {

std::optional<BufferRoom> room_in_data(const Module& module, std::uint64_t address) {
  if (module.system || module.program == nullptr) return std::nullopt;
  const std::uint64_t place = address - module.bias;
  const program::DataSymbol* variable = module.program->data_at(place);
  if (variable == nullptr || variable->size == 0 || !variable->range().holds(place)) return std::nullopt;
  return BufferRoom{std::string(variable->symbol), variable->range().to - place, variable->inferred};
}

/// In the frames of own code.
std::optional<BufferRoom> room_on_stack(Modules& modules, const state::StateView& view, std::uint64_t address) {
  constexpr std::size_t kMostFrames = 16;
  for (const inspect::Frame& frame : frames_of(modules, view, kMostFrames)) {
    if (!modules.is_own_line(frame.inside()) || frame.cfa <= address) continue;
    Scope scope(modules, view, frame);
    scope.without_callers();
    for (const Scope::Listed& one : scope.locals()) {
      if (!one.datum || one.datum->place != inspect::Datum::Place::memory || !one.datum->type) continue;
      const std::uint64_t size = one.datum->type.types->size(one.datum->type.id), at = one.datum->address;
      if (address >= at && address < at + size) return BufferRoom{one.name, at + size - address, false};
    }
    return std::nullopt;  // it lies in this frame
  }
  return std::nullopt;
}

}  // namespace

std::optional<BufferRoom> room_at(Modules& modules, const state::StateView& view, std::uint64_t address) {
  constexpr std::uint64_t kStack = 1 << 20;  // bytes above the stack pointer that frames are looked for in
  if (const Module* module = modules.at(address)) return room_in_data(*module, address);
  const std::uint64_t stack = view.registers()[state::Reg::rsp];
  return address >= stack && address - stack < kStack ? room_on_stack(modules, view, address) : std::nullopt;
}

}  // namespace deeptrace::look
