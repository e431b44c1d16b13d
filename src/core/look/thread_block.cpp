#include "look/thread_block.h"

#include <algorithm>
#include <cstring>

#include "arch/relocations.h"

namespace deeptrace::look {
namespace {

constexpr std::uint64_t kWord32 = 0xffffffff;

class Finder {
 public:
  Finder(const Module& module, const state::StateView& thread)
      : module_(module),
        thread_(thread),
        wide_(thread.mode() == isa::Mode::bits64),
        pointer_(state::thread_pointer(thread.registers(), thread.mode())) {}

  [[nodiscard]] bool has_thread_pointer() const { return pointer_ != 0; }

  /// The main program's block lies in front of the thread pointer.
  [[nodiscard]] std::optional<std::uint64_t> in_main() const {
    for (const binary::Segment& segment : module_.program->elf().segments()) {
      if (segment.type != binary::kThreadSegment) continue;
      const std::uint64_t alignment = std::max<std::uint64_t>(1, segment.alignment);
      return pointer_ - (segment.memory_size + alignment - 1) / alignment * alignment;
    }
    return std::nullopt;
  }

  /// By what the dynamic linker wrote for the module's relocations: the block's number, or a variable's distance from
  /// the thread pointer.
  [[nodiscard]] std::optional<std::uint64_t> in_library() const {
    for (const binary::Relocation& relocation : module_.program->elf().relocations()) {
      using arch::RelocationKind;
      const bool numbers = arch::relocation_means(relocation.type, thread_.mode(), RelocationKind::kBlockNumber);
      const bool distance = arch::relocation_means(relocation.type, thread_.mode(), RelocationKind::kThreadDistance);
      if (!numbers && !distance) continue;
      const bool ours = relocation.symbol.empty() || relocation.local || relocation.defined;
      if (!ours) continue;
      const auto value = word_at(relocation.address + module_.bias);
      if (!value) continue;
      if (numbers) return numbered(*value);
      if (wide_) return pointer_ + *value - relocation.symbol_value - static_cast<std::uint64_t>(relocation.addend);
      // The addend has been overwritten; without a symbol it was the variable's place.
      if (relocation.defined) return (pointer_ + *value - relocation.symbol_value) & kWord32;
    }
    return std::nullopt;
  }

 private:
  [[nodiscard]] std::uint64_t word() const { return arch::machine_of(thread_.mode()).word; }
  [[nodiscard]] std::optional<std::uint64_t> word_at(std::uint64_t address) const {
    std::uint8_t bytes[8] = {};
    if (thread_.read_memory(address, {bytes, word()}) != word()) return std::nullopt;
    std::uint64_t value = 0;
    std::memcpy(&value, bytes, 8);
    return value;
  }

  [[nodiscard]] std::optional<std::uint64_t> numbered(std::uint64_t number) const {
    const auto blocks = word_at(pointer_ + word());
    if (!blocks || number == 0) return std::nullopt;
    const auto block = word_at(*blocks + number * 2 * word());
    const std::uint64_t not_made = wide_ ? ~std::uint64_t(0) : kWord32;
    return block && *block != not_made && *block != 0 ? block : std::nullopt;
  }

  const Module& module_;
  const state::StateView& thread_;
  bool wide_;
  std::uint64_t pointer_;
};

}  // namespace

std::optional<std::uint64_t> thread_block(const Module& module, const Module& main, const state::StateView& thread) {
  if (!module.program) return std::nullopt;
  const Finder finder(module, thread);
  if (!finder.has_thread_pointer()) return std::nullopt;
  return &module == &main ? finder.in_main() : finder.in_library();
}

std::optional<OwnCopy> own_copy_at(Modules& modules, const state::StateView& thread, std::uint64_t address) {
  if (modules.at(address) != nullptr) return std::nullopt;
  const std::uint64_t pointer = state::thread_pointer(thread.registers(), thread.mode());
  std::uint64_t together = 0;  // bytes in front of the thread pointer that are blocks for certain
  std::optional<OwnCopy> result;
  for (const auto& module : modules.all()) {
    if (!module->program) continue;
    const std::uint64_t size = program::thread_storage(*module->program).size();
    together += size;
    const auto block = size != 0 && !result ? thread_block(*module, modules.main(), thread) : std::nullopt;
    if (block && address >= *block && address - *block < size) result = {module.get(), address - *block, std::nullopt};
  }
  if (result && address < pointer && pointer - address <= together)
    result->from_pointer = static_cast<std::int64_t>(address - pointer);
  return result;
}

}  // namespace deeptrace::look
