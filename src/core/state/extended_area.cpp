#include "state/extended_area.h"

#include <cstring>

namespace deeptrace::state {
namespace {

constexpr std::size_t kControlAt = 0, kStatusAt = 2, kTagsAt = 4, kMxcsrAt = 24, kX87At = 32, kXmmAt = 160;
constexpr std::size_t kPresentAt = kLegacyArea;
enum Component : std::uint32_t { kYmmHigh = 2, kMasks = 5, kZmmHigh = 6, kHighZmm = 7 };

template <class T>
T value_at(Bytes area, std::size_t offset) {
  T value{};
  std::memcpy(&value, area.data() + offset, sizeof value);
  return value;
}
template <class T>
void put(std::span<std::uint8_t> area, std::size_t offset, T value) {
  std::memcpy(area.data() + offset, &value, sizeof value);
}

/// The tags are by physical register; st(0) is the one that the status word's bits 11 to 13 name.
unsigned physical(std::uint16_t status, unsigned i) { return ((status >> 11) + i) & 7U; }

bool fits(const AreaLayout::Place& place, std::size_t size, std::uint32_t needed) {
  return place.size >= needed && place.offset <= size && size - place.offset >= needed;
}

}  // namespace

AreaLayout::Place* AreaLayout::component(std::uint32_t number) {
  switch (number) {
    case kYmmHigh: return &ymm_high;
    case kMasks: return &masks;
    case kZmmHigh: return &zmm_high;
    case kHighZmm: return &high_zmm;
    default: return nullptr;
  }
}

std::uint64_t components_of(Bytes area) {
  return area.size() >= kLegacyArea ? value_at<std::uint64_t>(area, kComponentsAt) : 0;
}

std::optional<AreaLayout> known_layout(std::uint64_t components, std::size_t size) {
  constexpr std::uint64_t kAvx = 1U << kYmmHigh, kAvx512 = 7U << kMasks;
  AreaLayout layout;
  if ((components & kAvx) != 0) layout.ymm_high = {576, 256};
  if ((components & kAvx512) == 0) return layout;
  // Intel's processors leave room for the bound registers in front of the masks, AMD's do not. What stands last (the
  // protection keys, the tiles) tells them apart.
  struct Known {
    std::size_t size;
    std::uint32_t masks;
  };
  constexpr Known kSizes[] = {{2432, 832}, {2440, 832}, {2688, 1088}, {2696, 1088}, {11008, 1088}};
  for (const Known& known : kSizes) {
    if (known.size != size) continue;
    const std::uint32_t after_masks = known.masks + 64;
    layout.masks = {known.masks, 64};
    layout.zmm_high = {after_masks, 512};
    layout.high_zmm = {after_masks + 512, 1024};
    return layout;
  }
  return std::nullopt;
}

void take_legacy(std::span<const std::uint8_t, kLegacyArea> area, ExtendedSet& set) {
  set.x87_control = value_at<std::uint16_t>(area, kControlAt);
  set.x87_status = value_at<std::uint16_t>(area, kStatusAt);
  set.mxcsr = value_at<std::uint32_t>(area, kMxcsrAt);
  const auto tags = value_at<std::uint8_t>(area, kTagsAt);
  set.x87_used = 0;
  for (unsigned i = 0; i < 8; ++i) {
    std::memcpy(set.x87[i].data(), area.data() + kX87At + 16 * i, 10);
    if ((tags >> physical(set.x87_status, i) & 1) != 0) set.x87_used |= static_cast<std::uint8_t>(1U << i);
  }
  for (unsigned i = 0; i < 16; ++i) std::memcpy(set.vectors[i].data(), area.data() + kXmmAt + 16 * i, 16);
}

std::optional<ExtendedSet> extended_from(Bytes area, const AreaLayout& layout) {
  if (area.size() < kLegacyArea) return std::nullopt;
  ExtendedSet set;
  take_legacy(area.first<kLegacyArea>(), set);
  if (fits(layout.ymm_high, area.size(), 256)) {
    set.vector_bits = 256;
    for (unsigned i = 0; i < 16; ++i)
      std::memcpy(set.vectors[i].data() + 16, area.data() + layout.ymm_high.offset + 16 * i, 16);
  }
  if (fits(layout.masks, area.size(), 64) && fits(layout.zmm_high, area.size(), 512) &&
      fits(layout.high_zmm, area.size(), 1024)) {
    set.vector_bits = 512;
    set.vector_count = 32;
    set.has_masks = true;
    std::memcpy(set.masks.data(), area.data() + layout.masks.offset, sizeof set.masks);
    for (unsigned i = 0; i < 16; ++i) {
      std::memcpy(set.vectors[i].data() + 32, area.data() + layout.zmm_high.offset + 32 * i, 32);
      std::memcpy(set.vectors[16 + i].data(), area.data() + layout.high_zmm.offset + 64 * i, 64);
    }
  }
  return set;
}

void put_extended(std::span<std::uint8_t> area, const AreaLayout& layout, const ExtendedSet& set) {
  auto present = value_at<std::uint64_t>(area, kPresentAt) | 3;
  put(area, kControlAt, set.x87_control);
  put(area, kStatusAt, set.x87_status);
  put(area, kMxcsrAt, set.mxcsr);
  std::uint8_t tags = 0;
  for (unsigned i = 0; i < 8; ++i) {
    std::memcpy(area.data() + kX87At + 16 * i, set.x87[i].data(), 10);
    if ((set.x87_used >> i & 1) != 0) tags |= static_cast<std::uint8_t>(1U << physical(set.x87_status, i));
  }
  put(area, kTagsAt, tags);
  for (unsigned i = 0; i < 16; ++i) std::memcpy(area.data() + kXmmAt + 16 * i, set.vectors[i].data(), 16);
  if (fits(layout.ymm_high, area.size(), 256)) {
    present |= 1U << kYmmHigh;
    for (unsigned i = 0; i < 16; ++i)
      std::memcpy(area.data() + layout.ymm_high.offset + 16 * i, set.vectors[i].data() + 16, 16);
  }
  if (set.has_masks && fits(layout.masks, area.size(), 64) && fits(layout.zmm_high, area.size(), 512) &&
      fits(layout.high_zmm, area.size(), 1024)) {
    present |= 1U << kMasks | 1U << kZmmHigh | 1U << kHighZmm;
    std::memcpy(area.data() + layout.masks.offset, set.masks.data(), sizeof set.masks);
    for (unsigned i = 0; i < 16; ++i) {
      std::memcpy(area.data() + layout.zmm_high.offset + 32 * i, set.vectors[i].data() + 32, 32);
      std::memcpy(area.data() + layout.high_zmm.offset + 64 * i, set.vectors[16 + i].data(), 64);
    }
  }
  put(area, kPresentAt, present);
}

}  // namespace deeptrace::state
