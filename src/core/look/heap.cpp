#include "look/heap.h"

#include <algorithm>
#include <vector>

#include "state/delta.h"

namespace deeptrace::look {
namespace {

class Heap {
 public:
  Heap(const state::Mapping& mapping, const state::StateView& view)
      : from_(mapping.from), word_(arch::machine_of(view.mode()).word) {
    constexpr std::uint64_t kMost = std::uint64_t(1) << 28, kHead = 64;  // bytes that are read
    bytes_.resize(std::min<std::uint64_t>(mapping.to - mapping.from, kHead));
    bytes_.resize(view.read_memory(from_, bytes_));
    if (!begins_with_cache()) return;
    bytes_.resize(std::min<std::uint64_t>(mapping.to - mapping.from, kMost));
    bytes_.resize(view.read_memory(from_, bytes_));
  }

  /// The first chunk of the main heap holds the main thread's cache.
  [[nodiscard]] bool begins_with_cache() const {
    const std::uint64_t cache = 2 * kLists + kLists * word_;
    return bytes_.size() >= 64 && size_of(first()) == (cache + word_ + 15) / 16 * 16;
  }

  HeapPlace place_of(std::uint64_t address) const {
    HeapPlace found;
    each([&](const HeapPlace& place) {
      const bool is = address >= place.start && address - place.start < place.size;
      if (is) found = place;
      return !is;
    });
    return found;
  }

  std::optional<std::uint64_t> freed_word(std::uint64_t value) const {
    std::optional<std::uint64_t> found;
    each([&](const HeapPlace& place) {
      if (place.state != HeapPlace::State::freed) return true;
      for (std::uint64_t at = place.start; !found && at + word_ <= place.start + place.size; at += word_) {
        if (word_at(at - from_) == value) found = at;
      }
      return !found;
    });
    return found;
  }

 private:
  /// Shows each chunk's memory until `visit` says false, or the records make no sense.
  template <typename Visit>
  void each(Visit visit) const {
    // The first chunk holds the thread cache; it begins where the memory of chunks is aligned to 16 bytes.
    for (std::uint64_t chunk = first(); chunk + 2 * word_ <= bytes_.size();) {
      const std::uint64_t size = size_of(chunk);
      if (size < 2 * word_ || size % (2 * word_) != 0 || chunk + size > bytes_.size()) return;
      const bool last = chunk + size + 2 * word_ > bytes_.size();
      HeapPlace place{HeapPlace::State::unused, from_ + chunk + 2 * word_, size - word_};
      // The chunk after it says whether it is in use; what lies in the thread cache counts as such.
      const bool used = !last && (word_at(chunk + size + word_) & 1) != 0;
      if (!last) place.state = used ? HeapPlace::State::in_use : HeapPlace::State::freed;
      if (used && is_in_cache(place.start, size)) place.state = HeapPlace::State::freed;
      if (!visit(place)) return;
      chunk += size;
    }
  }

  static constexpr std::uint64_t kLists = 64;  ///< of the thread cache

  [[nodiscard]] std::uint64_t first() const { return word_ == 8 ? 0 : 8; }
  [[nodiscard]] std::uint64_t word_at(std::uint64_t offset) const {
    return offset + word_ <= bytes_.size() ? state::number_of(bytes_.data() + offset, word_) : 0;
  }
  /// Of a chunk; the low bits are marks.
  [[nodiscard]] std::uint64_t size_of(std::uint64_t chunk) const { return word_at(chunk + word_) & ~std::uint64_t(7); }

  /// The cache of the main thread (tcache_perthread_struct): 64 counts of 16 bits, then 64 lists, by size. From 2.32 on
  /// a list's links are hidden by the address they stand at.
  [[nodiscard]] bool is_in_cache(std::uint64_t memory, std::uint64_t size) const {
    const std::uint64_t cache = first() + 2 * word_;
    const std::uint64_t least = word_ == 8 ? 32 : 16;
    const std::uint64_t list = size <= least ? 0 : (size - least + 15) / 16;
    if (list >= kLists) return false;
    const std::uint64_t count = state::number_of(bytes_.data() + cache + 2 * list, 2);
    std::uint64_t entry = word_at(cache + 2 * kLists + list * word_);
    for (std::uint64_t i = 0; i < count && entry != 0; ++i) {
      if (entry == memory) return true;
      if (entry - from_ >= bytes_.size()) return false;
      entry = word_at(entry - from_) ^ entry >> 12;
    }
    return false;
  }

  std::uint64_t from_;
  unsigned word_;
  std::vector<std::uint8_t> bytes_;
};

/// Core files do not say which mapping is the heap; its first chunk does.
std::optional<Heap> heap_of(const state::Target& target, const state::StateView& view) {
  for (const state::Mapping& mapping : target.mappings()) {
    const bool candidate =
        mapping.path == "[heap]" || (mapping.path.empty() && mapping.writable && !mapping.executable);
    if (!candidate) continue;
    Heap heap(mapping, view);
    if (heap.begins_with_cache()) return heap;
  }
  return std::nullopt;
}

}  // namespace

HeapPlace heap_place(const state::Target& target, const state::StateView& view, std::uint64_t address) {
  const auto heap = heap_of(target, view);
  return heap ? heap->place_of(address) : HeapPlace{};
}

std::optional<std::uint64_t> freed_word(const state::Target& target, const state::StateView& view,
                                        std::uint64_t value) {
  const auto heap = heap_of(target, view);
  return heap ? heap->freed_word(value) : std::nullopt;
}

}  // namespace deeptrace::look
