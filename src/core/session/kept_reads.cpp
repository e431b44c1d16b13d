#include "session/kept_reads.h"

#include <algorithm>
#include <cstring>
#include <iterator>
#include <span>
#include <utility>

namespace deeptrace::session {
namespace {

constexpr std::uint64_t kNear = 1024;  // bytes; to read more costs as much as to read again

bool lies_in(std::uint64_t address, std::size_t size, std::uint64_t from, std::size_t room) {
  return address - from <= room && size <= room - (address - from);
}

}  // namespace

/// Adds what was read at the same address or after it, where both touch.
bool KeptReads::join(Piece& to, const Piece& more) {
  const std::uint64_t offset = more.address - to.address;
  if (offset > to.bytes.size()) return false;
  const std::size_t known = std::min<std::size_t>(to.bytes.size() - offset, more.bytes.size());
  to.bytes.insert(to.bytes.end(), more.bytes.begin() + static_cast<std::ptrdiff_t>(known), more.bytes.end());
  return true;
}

KeptReads::KeptReads(std::vector<Piece> pieces) {
  std::erase_if(pieces, [](const Piece& one) { return one.bytes.empty(); });
  std::ranges::stable_sort(pieces, {}, &Piece::address);
  for (Piece& one : pieces) {
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

bool KeptReads::hold_in(ReadRecorder& view) const {
  if (!usable_) return false;
  if (view.fetched_ == nullptr) view.fetch(*this);
  for (const Stretch& stretch : stretches_) {
    for (const Piece& piece : stretch.pieces) {
      const std::size_t size = piece.bytes.size();
      const ReadRecorder::Found now = view.at_hand(piece.address, size);
      if (now.bytes == nullptr || std::memcmp(now.bytes, piece.bytes.data(), size) != 0) return false;
      if (this != view.renews_ && !view.is_kept(now.stretch, piece.address, size))
        view.record(piece.address, piece.bytes);
    }
  }
  return true;
}

void KeptReads::renew(const ReadRecorder& view) {
  bool all_there = usable_ && view.fetched_ == this;
  for (Stretch& stretch : stretches_) {
    for (Piece& piece : stretch.pieces) {
      const std::uint8_t* now = view.fetched_ == this ? view.at_hand(piece.address, piece.bytes.size()).bytes : nullptr;
      if (now != nullptr) {
        std::memcpy(piece.bytes.data(), now, piece.bytes.size());
      } else {
        all_there = false;
        piece.bytes.clear();
      }
    }
  }
  if (all_there && view.whole_ && view.recorded_.empty()) return;
  std::vector<Piece> all = view.recorded_;
  for (Stretch& stretch : stretches_) std::ranges::move(stretch.pieces, std::back_inserter(all));
  *this = view.whole_ ? KeptReads(std::move(all)) : KeptReads();
}

void ReadRecorder::expect(std::uint64_t address, std::size_t size) {
  if (expected_count_ == kMostExpected || expected_bytes_ + size > kMostExpectedBytes) return;
  expected_[expected_count_++] = {address, size};
  expected_bytes_ += size;
}

void ReadRecorder::fetch(const KeptReads& reads) {
  fetched_ = &reads;
  std::size_t used = 0;
  for (const KeptReads::Stretch& one : reads.stretches_) {
    stretches_[stretch_count_++] = {one.address, {room_.data() + used, one.size}, 0};
    used += one.size;
  }
  for (const Expected& one : std::span(expected_).first(expected_count_)) {
    stretches_[stretch_count_++] = {one.address, {room_.data() + used, one.size}, 0};
    used += one.size;
  }
  if (stretch_count_ != 0) view_.read_memory(std::span(stretches_).first(stretch_count_), state::Provenance::program);
}

ReadRecorder::Found ReadRecorder::at_hand(std::uint64_t address, std::size_t size) const {
  for (std::size_t i = 0; i < stretch_count_; ++i) {
    const state::MemoryRequest& one = stretches_[i];
    if (lies_in(address, size, one.address, one.got)) return {one.into.data() + (address - one.address), i};
  }
  return {};
}

bool ReadRecorder::is_kept(std::size_t stretch, std::uint64_t address, std::size_t size) const {
  if (renews_ != fetched_ || stretch >= fetched_->stretches_.size()) return false;
  return std::ranges::any_of(fetched_->stretches_[stretch].pieces, [&](const KeptReads::Piece& piece) {
    return lies_in(address, size, piece.address, piece.bytes.size());
  });
}

void ReadRecorder::record(std::uint64_t address, std::span<const std::uint8_t> bytes) const {
  if (renews_ != nullptr) recorded_.push_back({address, {bytes.begin(), bytes.end()}});
}

void ReadRecorder::read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const {
  const bool some_at_hand = stretch_count_ != 0 && provenance == state::Provenance::program;
  if (!some_at_hand) view_.read_memory(requests, provenance);
  for (state::MemoryRequest& one : requests) {
    if (some_at_hand) {
      const Found now = at_hand(one.address, one.into.size());
      if (now.bytes != nullptr) {
        std::memcpy(one.into.data(), now.bytes, one.into.size());
        one.got = one.into.size();
        if (is_kept(now.stretch, one.address, one.got)) continue;
      } else {
        view_.read_memory({&one, 1}, provenance);
      }
    }
    record(one.address, one.into.first(one.got));
    whole_ = whole_ && one.got == one.into.size();
  }
}

}  // namespace deeptrace::session
