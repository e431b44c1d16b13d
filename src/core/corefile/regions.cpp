#include "corefile/regions.h"

#include <algorithm>

namespace deeptrace::corefile {
namespace {

std::vector<Region> saved_regions(const binary::Elf& core) {
  std::vector<Region> regions;
  for (const binary::Segment& segment : core.segments()) {
    Region region;
    region.mapping.from = segment.address;
    region.mapping.to = segment.address + segment.memory_size;
    if (segment.type != binary::kLoadSegment || region.mapping.to <= region.mapping.from) continue;
    region.mapping.readable = (segment.flags & 4) != 0;
    region.mapping.writable = (segment.flags & 2) != 0;
    region.mapping.executable = (segment.flags & 1) != 0;
    region.saved = core.bytes_of(segment);
    region.missing = segment.file_size - region.saved.size();
    region.saved = region.saved.first(std::min<std::uint64_t>(region.saved.size(), segment.memory_size));
    regions.push_back(std::move(region));
  }
  std::ranges::sort(regions, {}, [](const Region& region) { return region.mapping.from; });
  return regions;
}

}  // namespace

const Region* region_at(const std::vector<Region>& regions, std::uint64_t address) {
  const auto after = std::ranges::upper_bound(regions, address, {}, [](const Region& r) { return r.mapping.from; });
  if (after == regions.begin()) return nullptr;
  const Region& region = *(after - 1);
  return address < region.mapping.to ? &region : nullptr;
}

std::vector<Region> regions_of(const binary::Elf& core, const CoreNotes& notes) {
  std::vector<Region> regions = saved_regions(core);
  const auto mapping_at = [&](std::uint64_t address) -> state::Mapping* {
    const Region* region = region_at(regions, address);
    return region != nullptr ? &regions[static_cast<std::size_t>(region - regions.data())].mapping : nullptr;
  };
  for (const MappedPart& part : notes.files) {
    state::Mapping* mapping = mapping_at(part.from);
    if (mapping == nullptr) continue;
    mapping->path = part.path;
    mapping->offset = part.offset + (mapping->from - part.from);
  }
  // What the kernel puts at the beginning of the stack is where the program's name is (getauxval(3), AT_EXECFN).
  constexpr std::uint64_t kVdso = 33, kProgramName = 31;
  for (const auto& [type, value] : notes.auxiliary) {
    state::Mapping* mapping = type == kVdso || type == kProgramName ? mapping_at(value) : nullptr;
    if (mapping != nullptr && mapping->path.empty()) mapping->path = type == kVdso ? "[vdso]" : "[stack]";
  }
  return regions;
}

std::string program_path(const std::vector<Region>& regions, const CoreNotes& notes) {
  for (const auto& [type, value] : notes.auxiliary) {
    if (type != static_cast<std::uint64_t>(state::Auxiliary::entry)) continue;
    const Region* region = region_at(regions, value);
    if (region != nullptr && region->mapping.path.starts_with('/')) return region->mapping.path;
  }
  return {};
}

}  // namespace deeptrace::corefile
