#include "session/kept_reads.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <span>
#include <utility>

namespace deeptrace::session {
namespace {

constexpr std::uint64_t kNear = 1024;     // bytes; to read more costs as much as to read again
constexpr std::size_t kMostBytes = 4096;  // of all stretches
constexpr std::size_t kMostStretches = 16;

/// Adds what was read at the same address or after it, where both touch.
bool join(KeptRead& to, const KeptRead& more) {
  const std::uint64_t offset = more.address - to.address;
  if (offset > to.bytes.size()) return false;
  const std::size_t known = std::min<std::size_t>(to.bytes.size() - offset, more.bytes.size());
  to.bytes.insert(to.bytes.end(), more.bytes.begin() + static_cast<std::ptrdiff_t>(known), more.bytes.end());
  return true;
}

}  // namespace

KeptReads::KeptReads(std::vector<KeptRead> reads) {
  std::erase_if(reads, [](const KeptRead& one) { return one.bytes.empty(); });
  std::ranges::stable_sort(reads, {}, &KeptRead::address);
  for (KeptRead& one : reads) {
    if (stretches_.empty() || one.address > stretches_.back().address + stretches_.back().size + kNear)
      stretches_.push_back({one.address, 0, {}});
    Stretch& last = stretches_.back();
    last.size = std::max(last.size, one.address - last.address + one.bytes.size());
    if (last.pieces.empty() || !join(last.pieces.back(), one)) last.pieces.push_back(std::move(one));
  }
  std::size_t all = 0;
  for (const Stretch& one : stretches_) all += one.size;
  usable_ = stretches_.size() <= kMostStretches && all <= kMostBytes;
}

bool KeptReads::hold_in(const state::StateView& view) const {
  if (!usable_) return false;
  std::array<std::uint8_t, kMostBytes> room;  // left as it is until it is read
  std::array<state::MemoryRequest, kMostStretches> requests;
  std::size_t used = 0;
  for (std::size_t i = 0; i < stretches_.size(); ++i) {
    requests[i] = {stretches_[i].address, {room.data() + used, stretches_[i].size}, 0};
    used += stretches_[i].size;
  }
  const auto asked = std::span(requests).first(stretches_.size());
  if (!asked.empty()) view.read_memory(asked, state::Provenance::program);
  for (std::size_t i = 0; i < asked.size(); ++i) {
    if (asked[i].got != asked[i].into.size()) return false;
    for (const KeptRead& piece : stretches_[i].pieces) {
      const std::uint8_t* now = asked[i].into.data() + (piece.address - stretches_[i].address);
      if (std::memcmp(now, piece.bytes.data(), piece.bytes.size()) != 0) return false;
    }
  }
  return true;
}

void ReadsKept::read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const {
  view_.read_memory(requests, provenance);
  for (const state::MemoryRequest& one : requests)
    reads_.push_back({one.address,
                      {one.into.begin(), one.into.begin() + static_cast<std::ptrdiff_t>(one.got)},
                      one.got == one.into.size()});
}

}  // namespace deeptrace::session
