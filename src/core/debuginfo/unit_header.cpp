#include "debuginfo/unit_header.h"

#include <optional>

namespace deeptrace::debuginfo {
namespace {

/// Attribute forms (DWARF 5, table 7.6).
enum Form : std::uint64_t {
  kAddr = 0x01,
  kBlock2 = 0x03,
  kBlock4 = 0x04,
  kData2 = 0x05,
  kData4 = 0x06,
  kData8 = 0x07,
  kString = 0x08,
  kBlock = 0x09,
  kBlock1 = 0x0a,
  kData1 = 0x0b,
  kFlag = 0x0c,
  kSdata = 0x0d,
  kStrp = 0x0e,
  kUdata = 0x0f,
  kRefAddr = 0x10,
  kRef1 = 0x11,
  kRef2 = 0x12,
  kRef4 = 0x13,
  kRef8 = 0x14,
  kRefUdata = 0x15,
  kIndirect = 0x16,
  kSecOffset = 0x17,
  kExprloc = 0x18,
  kFlagPresent = 0x19,
  kStrx = 0x1a,
  kAddrx = 0x1b,
  kRefSup4 = 0x1c,
  kStrpSup = 0x1d,
  kData16 = 0x1e,
  kLineStrp = 0x1f,
  kRefSig8 = 0x20,
  kImplicitConst = 0x21,
  kLoclistx = 0x22,
  kRnglistx = 0x23,
  kRefSup8 = 0x24,
  kStrx1 = 0x25,
  kStrx2 = 0x26,
  kStrx3 = 0x27,
  kStrx4 = 0x28,
  kAddrx1 = 0x29,
  kAddrx2 = 0x2a,
  kAddrx3 = 0x2b,
  kAddrx4 = 0x2c,
};
enum Attribute : std::uint64_t { kStatementList = 0x10, kCompilationDirectory = 0x1b };
enum UnitType : std::uint8_t { kTypeUnit = 2, kSkeleton = 4, kSplitCompile = 5, kSplitType = 6 };

FormValue of(std::uint64_t number) { return {true, number, {}}; }

FormValue block(ByteReader& reader, std::uint64_t size) {
  reader.skip(size);
  return of(size);
}

struct Unit {
  std::uint16_t version = 0;
  bool wide = false;
  std::uint8_t address_size = 8;
  std::uint64_t abbreviations = 0;
};

/// Reads a unit's header; false for units that describe no code or that are damaged.
bool read_unit_header(ByteReader& reader, Unit& unit) {
  unit.version = reader.u16();
  const std::uint16_t version = unit.version;
  if (version < 2 || version > 5) return false;
  std::uint8_t type = 1;
  if (version >= 5) {
    type = reader.u8();
    unit.address_size = reader.u8();
  }
  unit.abbreviations = unit.wide ? reader.u64() : reader.u32();
  if (version < 5) unit.address_size = reader.u8();
  if (type == kSkeleton || type == kSplitCompile) reader.skip(8);
  return reader.good() && type != kTypeUnit && type != kSplitType;
}

/// Moves to the attribute list of abbreviation `code`; bad when it is not there.
ByteReader find_abbreviation(Bytes section, std::uint64_t offset, std::uint64_t code) {
  ByteReader reader(section, offset);
  while (reader.good()) {
    const std::uint64_t found = reader.uleb();
    if (found == 0) break;
    (void)reader.uleb();
    (void)reader.u8();
    if (found == code) return reader;
    for (std::uint64_t name = 1, form = 1; (name != 0 || form != 0) && reader.good();) {
      name = reader.uleb();
      form = reader.uleb();
      if (form == kImplicitConst) (void)reader.sleb();
    }
  }
  return ByteReader({}, 1);
}

}  // namespace

FormValue read_form(ByteReader& reader, std::uint64_t form, bool wide, std::uint8_t address_size, Bytes strings,
                    Bytes line_strings) {
  const auto offset = [&] { return wide ? reader.u64() : reader.u32(); };
  switch (form) {
    case kAddr: return of(reader.unsigned_of(address_size));
    case kData1:
    case kFlag:
    case kRef1:
    case kStrx1:
    case kAddrx1: return of(reader.u8());
    case kData2:
    case kRef2:
    case kStrx2:
    case kAddrx2: return of(reader.u16());
    case kStrx3:
    case kAddrx3: return of(reader.unsigned_of(3));
    case kData4:
    case kRef4:
    case kStrx4:
    case kAddrx4:
    case kRefSup4: return of(reader.u32());
    case kData8:
    case kRef8:
    case kRefSig8:
    case kRefSup8: return of(reader.u64());
    case kData16: return block(reader, 16);
    case kSdata: return of(static_cast<std::uint64_t>(reader.sleb()));
    case kUdata:
    case kRefUdata:
    case kStrx:
    case kAddrx:
    case kLoclistx:
    case kRnglistx: return of(reader.uleb());
    case kRefAddr:
    case kSecOffset:
    case kStrpSup: return of(offset());
    case kFlagPresent: return of(1);
    case kString: return {true, 0, reader.string()};
    case kStrp: return {true, 0, string_at(strings, offset())};
    case kLineStrp: return {true, 0, string_at(line_strings, offset())};
    case kBlock1: return block(reader, reader.u8());
    case kBlock2: return block(reader, reader.u16());
    case kBlock4: return block(reader, reader.u32());
    case kBlock:
    case kExprloc: return block(reader, reader.uleb());
    case kIndirect: {
      const std::uint64_t inner = reader.uleb();
      if (inner == kIndirect) return {};
      return read_form(reader, inner, wide, address_size, strings, line_strings);
    }
    default: return {};
  }
}

namespace {

/// The sections that the first entries of units refer to.
struct UnitSections {
  explicit UnitSections(const binary::Elf& elf)
      : abbreviations(elf.debug_bytes(".debug_abbrev")),
        strings(elf.debug_bytes(".debug_str")),
        line_strings(elf.debug_bytes(".debug_line_str")),
        string_offsets(elf.debug_bytes(".debug_str_offsets")) {}

  /// The string that an index stands for (DWARF 5, 7.26): `base` is where the unit's offsets begin.
  [[nodiscard]] std::string_view indexed(std::uint64_t index, std::uint64_t base, bool wide) const {
    const std::uint64_t size = wide ? 8 : 4;
    if (index > string_offsets.view.size() / size) return {};
    ByteReader reader(string_offsets.view, base + index * size);
    const std::uint64_t offset = wide ? reader.u64() : reader.u32();
    return reader.good() ? string_at(strings.view, offset) : std::string_view{};
  }

  binary::SectionBytes abbreviations, strings, line_strings, string_offsets;
};

bool is_string_index(std::uint64_t form) {
  return form == kStrx || form == kStrx1 || form == kStrx2 || form == kStrx3 || form == kStrx4;
}

/// A string attribute, or the index of one, whose place may be told by a later attribute.
struct Pending {
  std::string_view text;
  std::optional<std::uint64_t> index;

  [[nodiscard]] std::string resolved(const UnitSections& sections, std::uint64_t base, bool wide) const {
    return std::string(index ? sections.indexed(*index, base, wide) : text);
  }
};

UnitSummary summary_of(const Unit& unit, ByteReader& entry, const UnitSections& sections) {
  constexpr std::uint64_t kName = 0x03, kProducer = 0x25, kStringOffsetsBase = 0x72;
  UnitSummary summary;
  summary.version = unit.version;
  Pending producer, name, directory;
  std::uint64_t base = unit.wide ? 16 : 8;  // behind the header of the first table
  ByteReader list = find_abbreviation(sections.abbreviations.view, unit.abbreviations, entry.uleb());
  while (list.good() && entry.good()) {
    const std::uint64_t attribute = list.uleb();
    const std::uint64_t form = list.uleb();
    if (attribute == 0 && form == 0) break;
    if (form == kImplicitConst) {
      (void)list.sleb();
      continue;
    }
    const FormValue value =
        read_form(entry, form, unit.wide, unit.address_size, sections.strings.view, sections.line_strings.view);
    if (!value.known) break;
    const Pending text{value.text, is_string_index(form) ? std::optional(value.number) : std::nullopt};
    switch (attribute) {
      case kStatementList: summary.line_table = value.number; break;
      case kCompilationDirectory: directory = text; break;
      case kName: name = text; break;
      case kProducer: producer = text; break;
      case kStringOffsetsBase: base = value.number; break;
      default: break;
    }
  }
  summary.producer = producer.resolved(sections, base, unit.wide);
  summary.name = name.resolved(sections, base, unit.wide);
  summary.directory = directory.resolved(sections, base, unit.wide);
  return summary;
}

}  // namespace

std::vector<UnitSummary> units_of(const binary::Elf& elf) {
  std::vector<UnitSummary> result;
  const binary::SectionBytes info = elf.debug_bytes(".debug_info");
  const UnitSections sections(elf);
  std::size_t at = 0;
  while (at < info.view.size()) {
    ByteReader reader(info.view, at);
    Unit unit;
    std::uint64_t length = reader.u32();
    unit.wide = length == 0xffffffff;
    if (unit.wide) length = reader.u64();
    const std::size_t body = reader.position();
    if (!reader.good() || length > info.view.size() - body) break;
    at = body + length;
    ByteReader entry(info.view.subspan(body, length));
    if (read_unit_header(entry, unit)) result.push_back(summary_of(unit, entry, sections));
  }
  return result;
}

std::unordered_map<std::uint64_t, std::string> compilation_directories(const binary::Elf& elf) {
  std::unordered_map<std::uint64_t, std::string> result;
  for (UnitSummary& unit : units_of(elf)) {
    if (unit.line_table) result.emplace(*unit.line_table, std::move(unit.directory));
  }
  return result;
}

}  // namespace deeptrace::debuginfo
