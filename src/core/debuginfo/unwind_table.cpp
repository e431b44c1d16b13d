#include "debuginfo/unwind_table.h"

#include <unordered_map>

namespace deeptrace::debuginfo {
namespace {

/// Pointer encodings (LSB, "DWARF Exception Header Encoding").
constexpr std::uint8_t kOmitted = 0xff, kFormat = 0x0f, kApplication = 0x70, kPcRelative = 0x10;

std::uint64_t encoded(ByteReader& reader, std::uint8_t encoding, std::uint64_t field_address) {
  std::uint64_t value = 0;
  switch (encoding & kFormat) {
    case 0x0:
    case 0x4:
    case 0xc: value = reader.u64(); break;
    case 0x1: value = reader.uleb(); break;
    case 0x2: value = reader.u16(); break;
    case 0x3: value = reader.u32(); break;
    case 0x9: value = static_cast<std::uint64_t>(reader.sleb()); break;
    case 0xa: value = static_cast<std::uint64_t>(static_cast<std::int16_t>(reader.u16())); break;
    case 0xb: value = static_cast<std::uint64_t>(static_cast<std::int32_t>(reader.u32())); break;
    default: reader.skip(~std::uint64_t(0));  // unknown: the rest cannot be read
  }
  return (encoding & kApplication) == kPcRelative && value != 0 ? value + field_address : value;
}

struct Common {
  bool augmented = false;
  std::uint8_t pointer_encoding = 0;
  std::uint8_t exception_encoding = kOmitted;
};

Common read_common(ByteReader& reader) {
  Common common;
  const std::uint8_t version = reader.u8();
  const std::string_view augmentation = reader.string();
  (void)reader.uleb();
  (void)reader.sleb();
  version == 1 ? (void)reader.u8() : (void)reader.uleb();
  common.augmented = augmentation.starts_with('z');
  if (!common.augmented) return common;
  (void)reader.uleb();
  for (const char letter : augmentation.substr(1)) {
    if (letter == 'L') common.exception_encoding = reader.u8();
    if (letter == 'R') common.pointer_encoding = reader.u8();
    if (letter == 'P') {
      const std::uint8_t encoding = reader.u8();
      (void)encoded(reader, encoding, 0);
    }
  }
  return common;
}

void read_landing_pads(const binary::Elf& elf, std::uint64_t address, std::uint64_t function,
                       std::vector<std::uint64_t>& out) {
  ByteReader reader(elf.bytes_at(address));
  const std::uint8_t start_encoding = reader.u8();
  std::uint64_t start = function;
  if (start_encoding != kOmitted) start = encoded(reader, start_encoding, address + reader.position());
  if (reader.u8() != kOmitted) (void)reader.uleb();
  const std::uint8_t encoding = reader.u8();
  const std::uint64_t size = reader.uleb();
  ByteReader table(reader.bytes(size));
  while (table.good() && !table.at_end()) {
    (void)encoded(table, encoding, 0);
    (void)encoded(table, encoding, 0);
    const std::uint64_t pad = encoded(table, encoding, 0);
    (void)table.uleb();
    if (table.good() && pad != 0) out.push_back(start + pad);
  }
}

}  // namespace

CodeEntries code_entries(const binary::Elf& elf) {
  CodeEntries result;
  const binary::Section* section = elf.section_named(".eh_frame");
  if (section == nullptr) return result;
  const Bytes all = elf.bytes_of(*section);
  std::unordered_map<std::uint64_t, Common> commons;
  for (std::size_t at = 0; at < all.size();) {
    ByteReader reader(all, at);
    std::uint64_t length = reader.u32();
    if (length == 0xffffffff) length = reader.u64();
    const std::size_t id_at = reader.position();
    if (!reader.good() || length < 4 || length > all.size() - id_at) break;
    at = id_at + length;
    ByteReader entry(all.first(at), id_at);
    const std::uint32_t id = entry.u32();
    if (id == 0) {
      commons[id_at - 4] = read_common(entry);
      continue;
    }
    const auto common = commons.find(id_at - id);
    if (common == commons.end()) continue;
    const Common& rule = common->second;
    const std::uint64_t function = encoded(entry, rule.pointer_encoding, section->address + entry.position());
    const std::uint64_t size = encoded(entry, rule.pointer_encoding & kFormat, 0);
    if (!entry.good() || function == 0) continue;
    result.functions.push_back(function);
    result.ranges.push_back({function, function + size});
    if (!rule.augmented || rule.exception_encoding == kOmitted) continue;
    (void)entry.uleb();
    const std::uint64_t table = encoded(entry, rule.exception_encoding, section->address + entry.position());
    if (entry.good() && table != 0) read_landing_pads(elf, table, function, result.landing_pads);
  }
  return result;
}

}  // namespace deeptrace::debuginfo
