#include "session/call_place.h"

#include <algorithm>
#include <array>
#include <span>

namespace deeptrace::session {

void ReadsKept::read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const {
  view_.read_memory(requests, provenance);
  for (const state::MemoryRequest& one : requests)
    reads_.push_back({one.address, {one.into.begin(), one.into.begin() + static_cast<std::ptrdiff_t>(one.got)}});
}

std::vector<ReadsKept::Stretch> ReadsKept::stretches() const {
  constexpr std::uint64_t kNear = 1024;  // bytes; to read more costs as much as to read again
  std::vector<Read> sorted = reads_;
  std::erase_if(sorted, [](const Read& one) { return one.bytes.empty(); });
  std::ranges::stable_sort(sorted, {}, &Read::address);
  std::vector<Stretch> result;
  for (Read& one : sorted) {
    if (result.empty() || one.address > result.back().address + result.back().size + kNear)
      result.push_back({one.address, 0, {}});
    Stretch& last = result.back();
    last.size = std::max(last.size, one.address - last.address + one.bytes.size());
    last.pieces.push_back(std::move(one));
  }
  return result;
}

bool CallPlace::holds_in(const state::StateView& view) const {
  constexpr std::size_t kMost = 16;     // stretches; more cost as much as the frames
  std::array<std::uint8_t, 4096> room;  // bytes of one, left as it is until they are read
  const state::RegisterSet& registers = view.registers();
  if (made_by.empty() || stretches.size() > kMost || registers[state::Reg::rsp] != stack_pointer ||
      registers[state::Reg::rbp] != frame_pointer)
    return false;
  return std::ranges::all_of(stretches, [&](const ReadsKept::Stretch& stretch) {
    if (stretch.size > room.size()) return false;
    const std::span<std::uint8_t> now(room.data(), stretch.size);
    return view.read_memory(stretch.address, now) == now.size() &&
           std::ranges::all_of(stretch.pieces, [&](const ReadsKept::Read& piece) {
             const auto from = now.begin() + static_cast<std::ptrdiff_t>(piece.address - stretch.address);
             return std::equal(piece.bytes.begin(), piece.bytes.end(), from);
           });
  });
}

}  // namespace deeptrace::session
