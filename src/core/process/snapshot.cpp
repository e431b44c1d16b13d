#include "process/snapshot.h"

#include <algorithm>
#include <cstring>

namespace deeptrace::process {

Snapshot Snapshot::take(const Process& process, std::uint64_t most) {
  Snapshot snapshot;
  std::uint64_t total = 0;
  for (const state::Mapping& mapping : process.mappings()) {
    if (!mapping.writable || !mapping.readable) continue;
    total += mapping.to - mapping.from;
    if (total > most) {
      snapshot.pieces_.clear();
      snapshot.complete_ = false;
      return snapshot;
    }
    Piece piece{mapping.from, std::vector<std::uint8_t>(mapping.to - mapping.from)};
    piece.bytes.resize(process.memory().read(piece.address, piece.bytes));
    snapshot.pieces_.push_back(std::move(piece));
  }
  return snapshot;
}

void Snapshot::add_changes(const Process& process, state::Delta& delta) const {
  for (const Piece& piece : pieces_) compare(process, piece.address, piece.bytes, delta);
  for (const state::Mapping& mapping : process.mappings()) {
    if (mapping.path != "[stack]") continue;
    const auto known = std::find_if(pieces_.begin(), pieces_.end(),
                                    [&](const Piece& p) { return p.address > mapping.from && p.address < mapping.to; });
    if (known == pieces_.end()) continue;
    const std::vector<std::uint8_t> zeros(known->address - mapping.from);
    compare(process, mapping.from, zeros, delta);
  }
}

void Snapshot::compare(const Process& process, std::uint64_t address, Bytes before, state::Delta& delta) const {
  constexpr std::size_t kGap = 8;
  std::vector<std::uint8_t> now(before.size());
  const std::size_t size = process.memory().read(address, now);
  for (std::size_t at = 0; at < size;) {
    const auto differs =
        std::mismatch(before.begin() + at, before.begin() + size, now.begin() + static_cast<std::ptrdiff_t>(at));
    const auto start = static_cast<std::size_t>(differs.first - before.begin());
    if (start >= size) break;
    std::size_t end = start + 1;
    for (std::size_t i = end; i < size && i - end < kGap; ++i) {
      if (before[i] != now[i]) end = i + 1;
    }
    const state::MemoryChange& change = delta.add_memory(address + start, end - start);
    std::memcpy(delta.before(change), before.data() + start, end - start);
    std::memcpy(delta.after(change), now.data() + start, end - start);
    at = end;
  }
}

}  // namespace deeptrace::process
