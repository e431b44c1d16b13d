#include "binary/loading.h"

#include <algorithm>

#include "binary/notes.h"

namespace deeptrace::binary {
namespace {

enum Tag : std::uint64_t {
  kNeeded = 1,
  kSoname = 14,
  kRpath = 15,
  kBindNow = 24,
  kRunpath = 29,
  kFlags = 30,
  kFlags1 = 0x6ffffffb
};

std::string_view string_in(Bytes strings, std::uint64_t offset) {
  if (offset >= strings.size()) return {};
  const auto* const start = strings.data() + offset;
  const auto* const end = std::find(start, strings.data() + strings.size(), 0);
  return {reinterpret_cast<const char*>(start), static_cast<std::size_t>(end - start)};
}

void read_dynamic(const Elf& elf, const Section& section, Loading& loading) {
  if (section.link >= elf.sections().size()) return;
  const Bytes strings = elf.bytes_of(elf.sections()[section.link]);
  ByteReader reader(elf.bytes_of(section));
  bool bind_now = false;
  while (!reader.at_end()) {
    const std::uint64_t tag = elf.wide() ? reader.u64() : reader.u32();
    const std::uint64_t value = elf.wide() ? reader.u64() : reader.u32();
    if (!reader.good() || tag == 0) break;
    switch (tag) {
      case kNeeded: loading.needed.push_back(string_in(strings, value)); break;
      case kSoname: loading.soname = string_in(strings, value); break;
      case kRpath:
      case kRunpath: loading.runpath = string_in(strings, value); break;
      case kBindNow: bind_now = true; break;
      case kFlags: bind_now |= (value & 8) != 0; break;
      case kFlags1: bind_now |= (value & 1) != 0; break;
      default: break;
    }
  }
  loading.dynamic = true;
  if (bind_now && loading.relro == Loading::Relro::partial) loading.relro = Loading::Relro::full;
}

/// Versions that are asked for (Linux Standard Base, "Version Requirements").
void read_versions(const Elf& elf, const Section& section, Loading& loading) {
  if (section.link >= elf.sections().size()) return;
  const Bytes strings = elf.bytes_of(elf.sections()[section.link]);
  const Bytes all = elf.bytes_of(section);
  // Each entry tells where the next lies; a damaged file may lead in a circle.
  std::size_t left = all.size() / 16;
  for (std::uint64_t at = 0; left > 0; --left) {
    ByteReader reader(all, at);
    reader.skip(2);
    const std::uint16_t count = reader.u16();
    Loading::Versions versions{string_in(strings, reader.u32()), {}};
    std::uint64_t one_at = at + reader.u32();
    const std::uint32_t next = reader.u32();
    if (!reader.good()) return;
    for (std::uint16_t i = 0; i < count && left > 0; ++i, --left) {
      ByteReader one(all, one_at);
      one.skip(8);
      versions.names.push_back(string_in(strings, one.u32()));
      const std::uint32_t step = one.u32();
      if (!one.good()) return;
      if (step == 0) break;
      one_at += step;
    }
    loading.versions.push_back(std::move(versions));
    if (next == 0 || left == 0) return;
    at += next;
  }
}

void read_properties(Bytes contents, bool wide, Loading& loading) {
  constexpr std::uint32_t kX86Features = 0xc0000002;
  ByteReader reader(contents);
  while (reader.remaining() >= 8) {
    const std::uint32_t property = reader.u32(), size = reader.u32();
    ByteReader value(reader.bytes(size));
    if (property == kX86Features && size >= 4) {
      const std::uint32_t features = value.u32();
      loading.branch_marks = (features & 1) != 0;
      loading.shadow_stack = (features & 2) != 0;
    }
    const std::size_t unit = wide ? 8 : 4;
    reader.skip((unit - size % unit) % unit);
  }
}

void read_notes(const Elf& elf, const Section& section, Loading& loading) {
  constexpr std::uint32_t kProperties = 5;
  const Notes notes = notes_in(elf.bytes_of(section), section.alignment);
  loading.build_id += build_id_among(notes.all);
  for (const Note& note : notes.all) {
    if (note.owner == "GNU" && note.type == kProperties) read_properties(note.contents, elf.wide(), loading);
  }
}

}  // namespace

Loading loading_of(const Elf& elf) {
  constexpr std::uint32_t kDynamicSection = 6, kNote = 7, kVersionNeeds = 0x6ffffffe;
  Loading loading;
  for (const Segment& segment : elf.segments()) {
    if (segment.type == kInterpreterSegment) loading.interpreter = string_in(elf.bytes_at(segment.address), 0);
    if (segment.type == kReadOnlyAfterwardsSegment) loading.relro = Loading::Relro::partial;
    if (segment.type == kStackSegment) {
      loading.says_stack = true;
      loading.stack_executable = (segment.flags & 1) != 0;
    }
  }
  for (const Section& section : elf.sections()) {
    if (section.type == kDynamicSection) read_dynamic(elf, section, loading);
    if (section.type == kVersionNeeds) read_versions(elf, section, loading);
    if (section.type == kNote) read_notes(elf, section, loading);
    if (section.name == ".note.GNU-stack") {  // how an object says it
      loading.says_stack = true;
      loading.stack_executable = (section.flags & kExecutable) != 0;
    }
  }
  return loading;
}

}  // namespace deeptrace::binary
