#include "binary/elf.h"

#include <algorithm>
#include <cstring>

#include "arch/relocations.h"
#include "binary/archive.h"
#include "binary/compression.h"

namespace deeptrace::binary {
namespace {

/// Sizes of structures in bytes, for files of 32 and 64 bits (System V ABI, 4-4, 4-9, 4-15, 4-20, 5-1).
struct Sizes {
  std::uint64_t header, section, segment, symbol, rel, rela;
};
constexpr Sizes kSizes[] = {{52, 40, 32, 16, 8, 12}, {64, 64, 56, 24, 16, 24}};
enum FileType : std::uint16_t { kRelocatable = 1, kExecutableFile = 2, kDynamic = 3, kCore = 4 };

std::string hex(std::uint64_t value) {
  char buffer[20];
  std::snprintf(buffer, sizeof buffer, "0x%llx", static_cast<unsigned long long>(value));
  return buffer;
}

}  // namespace

Error Elf::broken(std::string_view what, std::uint64_t offset) const {
  return {Fault::input, path() + ": truncated or damaged: " + std::string(what) + " at offset " + hex(offset) +
                            " reaches beyond the file's end (" + std::to_string(file_.bytes().size()) + " bytes)"};
}

Result<Elf> Elf::open(const std::string& path, bool cores) {
  Result<MappedFile> file = MappedFile::open(path);
  if (file) return read(std::move(*file), cores);
  // "libtide.a(levels.o)", where there is no such file itself.
  const std::size_t open = path.rfind('(');
  if (!path.ends_with(')') || open == std::string::npos || open == 0) return file.error();
  Result<MappedFile> archive = MappedFile::open(path.substr(0, open));
  if (!archive) return archive.error();
  const std::string name = path.substr(open + 1, path.size() - open - 2);
  for (const ArchiveMember& member : archive_members(archive->bytes())) {
    if (member.name != name) continue;
    archive->narrow(path, member.offset, member.size);
    return read(std::move(*archive), cores);
  }
  return Error{Fault::input, path + ": the archive has no member of that name; survey lists them"};
}

Result<Elf> Elf::read(MappedFile file, bool cores) {
  Elf elf(std::move(file));
  if (auto error = elf.read_headers(cores)) return *error;
  return elf;
}

void Elf::add_symbols_of(const Elf& other) {
  std::vector<SymbolTable::Place> places;
  for (const Section& there : other.sections_) {
    // Sections go by name and address: the numbers may differ.
    const auto here = std::ranges::find_if(
        sections_, [&](const Section& s) { return s.name == there.name && s.address == there.address; });
    places.push_back({here == sections_.end() ? 0 : here->index, 0, there.name});
  }
  symbols_.add(other.symbols_, places);
}

std::optional<Error> Elf::read_headers(bool cores) {
  const auto refuse = [&](const std::string& why) { return Error{Fault::input, path() + ": " + why}; };
  const Bytes all = file_.bytes();
  constexpr std::uint8_t kMagic[] = {0x7f, 'E', 'L', 'F'};
  if (is_archive(all)) {
    const std::vector<ArchiveMember> members = archive_members(all);
    const std::string first = members.empty() ? "member.o" : members.front().name;
    return refuse("is an archive of " + std::to_string(members.size()) + " files; give one as '" + path() + "(" +
                  first + ")'");
  }
  if (all.size() < 4 || std::memcmp(all.data(), kMagic, 4) != 0)
    return refuse("is not an ELF file (a compiled program)");
  if (all.size() < 20) return broken("the ELF header", 0);
  if (all[5] != 1) return refuse("is for a big-endian machine; x86 is supported");
  ByteReader header(all, 16);
  const std::uint16_t type = header.u16();
  const std::uint16_t machine = header.u16();
  wide_ = all[4] == 2;
  if (machine != this->machine().elf_machine) {
    return refuse("is for another machine (ELF machine number " + std::to_string(machine) + ", " +
                  (wide_ ? "64" : "32") + "-bit); x86 is supported");
  }
  if (all.size() < kSizes[wide_].header) return broken("the ELF header", 0);
  if (type == kCore && !cores) return refuse("is a core file, not a program");
  if (type != kCore && type != kRelocatable && type != kExecutableFile && type != kDynamic)
    return refuse("has an unknown ELF file type (" + std::to_string(type) + ")");
  header.skip(4);
  entry_ = word(header);
  const std::uint64_t segments_at = word(header);
  const std::uint64_t sections_at = word(header);
  header.skip(4 + 2);
  const std::uint16_t segment_size = header.u16();
  std::uint32_t segment_count = header.u16();
  const std::uint16_t section_size = header.u16();
  const std::uint16_t section_count = header.u16();
  const std::uint16_t names = header.u16();
  // So many segments that their number does not fit stands in the first section header (gABI, "ELF Header": PN_XNUM).
  if (segment_count == 0xffff && sections_at != 0) {
    ByteReader first(all, sections_at);
    first.skip(wide_ ? 44 : 28);
    segment_count = first.u32();
    if (!first.good()) return broken("the section header table", sections_at);
  }
  headers_ = {FileRange{0, kSizes[wide_].header}, FileRange{segments_at, std::uint64_t(segment_count) * segment_size},
              FileRange{sections_at, std::uint64_t(section_count) * section_size}};
  if (auto error = read_segments(segments_at, segment_count, segment_size)) return error;
  if (auto error = read_sections(sections_at, section_count, section_size, names)) return error;
  const bool has_interpreter =
      std::any_of(segments_.begin(), segments_.end(), [](const Segment& s) { return s.type == kInterpreterSegment; });
  kind_ = type == kRelocatable                                      ? Kind::relocatable
          : type == kExecutableFile                                 ? Kind::executable
          : type == kCore                                           ? Kind::core
          : !is_named_library() && (has_interpreter || entry_ != 0) ? Kind::position_independent
                                                                    : Kind::shared_library;
  if (kind_ == Kind::relocatable) lay_out();
  read_symbols();
  return std::nullopt;
}

/// Some libraries can be started as programs: they have an entry, and a name that others load them by. Linkers mark
/// programs (gABI, "Dynamic Section": DT_SONAME, DT_FLAGS_1 with DF_1_PIE).
bool Elf::is_named_library() const {
  constexpr std::uint64_t kSoname = 14, kFlags = 0x6ffffffb, kPie = 0x08000000;
  bool named = false;
  for (const Segment& segment : segments_) {
    if (segment.type != kDynamicSegment) continue;
    ByteReader reader(file_.bytes(), segment.offset);
    for (std::uint64_t end = segment.offset + segment.file_size; reader.position() < end && reader.good();) {
      const std::uint64_t tag = wide_ ? reader.u64() : reader.u32(), value = wide_ ? reader.u64() : reader.u32();
      if (tag == 0) break;
      if (tag == kFlags && (value & kPie) != 0) return false;
      named |= tag == kSoname;
    }
  }
  return named;
}

std::optional<Error> Elf::read_segments(std::uint64_t at, std::uint64_t count, std::uint64_t entry_size) {
  if (count == 0) return std::nullopt;
  if (entry_size < kSizes[wide_].segment)
    return Error{Fault::input, path() + ": damaged: program headers of " + std::to_string(entry_size) + " bytes"};
  for (std::uint64_t i = 0; i < count; ++i) {
    ByteReader reader(file_.bytes(), at + i * entry_size);
    Segment segment;
    segment.type = reader.u32();
    if (wide_) segment.flags = reader.u32();
    segment.offset = word(reader);
    segment.address = word(reader);
    word(reader);  // the physical address
    segment.file_size = word(reader);
    segment.memory_size = word(reader);
    if (!wide_) segment.flags = reader.u32();
    segment.alignment = word(reader);
    if (!reader.good()) return broken("the program header table", at);
    segments_.push_back(segment);
  }
  return std::nullopt;
}

std::optional<Error> Elf::read_sections(std::uint64_t at, std::uint64_t count, std::uint64_t entry_size,
                                        std::uint32_t names) {
  if (at == 0) return std::nullopt;
  if (entry_size < kSizes[wide_].section)
    return Error{Fault::input, path() + ": damaged: section headers of " + std::to_string(entry_size) + " bytes"};
  const Bytes all = file_.bytes();
  // Counts that do not fit the header stand in the first section header (System V ABI, 4-4).
  if (count == 0 || names == 0xffff) {
    ByteReader first(all, at);
    first.skip(wide_ ? 32 : 20);
    const std::uint64_t size = word(first);
    const std::uint32_t link = first.u32();
    if (!first.good()) return broken("the section header table", at);
    if (count == 0) count = size;
    if (names == 0xffff) names = link;
  }
  if (at > all.size() || count > (all.size() - at) / entry_size) return broken("the section header table", at);
  std::vector<std::uint32_t> name_offsets;
  for (std::uint64_t i = 0; i < count; ++i) {
    ByteReader reader(all, at + i * entry_size);
    Section section;
    section.index = static_cast<std::uint32_t>(i);
    name_offsets.push_back(reader.u32());
    section.type = reader.u32();
    section.flags = word(reader);
    section.address = word(reader);
    section.offset = word(reader);
    section.size = word(reader);
    section.link = reader.u32();
    section.info = reader.u32();
    section.alignment = word(reader);
    section.entry_size = word(reader);
    if (section.type != kNoBits && section.type != 0 &&
        (section.offset > all.size() || section.size > all.size() - section.offset)) {
      return broken("section " + std::to_string(i), section.offset);
    }
    sections_.push_back(section);
  }
  if (names < sections_.size()) {
    const Bytes table = bytes_of(sections_[names]);
    for (std::size_t i = 0; i < sections_.size(); ++i) sections_[i].name = string_at(table, name_offsets[i]);
  }
  return std::nullopt;
}

void Elf::lay_out() {
  std::uint64_t next = 0;
  for (Section& section : sections_) {
    if ((section.flags & kAllocated) == 0) continue;
    const std::uint64_t alignment = std::clamp<std::uint64_t>(section.alignment, 1, 1U << 20);
    next = (next + alignment - 1) / alignment * alignment;
    section.address = next;
    next += std::min<std::uint64_t>(section.size, std::uint64_t(1) << 40);
  }
}

std::uint64_t Elf::word(ByteReader& reader) const { return wide_ ? reader.u64() : reader.u32(); }

void Elf::read_symbols() {
  const Section* table = nullptr;
  for (const Section& section : sections_) {
    if (section.type == kSymbolTable) table = &section;
    if (section.type == kDynamicSymbols && table == nullptr) table = &section;
  }
  if (table == nullptr || table->link >= sections_.size()) return;
  has_symbol_table_ = table->type == kSymbolTable;
  std::vector<SymbolTable::Place> places;
  for (const Section& section : sections_)
    places.push_back({section.index, kind_ == Kind::relocatable ? section.address : 0, section.name});
  symbols_.add(bytes_of(*table), bytes_of(sections_[table->link]), wide_, std::move(places));
}

const Section* Elf::section_named(std::string_view name) const {
  for (const Section& section : sections_) {
    if (section.name == name) return &section;
  }
  return nullptr;
}

std::uint64_t Elf::offset_table() const {
  for (const std::string_view name : {".got.plt", ".got"}) {
    if (const Section* section = section_named(name)) return section->address;
  }
  return 0;
}

const Section* Elf::section_at(std::uint64_t address) const {
  for (const Section& section : sections_) {
    if (section.holds(address)) return &section;
  }
  return nullptr;
}

Bytes Elf::bytes_of(const Section& section) const {
  if (section.type == kNoBits || section.type == 0) return {};
  return file_.bytes().subspan(section.offset, section.size);
}

Bytes Elf::bytes_of(const Segment& segment) const {
  const Bytes all = file_.bytes();
  if (segment.offset >= all.size()) return {};
  return all.subspan(segment.offset, std::min<std::uint64_t>(segment.file_size, all.size() - segment.offset));
}

Bytes Elf::bytes_at(std::uint64_t address) const {
  const Section* section = section_at(address);
  if (section == nullptr) return {};
  const Bytes bytes = bytes_of(*section);
  const std::uint64_t offset = address - section->address;
  return offset < bytes.size() ? bytes.subspan(offset) : Bytes{};
}

std::uint64_t Elf::section_offset(std::uint64_t address) const {
  if (kind_ != Kind::relocatable) return address;
  const Section* section = section_at(address);
  return section == nullptr ? address : address - section->address;
}

std::vector<Relocation> Elf::relocations_of(const Section& table) const {
  std::vector<Relocation> result;
  add_relocations(table, result);
  return result;
}

void Elf::add_relocations(const Section& table, std::vector<Relocation>& result) const {
  const bool object = kind_ == Kind::relocatable;
  const bool with_addends = table.type == kRela;
  if ((!with_addends && table.type != kRel) || table.link >= sections_.size() ||
      (object && table.info >= sections_.size()))
    return;
  const Section& symbols = sections_[table.link];
  const Bytes symbol_bytes = bytes_of(symbols);
  const Bytes strings = symbols.link < sections_.size() ? bytes_of(sections_[symbols.link]) : Bytes{};
  const std::uint64_t symbol_size = kSizes[wide_].symbol;
  const Bytes entries = bytes_of(table);
  ByteReader reader(entries);
  const std::uint64_t entry_size = with_addends ? kSizes[wide_].rela : kSizes[wide_].rel;
  for (std::uint64_t i = 0; i < table.size / entry_size; ++i) {
    Relocation relocation;
    relocation.address = word(reader) + (object ? sections_[table.info].address : 0);
    const std::uint64_t info = word(reader);
    relocation.type = static_cast<std::uint32_t>(wide_ ? info : info & 0xff);
    if (with_addends) {
      relocation.addend = wide_ ? static_cast<std::int64_t>(reader.u64()) : static_cast<std::int32_t>(reader.u32());
    } else {
      // The addend stands in the place that is to be changed.
      ByteReader place(bytes_at(relocation.address));
      relocation.addend = static_cast<std::int32_t>(place.u32());
    }
    const std::uint64_t symbol_index = wide_ ? info >> 32 : info >> 8;
    if (symbol_index != 0 && symbol_index < symbol_bytes.size() / symbol_size) {
      ByteReader symbol_reader(symbol_bytes, symbol_index * symbol_size);
      const Symbol symbol = read_symbol(symbol_reader, strings, wide_);
      relocation.symbol = symbol.name;
      relocation.symbol_value = symbol.address;
      relocation.defined = symbol.section != 0 && symbol.section < sections_.size();
      if (relocation.defined && object) relocation.symbol_value += sections_[symbol.section].address;
      relocation.local = !symbol.global;
      relocation.section_symbol = relocation.defined && symbol.type == kSectionSymbol;
      if (relocation.defined) relocation.section = symbol.section;
      if (relocation.section_symbol) relocation.symbol = sections_[symbol.section].name;
    }
    result.push_back(relocation);
  }
}

namespace {

/// Sorts by address and keeps the order of equals. There are hundreds of thousands, and linkers put most of them first,
/// in order: the others are sorted apart and go to their places from the end.
void sort_by_address(std::vector<Relocation>& relocations) {
  const auto in_order = std::ranges::is_sorted_until(relocations, {}, &Relocation::address);
  std::vector<std::pair<std::uint64_t, std::size_t>> places;
  for (auto one = in_order; one != relocations.end(); ++one)
    places.emplace_back(one->address, static_cast<std::size_t>(one - relocations.begin()));
  std::ranges::sort(places);
  std::vector<Relocation> others;
  others.reserve(places.size());
  for (const auto& [address, place] : places) others.push_back(relocations[place]);
  auto last = in_order;
  for (auto to = relocations.end(); !others.empty();) {
    if (last != relocations.begin() && (last - 1)->address > others.back().address) {
      *--to = *--last;
    } else {
      *--to = others.back();
      others.pop_back();
    }
  }
}

}  // namespace

std::vector<Relocation> Elf::relocations() const {
  std::vector<Relocation> result;
  std::size_t bytes = 0;
  for (const Section& section : sections_) {
    if (kind_ != Kind::relocatable && (section.type == kRela || section.type == kRel))
      bytes += bytes_of(section).size();
  }
  result.reserve(bytes / kSizes[wide_].rela);
  for (const Section& section : sections_) {
    if (section.type != kRela && section.type != kRel) continue;
    if (kind_ == Kind::relocatable &&
        (section.info >= sections_.size() || (sections_[section.info].flags & kAllocated) == 0))
      continue;
    add_relocations(section, result);
  }
  sort_by_address(result);
  return result;
}

SectionBytes Elf::unpacked(const Section& section) const {
  const Bytes raw = bytes_of(section);
  ByteReader header(raw);
  if ((section.flags & kCompressed) != 0) {  // System V ABI, "Compressed Sections": Elf32_Chdr, Elf64_Chdr
    const std::uint32_t kind = header.u32();
    if (wide_) header.skip(4);
    const std::uint64_t size = word(header);
    word(header);
    if (auto bytes = decompressed(raw.subspan(header.good() ? header.position() : raw.size()),
                                  static_cast<Compression>(kind), size)) {
      SectionBytes result{std::move(*bytes), {}};
      result.view = result.owned;
      return result;
    }
    return {};
  }
  constexpr std::string_view kOldMark = "ZLIB";  // .zdebug: the mark, then the size with its highest byte first
  if (section.name.starts_with(".zdebug") && raw.size() > 12 && std::memcmp(raw.data(), kOldMark.data(), 4) == 0) {
    std::uint64_t size = 0;
    for (std::size_t i = 4; i < 12; ++i) size = size << 8 | raw[i];
    if (auto bytes = decompressed(raw.subspan(12), Compression::zlib, size)) {
      SectionBytes result{std::move(*bytes), {}};
      result.view = result.owned;
      return result;
    }
    return {};
  }
  return {{}, raw};
}

SectionBytes Elf::debug_bytes(std::string_view name) const {
  const Section* section = section_named(name);
  if (section == nullptr) section = section_named(".z" + std::string(name.substr(1)));
  if (section == nullptr) return {};
  SectionBytes result = unpacked(*section);
  if (kind_ != Kind::relocatable) return result;
  if (result.owned.empty()) result.owned.assign(result.view.begin(), result.view.end());
  const std::vector<std::uint8_t> raw = result.owned;
  for (const Section& table : sections_) {
    if ((table.type != kRela && table.type != kRel) || table.info != section->index) continue;
    for (Relocation& relocation : relocations_of(table)) {
      // Places in debug sections have no address: their addends stand in the section itself.
      const std::uint64_t offset = relocation.address - section->address;
      if (table.type == kRel && offset < raw.size()) {
        ByteReader place(raw, offset);
        relocation.addend = static_cast<std::int32_t>(place.u32());
      }
      const std::uint64_t value = relocation.symbol_value + static_cast<std::uint64_t>(relocation.addend);
      const arch::RelocationKind* kind = arch::relocation_kind(relocation.type, machine().mode);
      const bool whole = kind != nullptr && (kind->means & arch::RelocationKind::kAbsolute) != 0;
      const std::size_t size = whole ? kind->size : 0;
      if (size == 0 || offset > result.owned.size() || result.owned.size() - offset < size) continue;
      std::memcpy(result.owned.data() + offset, &value, size);
    }
  }
  result.view = result.owned;
  return result;
}

}  // namespace deeptrace::binary
