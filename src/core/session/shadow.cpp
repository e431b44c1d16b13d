#include "session/shadow.h"

#include <algorithm>
#include <cstring>

namespace deeptrace::session {

bool Shadow::read(std::uint64_t address, std::span<std::uint8_t> into) {
  const std::uint64_t offset = address % kPage;
  if (offset + into.size() > kPage) return false;
  const Page* found = page(address / kPage);
  if (found == nullptr) return false;
  std::memcpy(into.data(), found->data() + offset, into.size());
  return true;
}

void Shadow::write(std::uint64_t address, std::span<const std::uint8_t> bytes) {
  for (std::size_t i = 0; i < bytes.size();) {
    const std::uint64_t at = address + i;
    const std::size_t size = std::min<std::size_t>(bytes.size() - i, kPage - at % kPage);
    if (const auto found = pages_.find(at / kPage); found != pages_.end()) {
      std::memcpy(found->second.data() + at % kPage, bytes.data() + i, size);
    }
    i += size;
  }
}

void Shadow::forget() {
  pages_.clear();
  last_ = nullptr;
  private_known_ = false;
}

Shadow::Page* Shadow::page(std::uint64_t number) {
  if (last_ != nullptr && last_number_ == number) return last_;
  auto found = pages_.find(number);
  if (found == pages_.end()) {
    if (!is_private(number * kPage)) return nullptr;
    if (pages_.size() >= kMostPages) pages_.clear();
    Page fresh;
    if (process_.memory().read(number * kPage, fresh) != kPage) return nullptr;
    found = pages_.emplace(number, fresh).first;
  }
  last_number_ = number;
  last_ = &found->second;
  return last_;
}

bool Shadow::is_private(std::uint64_t address) {
  if (!private_known_) {
    private_.clear();
    for (const state::Mapping& mapping : process_.mappings()) {
      if (mapping.writable && !mapping.shared) private_.push_back({mapping.from, mapping.to});
    }
    private_known_ = true;
  }
  return std::any_of(private_.begin(), private_.end(),
                     [&](const program::AddressRange& r) { return r.holds(address); });
}

}  // namespace deeptrace::session
