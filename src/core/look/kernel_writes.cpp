#include "look/kernel_writes.h"

#include <algorithm>
#include <cstring>

namespace deeptrace::look {

KernelWrites KernelWrites::before(const abi::SystemCall& call, const state::StateView& view, std::uint64_t most) {
  KernelWrites result;
  const state::RegisterSet& registers = view.registers();
  for (unsigned i = 0; i < call.output_count; ++i) {
    const abi::KernelOutput& output = call.outputs[i];
    // A call that returns how much it wrote takes the room in the argument after the address.
    const bool by_result = output.size == 0;
    const std::uint64_t address = abi::argument(registers, output.argument, view.mode());
    const std::uint64_t size = by_result ? abi::argument(registers, output.argument + 1U, view.mode()) : output.size;
    if (address == 0 || size == 0 || size > most) continue;
    Place place{.address = address, .by_result = by_result, .known = false, .bytes = {}};
    place.bytes.resize(size);
    place.known = view.read_memory(address, place.bytes) == size;
    result.places_.push_back(std::move(place));
  }
  return result;
}

void KernelWrites::add_changes(const state::StateView& view, std::uint64_t result, state::Delta& delta) const {
  const auto value =
      view.mode() == isa::Mode::bits32 ? static_cast<std::int32_t>(result) : static_cast<std::int64_t>(result);
  if (value < 0 && value > -4096) return;
  for (const Place& place : places_) {
    const std::uint64_t room = place.bytes.size(), size = place.by_result ? std::min(room, result) : room;
    std::vector<std::uint8_t> now(size);
    if (size == 0 || view.read_memory(place.address, now) != size) continue;
    if (!place.by_result && std::equal(now.begin(), now.end(), place.bytes.begin())) continue;
    state::MemoryChange& change = delta.add_memory(place.address, size);
    change.before_known = place.known;
    std::memcpy(delta.before(change), place.bytes.data(), size);
    std::memcpy(delta.after(change), now.data(), size);
  }
}

}  // namespace deeptrace::look
