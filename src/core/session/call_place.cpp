#include "session/call_place.h"

namespace deeptrace::session {

void ReadsKept::read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const {
  view_.read_memory(requests, provenance);
  for (const state::MemoryRequest& one : requests)
    reads_.push_back({one.address, {one.into.begin(), one.into.begin() + static_cast<std::ptrdiff_t>(one.got)}});
}

bool CallPlace::holds_in(const state::StateView& view) const {
  constexpr std::size_t kMost = 64;  // reads; more cost as much as the frames
  const state::RegisterSet& registers = view.registers();
  if (made_by.empty() || reads.size() > kMost || registers[state::Reg::rsp] != stack_pointer ||
      registers[state::Reg::rbp] != frame_pointer)
    return false;
  std::vector<std::vector<std::uint8_t>> now;
  std::vector<state::MemoryRequest> requests;
  for (const ReadsKept::Read& one : reads) {
    now.emplace_back(one.bytes.size());
    requests.push_back({one.address, now.back(), 0});
  }
  view.read_memory(requests, state::Provenance::program);
  for (std::size_t i = 0; i < reads.size(); ++i) {
    if (requests[i].got != now[i].size() || now[i] != reads[i].bytes) return false;
  }
  return true;
}

}  // namespace deeptrace::session
