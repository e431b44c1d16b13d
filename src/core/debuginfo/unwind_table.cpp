#include "debuginfo/unwind_table.h"

#include <unordered_map>

namespace deeptrace::debuginfo {
namespace {

/// Pointer encodings (LSB, "DWARF Exception Header Encoding").
constexpr std::uint8_t kOmitted = 0xff, kFormat = 0x0f, kApplication = 0x70, kPcRelative = 0x10;

/// `width` is that of a plain pointer, in bytes.
std::uint64_t encoded(ByteReader& reader, std::uint8_t encoding, std::uint64_t field_address, unsigned width) {
  std::uint64_t value = 0;
  switch (encoding & kFormat) {
    case 0x0: value = reader.unsigned_of(width); break;
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
  if ((encoding & kApplication) == kPcRelative && value != 0) value += field_address;
  return width == 4 ? value & 0xffffffff : value;
}

struct Common {
  bool augmented = false;
  std::uint8_t exception_encoding = kOmitted;
  UnwindEntry shared;  ///< what its entries begin with
};

Common read_common(ByteReader& reader, unsigned width, std::uint64_t section) {
  Common common;
  const std::uint8_t version = reader.u8();
  const std::string_view augmentation = reader.string();
  if (version >= 4) reader.skip(2);  // sizes of addresses and of segment selectors
  common.shared.code_alignment = reader.uleb();
  common.shared.data_alignment = reader.sleb();
  common.shared.return_register = static_cast<unsigned>(version == 1 ? reader.u8() : reader.uleb());
  common.augmented = augmentation.starts_with('z');
  if (common.augmented) {
    const std::uint64_t size = reader.uleb();
    const std::uint64_t data_address = section + reader.position();
    ByteReader data(reader.bytes(size));
    for (const char letter : augmentation.substr(1)) {
      if (letter == 'L') common.exception_encoding = data.u8();
      if (letter == 'R') common.shared.pointer_encoding = data.u8();
      if (letter == 'S') common.shared.signal_frame = true;
      if (letter == 'P') {
        const std::uint8_t encoding = data.u8();
        common.shared.personality = {encoding, data_address + data.position()};
        (void)encoded(data, encoding, 0, width);
      }
    }
  }
  common.shared.initial = reader.bytes(reader.remaining());
  return common;
}

void read_landing_pads(const binary::Elf& elf, std::uint64_t address, std::uint64_t function,
                       std::vector<std::uint64_t>& out) {
  ByteReader reader(elf.bytes_at(address));
  const unsigned width = elf.machine().word;
  const std::uint8_t start_encoding = reader.u8();
  std::uint64_t start = function;
  if (start_encoding != kOmitted) start = encoded(reader, start_encoding, address + reader.position(), width);
  if (reader.u8() != kOmitted) (void)reader.uleb();
  const std::uint8_t encoding = reader.u8();
  const std::uint64_t size = reader.uleb();
  ByteReader table(reader.bytes(size));
  while (table.good() && !table.at_end()) {
    (void)encoded(table, encoding, 0, width);
    (void)encoded(table, encoding, 0, width);
    const std::uint64_t pad = encoded(table, encoding, 0, width);
    (void)table.uleb();
    if (table.good() && pad != 0) out.push_back(start + pad);
  }
}

}  // namespace

void each_unwind_entry(const UnwindSection& section, const std::function<void(const UnwindEntry&)>& visit) {
  const bool for_debugging = section.for_debugging;
  const unsigned width = section.pointer_size;
  const Bytes all = section.bytes;
  std::unordered_map<std::uint64_t, Common> commons;
  for (std::size_t at = 0; at < all.size();) {
    const std::size_t start = at;
    ByteReader reader(all, at);
    std::uint64_t length = reader.u32();
    const bool wide = length == 0xffffffff;
    if (wide) length = reader.u64();
    const std::size_t id_at = reader.position();
    if (!reader.good() || length < 4 || length > all.size() - id_at) break;
    at = id_at + length;
    ByteReader entry(all.first(at), id_at);
    const std::uint64_t id = for_debugging && wide ? entry.u64() : entry.u32();
    const std::uint64_t common_id = !for_debugging ? 0 : wide ? ~std::uint64_t(0) : 0xffffffff;
    if (id == common_id) {
      commons[start] = read_common(entry, width, section.address);
      continue;
    }
    const auto common = commons.find(for_debugging ? id : id_at - id);
    if (common == commons.end()) continue;
    UnwindEntry result = common->second.shared;
    const std::uint8_t encoding = result.pointer_encoding;
    const auto pointer = [&](ByteReader& from, std::uint8_t how, std::uint64_t field) {
      const std::uint64_t value = encoded(from, how, field, width);
      const auto relocated = section.relocated ? section.relocated(field) : std::nullopt;
      return relocated ? *relocated : value;
    };
    result.range.from = pointer(entry, encoding, section.address + entry.position());
    result.range.to = result.range.from + encoded(entry, encoding & kFormat, 0, width);
    if (!entry.good() || (result.range.from == 0 && !section.relocated)) continue;
    if (common->second.augmented) {
      const std::uint64_t size = entry.uleb();
      const std::uint64_t data_address = section.address + entry.position();
      ByteReader data(entry.bytes(size));
      if (common->second.exception_encoding != kOmitted) {
        result.exception_table = {common->second.exception_encoding, data_address};
        result.handlers = pointer(data, common->second.exception_encoding, data_address);
      }
    }
    result.program = entry.bytes(entry.remaining());
    if (entry.good()) visit(result);
  }
}

CodeEntries code_entries(const binary::Elf& elf) {
  CodeEntries result;
  const binary::Section* section = elf.section_named(".eh_frame");
  if (section == nullptr) return result;
  const UnwindSection table{elf.bytes_of(*section), section->address, elf.machine().word, false, {}};
  each_unwind_entry(table, [&](const UnwindEntry& entry) {
    // A handler's return code is entered by the kernel at no call, and unwinders look up the address before: C
    // libraries let its entry begin a byte early.
    AddressRange range = entry.range;
    if (entry.signal_frame && range.size() > 1) ++range.from;
    result.functions.push_back(range.from);
    result.ranges.push_back(range);
    if (entry.handlers != 0) read_landing_pads(elf, entry.handlers, entry.range.from, result.landing_pads);
  });
  return result;
}

}  // namespace deeptrace::debuginfo
