#include "look/loader.h"

namespace deeptrace::look {

std::optional<Loader> loader_of(const Module& main, const state::StateView& view) {
  constexpr std::uint64_t kDebugTag = 21;
  const binary::Elf& elf = main.program->elf();
  const std::uint64_t word = elf.machine().word;
  const auto read = [&](std::uint64_t address) {
    std::uint8_t bytes[8] = {};
    (void)view.read_memory(address, {bytes, word});
    return ByteReader(bytes).u64();
  };
  for (const binary::Segment& segment : elf.segments()) {
    if (segment.type != binary::kDynamicSegment) continue;
    const std::uint64_t start = segment.address + main.bias;
    for (std::uint64_t at = start; at < start + segment.memory_size; at += 2 * word) {
      if (read(at) != kDebugTag) continue;
      const std::uint64_t table = read(at + word);
      if (table == 0) return std::nullopt;
      const Loader loader{read(table + 2 * word), table + 3 * word};
      return loader.function != 0 ? std::optional(loader) : std::nullopt;
    }
  }
  return std::nullopt;
}

bool is_consistent(const Loader& loader, const state::StateView& view) {
  std::uint8_t state[4] = {1};
  (void)view.read_memory(loader.state, state);
  return state[0] == 0;
}

}  // namespace deeptrace::look
