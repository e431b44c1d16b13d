#include "debuginfo/debug_info.h"

#include <algorithm>
#include <filesystem>

namespace deeptrace::debuginfo {

using binary::Elf;

namespace {

/// Linkers write one of these, or 0, where code was discarded.
constexpr std::uint64_t kDiscarded = ~std::uint64_t(1);

std::string inside(std::string_view directory, std::string_view name) {
  return (std::filesystem::path(directory) / name).string();
}

}  // namespace

DebugSections::DebugSections(const Elf& elf, bool split) {
  const auto bytes = [&](std::string name) { return elf.debug_bytes(name + (split ? ".dwo" : "")); };
  info = bytes(".debug_info");
  types = bytes(".debug_types");
  abbreviations = bytes(".debug_abbrev");
  strings = bytes(".debug_str");
  line_strings = bytes(".debug_line_str");
  string_offsets = bytes(".debug_str_offsets");
  addresses = bytes(".debug_addr");
  ranges = bytes(".debug_ranges");
  range_lists = bytes(".debug_rnglists");
  locations = bytes(".debug_loc");
  location_lists = bytes(".debug_loclists");
}

DebugInfo::DebugInfo(const Elf& elf, const Elf* supplementary) : relocatable_(elf.kind() == binary::Kind::relocatable) {
  for (const binary::Segment& segment : elf.segments()) {
    if (segment.type == binary::kThreadSegment)
      thread_block_ = {segment.address, segment.address + segment.memory_size};
  }
  sections_.push_back(std::make_unique<DebugSections>(elf));
  DebugSections& main = *sections_.front();
  abbreviation_room_ = 64 + 16 * std::uint64_t(main.abbreviations.view.size());
  if (supplementary != nullptr) {
    sections_.push_back(std::make_unique<DebugSections>(*supplementary));
    abbreviation_room_ += 16 * std::uint64_t(sections_[1]->abbreviations.view.size());
    main.other_info = sections_[1]->info.view;
    main.other_strings = sections_[1]->strings.view;
    read_units(*sections_[1], sections_[1]->info.view, false);
  }
  read_units(main, main.info.view, false);
  read_units(main, main.types.view, true);
  add_split_units(elf);
  index_ranges();
}

bool DebugInfo::read_header(ByteReader& reader, Unit& unit, bool types) const {
  unit.form.version = reader.u16();
  const std::uint16_t version = unit.form.version;
  if (version < 2 || version > 5) return false;
  const auto offset = [&] { return unit.form.wide ? reader.u64() : reader.u32(); };
  unit.type = types ? UnitType::type : UnitType::compile;
  if (version >= 5) {
    unit.type = static_cast<UnitType>(reader.u8());
    unit.form.address_size = reader.u8();
  }
  unit.abbreviations = offset();
  if (version < 5) unit.form.address_size = reader.u8();
  if (unit.type == UnitType::skeleton || unit.type == UnitType::split_compile) unit.signature = reader.u64();
  if (unit.type == UnitType::type || unit.type == UnitType::split_type) {
    unit.signature = reader.u64();
    unit.type_entry = offset();
  }
  const std::uint8_t size = unit.form.address_size;
  return reader.good() && (size == 4 || size == 8);
}

void DebugInfo::read_units(const DebugSections& sections, Bytes section, bool types) {
  std::size_t at = 0;
  groups_.push_back({section.data(), units_.size(), units_.size()});
  while (at < section.size()) {
    ByteReader reader(section, at);
    auto unit = std::make_unique<Unit>();
    unit->sections = &sections;
    unit->section = section;
    unit->offset = at;
    std::uint64_t length = reader.u32();
    unit->form.wide = length == 0xffffffff;
    if (unit->form.wide) length = reader.u64();
    const std::size_t body = reader.position();
    if (!reader.good() || length > section.size() - body) {
      note_ = "the debug information of the unit at offset " + std::to_string(at) + " is damaged";
      return;
    }
    at = body + length;
    unit->end = at;
    unit->form.strings = sections.strings.view;
    unit->form.line_strings = sections.line_strings.view;
    unit->form.other_strings = sections.other_strings;
    ByteReader header(section.first(at), body);
    if (!read_header(header, *unit, types)) continue;
    unit->first_entry = header.position();
    unit->index = static_cast<std::uint32_t>(units_.size());
    read_root(*unit);
    if (unit->type == UnitType::type || unit->type == UnitType::split_type)
      signatures_.emplace(unit->signature, unit.get());
    units_.push_back(std::move(unit));
    groups_.back().last = units_.size();
  }
}

void DebugInfo::read_root(Unit& unit) const {
  const bool split = unit.type == UnitType::split_compile || unit.type == UnitType::split_type;
  // After the header of the section's first table (DWARF 5, 7.26 and 7.29) where nothing else is said.
  const std::uint64_t after_header = unit.form.wide ? 16 : 8;
  unit.string_offsets_base = unit.form.version >= 5 ? after_header : 0;
  unit.address_base = unit.form.version >= 5 ? after_header : 0;
  if (split) unit.range_lists_base = unit.location_lists_base = unit.form.wide ? 20 : 12;
  Entry root;
  if (!read(unit, unit.first_entry, root)) return;
  // The bases come first: they tell where the others' values stand.
  for (const Attribute& attribute : root.attributes) {
    const std::uint64_t number = attribute.value.number;
    switch (attribute.name) {
      case At::string_offsets_base: unit.string_offsets_base = number; break;
      case At::address_base:
      case At::gnu_address_base: unit.address_base = number; break;
      case At::range_lists_base: unit.range_lists_base = number; break;
      case At::location_lists_base: unit.location_lists_base = number; break;
      case At::gnu_ranges_base: unit.ranges_base = number; break;
      case At::statement_list: unit.line_table = number; break;
      case At::language: unit.language = static_cast<std::uint16_t>(number); break;
      case At::gnu_dwo_id: unit.signature = number; break;
      default: break;
    }
  }
  unit.name = text(root, At::name);
  unit.directory = text(root, At::compilation_directory);
  unit.producer = text(root, At::producer);
  unit.dwo_name = text(root, At::dwo_name);
  if (unit.dwo_name.empty()) unit.dwo_name = text(root, At::gnu_dwo_name);
  if (const FormValue* low = root.find(At::low_pc)) unit.low_pc = address(unit, *low).value_or(0);
  unit.ranges = ranges(root);
  unit.says_ranges = root.has(At::ranges) || root.has(At::high_pc);
}

void DebugInfo::add_split_units(const Elf& elf) {
  const std::size_t count = units_.size();
  std::string missing;
  bool package_tried = false;
  for (std::size_t i = 0; i < count; ++i) {
    Unit& skeleton = *units_[i];
    if (skeleton.dwo_name.empty()) continue;
    Result<Elf> file = Elf::open(inside(skeleton.directory, skeleton.dwo_name));
    if (!file) file = Elf::open((std::filesystem::path(elf.path()).parent_path() / skeleton.dwo_name).string());
    if (file) {
      files_.push_back(std::make_unique<Elf>(std::move(*file)));
      sections_.push_back(std::make_unique<DebugSections>(*files_.back(), true));
      DebugSections& sections = *sections_.back();
      abbreviation_room_ += 16 * std::uint64_t(sections.abbreviations.view.size());
      read_units(sections, sections.info.view, false);
      read_units(sections, sections.types.view, true);
    } else if (!package_tried) {
      package_tried = true;
      add_package(elf);
    }
    if (!file && missing.empty()) missing = skeleton.dwo_name;
  }
  if (units_.size() == count) {
    if (!missing.empty()) note_ = "the split debug information " + missing + " was not found";
    return;
  }
  // A split unit takes addresses and ranges from its skeleton (DWARF 5, 3.1.3).
  for (std::size_t i = count; i < units_.size(); ++i) {
    Unit& split = *units_[i];
    for (std::size_t k = 0; k < count; ++k) {
      const Unit& skeleton = *units_[k];
      if (skeleton.dwo_name.empty() || skeleton.signature != split.signature) continue;
      split.skeleton = static_cast<std::int64_t>(k);
      split.address_base = skeleton.address_base;
      split.low_pc = skeleton.low_pc;
      split.ranges_base = skeleton.ranges_base;
      split.ranges = skeleton.ranges;
      split.line_table = skeleton.line_table;
      if (split.directory.empty()) split.directory = skeleton.directory;
      break;
    }
  }
}

/// A package holds the split units of a whole program, and an index of each one's share of every section (DWARF 5,
/// 7.3.5; the older form of GNU has version 2).
void DebugInfo::add_package(const Elf& elf) {
  Result<Elf> file = Elf::open(elf.path() + ".dwp");
  if (!file) return;
  files_.push_back(std::make_unique<Elf>(std::move(*file)));
  sections_.push_back(std::make_unique<DebugSections>(*files_.back(), true));
  const DebugSections& whole = *sections_.back();
  abbreviation_room_ += 16 * std::uint64_t(whole.abbreviations.view.size());
  for (const char* name : {".debug_cu_index", ".debug_tu_index"}) {
    const binary::SectionBytes index = files_.back()->debug_bytes(name);
    ByteReader reader(index.view);
    std::uint32_t version = reader.u32();
    if (version != 2) version &= 0xffff;
    const std::uint32_t columns = reader.u32(), rows = reader.u32(), slots = reader.u32();
    if (!reader.good() || columns > 16 || rows > index.view.size() / 8 || slots > index.view.size() / 8) continue;
    reader.skip(std::uint64_t(slots) * 12);
    std::vector<std::uint32_t> ids;
    for (std::uint32_t i = 0; i < columns; ++i) ids.push_back(reader.u32());
    ByteReader sizes = reader;
    sizes.skip(std::uint64_t(rows) * columns * 4);
    for (std::uint32_t row = 0; row < rows; ++row) {
      auto sections = std::make_unique<DebugSections>();
      const auto share = [](const binary::SectionBytes& of, std::uint64_t offset, std::uint64_t size) {
        binary::SectionBytes result;
        if (offset <= of.view.size() && size <= of.view.size() - offset) result.view = of.view.subspan(offset, size);
        return result;
      };
      sections->strings.view = whole.strings.view;
      for (const std::uint32_t id : ids) {
        const std::uint32_t offset = reader.u32(), size = sizes.u32();
        switch (id) {
          case 1: sections->info = share(whole.info, offset, size); break;
          case 2: sections->types = share(whole.types, offset, size); break;
          case 3: sections->abbreviations = share(whole.abbreviations, offset, size); break;
          case 5:
            (version == 2 ? sections->locations : sections->location_lists) =
                share(version == 2 ? whole.locations : whole.location_lists, offset, size);
            break;
          case 6: sections->string_offsets = share(whole.string_offsets, offset, size); break;
          case 8: sections->range_lists = share(whole.range_lists, offset, size); break;
          default: break;
        }
      }
      if (!reader.good() || !sizes.good()) break;
      sections_.push_back(std::move(sections));
      read_units(*sections_.back(), sections_.back()->info.view, false);
      read_units(*sections_.back(), sections_.back()->types.view, true);
    }
  }
}

void DebugInfo::index_ranges() {
  for (const auto& unit : units_) {
    const bool code = unit->type == UnitType::compile || unit->type == UnitType::split_compile;
    if (!code || unit->type == UnitType::skeleton) continue;
    for (const AddressRange& range : unit->ranges) by_address_.push_back({range, unit->index});
    if (unit->ranges.empty() && !unit->says_ranges && unit->line_table) anywhere_.push_back(unit->index);
  }
  std::ranges::stable_sort(by_address_, {}, [](const Held& held) { return held.range.from; });
}

std::vector<const Unit*> DebugInfo::units_at(std::uint64_t address) const {
  std::vector<const Unit*> result;
  auto after = std::ranges::upper_bound(by_address_, address, {}, [](const Held& held) { return held.range.from; });
  // The nearest start mostly decides; a few before it let ranges overlap.
  for (int i = 0; i < 8 && after != by_address_.begin(); ++i) {
    --after;
    if (after->range.holds(address)) result.push_back(units_[after->unit].get());
  }
  if (result.empty()) {
    for (const std::uint32_t unit : anywhere_) result.push_back(units_[unit].get());
  }
  return result;
}

const DebugInfo::Abbreviation* DebugInfo::AbbreviationTable::find(std::uint64_t code) const {
  if (dense) return code - 1 < rows.size() ? &rows[code - 1] : nullptr;
  const auto found = std::ranges::lower_bound(rows, code, {}, &Abbreviation::code);
  return found != rows.end() && found->code == code ? &*found : nullptr;
}

const DebugInfo::AbbreviationTable& DebugInfo::abbreviations_of(const Unit& unit) const {
  const Bytes section = unit.sections->abbreviations.view;
  const auto [place, added] = abbreviations_.try_emplace(Key{section.data(), unit.abbreviations});
  AbbreviationTable& table = place->second;
  if (!added) return table;
  ByteReader reader(section, unit.abbreviations);
  while (reader.good() && !reader.at_end()) {
    Abbreviation row;
    row.code = reader.uleb();
    if (row.code == 0) break;
    row.tag = static_cast<Tag>(reader.uleb());
    row.has_children = reader.u8() != 0;
    row.first = static_cast<std::uint32_t>(table.specifications.size());
    while (reader.good()) {
      Specification one;
      const std::uint64_t name = reader.uleb(), form = reader.uleb();
      if (form == kImplicitConst) one.implicit = reader.sleb();
      if (name == 0 && form == 0) break;
      one.name = static_cast<std::uint16_t>(std::min<std::uint64_t>(name, 0xffff));
      one.form = static_cast<std::uint16_t>(std::min<std::uint64_t>(form, 0xffff));
      table.specifications.push_back(one);
    }
    row.count = static_cast<std::uint32_t>(table.specifications.size()) - row.first;
    if (!reader.good()) break;
    table.dense = table.dense && row.code == table.rows.size() + 1;
    table.rows.push_back(row);
    // Tables that overlap again and again would take without bound.
    const std::uint64_t taken = reader.position() - unit.abbreviations;
    if (taken > abbreviation_room_) break;
  }
  abbreviation_room_ -=
      std::min(abbreviation_room_, reader.position() - std::min<std::uint64_t>(reader.position(), unit.abbreviations));
  if (!table.dense) std::ranges::stable_sort(table.rows, {}, &Abbreviation::code);
  return table;
}

bool DebugInfo::read(const Unit& unit, std::uint64_t offset, Entry& into) const {
  into.unit = &unit;
  into.offset = offset;
  into.tag = Tag::none;
  into.has_children = false;
  into.attributes.clear();
  if (offset < unit.first_entry || offset >= unit.end) return false;
  ByteReader reader(unit.section.first(unit.end), offset);
  const std::uint64_t code = reader.uleb();
  if (!reader.good()) return false;
  into.after = reader.position();
  if (code == 0) return true;
  const AbbreviationTable& table = abbreviations_of(unit);
  const Abbreviation* row = table.find(code);
  if (row == nullptr) return false;
  into.has_children = row->has_children;
  into.attributes.reserve(row->count);
  for (std::uint32_t i = row->first; i < row->first + row->count; ++i) {
    const Specification& one = table.specifications[i];
    into.attributes.push_back({static_cast<At>(one.name), read_form(reader, one.form, unit.form, one.implicit)});
    if (!into.attributes.back().value.known()) return false;
  }
  if (!reader.good()) return false;
  into.tag = row->tag;
  into.after = reader.position();
  return true;
}

std::optional<Entry> DebugInfo::read(EntryPlace place) const {
  Entry entry;
  if (!place || !read(*place.unit, place.offset, entry) || entry.tag == Tag::none) return std::nullopt;
  return entry;
}

std::string_view DebugInfo::text(const Unit& unit, const FormValue& value) const {
  if (value.kind != FormClass::string_index) return value.text;
  const std::uint64_t size = unit.form.wide ? 8 : 4;
  const Bytes table = unit.sections->string_offsets.view;
  if (value.number > table.size() / size) return {};
  ByteReader reader(table, unit.string_offsets_base + value.number * size);
  const std::uint64_t offset = reader.unsigned_of(size);
  return reader.good() ? string_at(unit.sections->strings.view, offset) : std::string_view{};
}

std::string_view DebugInfo::text(const Entry& entry, At name) const {
  const FormValue* value = entry.find(name);
  return value == nullptr ? std::string_view{} : text(*entry.unit, *value);
}

std::optional<std::uint64_t> DebugInfo::indexed_address(const Unit& unit, std::uint64_t index) const {
  // The addresses of split units stand in the linked file.
  const Bytes table = unit.skeleton >= 0 ? units_[static_cast<std::size_t>(unit.skeleton)]->sections->addresses.view
                                         : unit.sections->addresses.view;
  const std::uint64_t size = unit.form.address_size;
  if (index > table.size() / size) return std::nullopt;
  ByteReader reader(table, unit.address_base + index * size);
  const std::uint64_t result = reader.unsigned_of(size);
  return reader.good() ? std::optional(result) : std::nullopt;
}

std::optional<std::uint64_t> DebugInfo::address(const Unit& unit, const FormValue& value) const {
  if (value.kind == FormClass::address) return value.number;
  if (value.kind == FormClass::address_index) return indexed_address(unit, value.number);
  return std::nullopt;
}

EntryPlace DebugInfo::reference(const Unit& unit, const FormValue& value) const {
  const auto unit_holding = [&](Bytes section, std::uint64_t offset) -> const Unit* {
    if (section.empty()) return nullptr;
    for (const Group& group : groups_) {
      if (group.section != section.data()) continue;
      const auto begin = units_.begin() + static_cast<std::ptrdiff_t>(group.first);
      const auto after = std::partition_point(begin, units_.begin() + static_cast<std::ptrdiff_t>(group.last),
                                              [&](const auto& u) { return u->offset <= offset; });
      if (after != begin && offset < (*(after - 1))->end) return (after - 1)->get();
    }
    return nullptr;
  };
  switch (value.kind) {
    case FormClass::reference: {
      const std::uint64_t offset = unit.offset + value.number;
      return offset < unit.end ? EntryPlace{&unit, offset} : EntryPlace{};
    }
    case FormClass::far_reference: {
      if (value.number >= unit.offset && value.number < unit.end) return {&unit, value.number};
      const Unit* other = unit_holding(unit.sections->info.view, value.number);
      return other != nullptr ? EntryPlace{other, value.number} : EntryPlace{};
    }
    case FormClass::supplementary: {
      const Unit* other = unit_holding(unit.sections->other_info, value.number);
      return other != nullptr ? EntryPlace{other, value.number} : EntryPlace{};
    }
    case FormClass::signature: {
      const auto found = signatures_.find(value.number);
      if (found == signatures_.end()) return {};
      return {found->second, found->second->offset + found->second->type_entry};
    }
    default: return {};
  }
}

EntryPlace DebugInfo::reference(const Entry& entry, At name) const {
  const FormValue* value = entry.find(name);
  return value == nullptr ? EntryPlace{} : reference(*entry.unit, *value);
}

std::vector<AddressRange> DebugInfo::ranges(const Entry& entry) const {
  const Unit& unit = *entry.unit;
  std::vector<AddressRange> result;
  if (const FormValue* list = entry.find(At::ranges)) {
    if (list->kind == FormClass::range_list_index) {
      const Bytes table = unit.sections->range_lists.view;
      const std::uint64_t size = unit.form.wide ? 8 : 4;
      if (list->number > table.size() / size) return {};
      ByteReader reader(table, unit.range_lists_base + list->number * size);
      const std::uint64_t offset = reader.unsigned_of(size);
      if (reader.good()) result = range_list(unit, unit.range_lists_base + offset);
    } else if (unit.form.version >= 5) {
      result = range_list(unit, list->number);
    } else {
      const bool base = unit.skeleton >= 0;
      result = old_range_list(unit, list->number + (base ? unit.ranges_base : 0));
    }
  } else if (const FormValue* low = entry.find(At::low_pc)) {
    const auto from = address(unit, *low);
    const FormValue* high = entry.find(At::high_pc);
    if (from && high != nullptr) {
      const auto to = high->kind == FormClass::address || high->kind == FormClass::address_index
                          ? address(unit, *high)
                          : std::optional(*from + high->number);
      if (to && *to > *from) result.push_back({*from, *to});
    }
  }
  std::erase_if(result, [&](const AddressRange& r) {
    return r.to <= r.from || r.from >= kDiscarded || (r.from == 0 && !relocatable_);
  });
  return result;
}

/// DWARF 5, 2.17.3.
std::vector<AddressRange> DebugInfo::range_list(const Unit& unit, std::uint64_t offset) const {
  std::vector<AddressRange> result;
  ByteReader reader(unit.sections->range_lists.view, offset);
  std::uint64_t base = unit.low_pc;
  const auto plain = [&] { return reader.unsigned_of(unit.form.address_size); };
  const auto indexed = [&] { return indexed_address(unit, reader.uleb()).value_or(0); };
  while (reader.good()) {
    switch (reader.u8()) {
      case 0: return result;
      case 1: base = indexed(); break;
      case 2: {
        const std::uint64_t from = indexed(), to = indexed();
        result.push_back({from, to});
        break;
      }
      case 3: {
        const std::uint64_t from = indexed(), size = reader.uleb();
        result.push_back({from, from + size});
        break;
      }
      case 4: {
        const std::uint64_t from = reader.uleb(), to = reader.uleb();
        result.push_back({base + from, base + to});
        break;
      }
      case 5: base = plain(); break;
      case 6: {
        const std::uint64_t from = plain(), to = plain();
        result.push_back({from, to});
        break;
      }
      case 7: {
        const std::uint64_t from = plain(), size = reader.uleb();
        result.push_back({from, from + size});
        break;
      }
      default: return result;
    }
  }
  return result;
}

/// DWARF 4, 2.17.3: pairs; one of zeros ends the list, one that begins with ones sets the base.
std::vector<AddressRange> DebugInfo::old_range_list(const Unit& unit, std::uint64_t offset) const {
  std::vector<AddressRange> result;
  const Bytes table = unit.skeleton >= 0 ? units_[static_cast<std::size_t>(unit.skeleton)]->sections->ranges.view
                                         : unit.sections->ranges.view;
  ByteReader reader(table, offset);
  const std::uint64_t ones = unit.form.address_size == 4 ? 0xffffffff : ~std::uint64_t(0);
  std::uint64_t base = unit.low_pc;
  while (reader.good()) {
    const std::uint64_t from = reader.unsigned_of(unit.form.address_size);
    const std::uint64_t to = reader.unsigned_of(unit.form.address_size);
    if (from == 0 && to == 0) break;
    if (from == ones) {
      base = to;
    } else {
      result.push_back({base + from, base + to});
    }
  }
  return result;
}

std::vector<LocationPart> DebugInfo::locations(const Entry& entry, At name) const {
  const FormValue* value = entry.find(name);
  if (value == nullptr) return {};
  const Unit& unit = *entry.unit;
  switch (value->kind) {
    case FormClass::block:
    case FormClass::expression: return {{{}, true, value->bytes}};
    case FormClass::location_list_index: {
      const Bytes table = unit.sections->location_lists.view;
      const std::uint64_t size = unit.form.wide ? 8 : 4;
      if (value->number > table.size() / size) return {};
      ByteReader reader(table, unit.location_lists_base + value->number * size);
      const std::uint64_t offset = reader.unsigned_of(size);
      return reader.good() ? location_list(unit, unit.location_lists_base + offset) : std::vector<LocationPart>{};
    }
    case FormClass::offset:
    case FormClass::constant:  // DWARF 2 and 3 had no form of its own for offsets
      return unit.form.version >= 5 ? location_list(unit, value->number) : old_location_list(unit, value->number);
    default: return {};
  }
}

/// DWARF 5, 2.6.2.
std::vector<LocationPart> DebugInfo::location_list(const Unit& unit, std::uint64_t offset) const {
  std::vector<LocationPart> result;
  ByteReader reader(unit.sections->location_lists.view, offset);
  std::uint64_t base = unit.low_pc;
  const auto plain = [&] { return reader.unsigned_of(unit.form.address_size); };
  const auto indexed = [&] { return indexed_address(unit, reader.uleb()).value_or(0); };
  while (reader.good()) {
    LocationPart part;
    switch (reader.u8()) {
      case 0: return result;
      case 1: base = indexed(); continue;
      case 2:
        part.range.from = indexed();
        part.range.to = indexed();
        break;
      case 3:
        part.range.from = indexed();
        part.range.to = part.range.from + reader.uleb();
        break;
      case 4:
        part.range.from = base + reader.uleb();
        part.range.to = base + reader.uleb();
        break;
      case 5: part.always = true; break;
      case 6: base = plain(); continue;
      case 7:
        part.range.from = plain();
        part.range.to = plain();
        break;
      case 8:
        part.range.from = plain();
        part.range.to = part.range.from + reader.uleb();
        break;
      case 9:  // GNU: a pair of view numbers for the next part
        (void)reader.uleb();
        (void)reader.uleb();
        continue;
      default: return result;
    }
    part.expression = reader.bytes(reader.uleb());
    if (reader.good()) result.push_back(part);
  }
  return result;
}

std::vector<LocationPart> DebugInfo::old_location_list(const Unit& unit, std::uint64_t offset) const {
  std::vector<LocationPart> result;
  ByteReader reader(unit.sections->locations.view, offset);
  std::uint64_t base = unit.low_pc;
  if (unit.skeleton >= 0) {  // GNU's form for split units: a kind, indices, a length of two bytes
    while (reader.good()) {
      LocationPart part;
      const std::uint8_t kind = reader.u8();
      if (kind == 0) break;
      if (kind == 1) {
        base = indexed_address(unit, reader.uleb()).value_or(0);
        continue;
      }
      if (kind > 4) break;
      part.range.from = kind == 4 ? base + reader.u32() : indexed_address(unit, reader.uleb()).value_or(0);
      part.range.to = kind == 2   ? indexed_address(unit, reader.uleb()).value_or(0)
                      : kind == 3 ? part.range.from + reader.u32()
                                  : base + reader.u32();
      part.expression = reader.bytes(reader.u16());
      if (reader.good()) result.push_back(part);
    }
    return result;
  }
  const std::uint64_t ones = unit.form.address_size == 4 ? 0xffffffff : ~std::uint64_t(0);
  while (reader.good()) {
    LocationPart part;
    part.range.from = reader.unsigned_of(unit.form.address_size);
    part.range.to = reader.unsigned_of(unit.form.address_size);
    if (part.range.from == 0 && part.range.to == 0) break;
    if (part.range.from == ones) {
      base = part.range.to;
      continue;
    }
    part.range.from += base;
    part.range.to += base;
    part.expression = reader.bytes(reader.u16());
    if (reader.good()) result.push_back(part);
  }
  return result;
}

std::optional<Entry> DebugInfo::with_attribute(const Entry& entry, At name) const {
  constexpr int kMost = 16;  // origins of origins; a damaged file may hold a circle
  Entry at = entry;
  for (int i = 0; i < kMost; ++i) {
    if (at.has(name)) return at;
    EntryPlace next = reference(at, At::abstract_origin);
    if (!next) next = reference(at, At::specification);
    std::optional<Entry> read_entry = read(next);
    if (!read_entry) return std::nullopt;
    at = std::move(*read_entry);
  }
  return std::nullopt;
}

std::string_view DebugInfo::name_of(const Entry& entry) const {
  const auto named = with_attribute(entry, At::name);
  return named ? text(*named, At::name) : std::string_view{};
}

std::string_view DebugInfo::linkage_name_of(const Entry& entry) const {
  for (const At name : {At::linkage_name, At::mips_linkage_name}) {
    if (const auto named = with_attribute(entry, name)) return text(*named, name);
  }
  return {};
}

bool Cursor::next() {
  for (;;) {
    if (started_ && next_depth_ == 0) return false;
    if (!info_.read(unit_, at_, entry_)) return false;
    started_ = true;
    at_ = entry_.after;
    if (entry_.tag == Tag::none) {
      if (next_depth_ <= 1) return false;
      --next_depth_;
      continue;
    }
    depth_ = next_depth_;
    if (entry_.has_children) ++next_depth_;
    return true;
  }
}

void Cursor::skip_children() {
  if (next_depth_ <= depth_) return;
  const std::uint64_t sibling = entry_.number(At::sibling).value_or(0) + unit_.offset;
  if (sibling > entry_.after && sibling < unit_.end) {
    at_ = sibling;
    --next_depth_;
    return;
  }
  const unsigned wanted = depth_ + 1;
  Entry scratch;
  while (next_depth_ >= wanted) {
    if (!info_.read(unit_, at_, scratch)) {
      at_ = unit_.end;
      next_depth_ = 0;
      started_ = true;
      return;
    }
    at_ = scratch.after;
    if (scratch.tag == Tag::none) {
      --next_depth_;
    } else if (scratch.has_children) {
      // A nested list may be jumped over too.
      const std::uint64_t next = scratch.number(At::sibling).value_or(0) + unit_.offset;
      if (next > scratch.after && next < unit_.end) {
        at_ = next;
      } else {
        ++next_depth_;
      }
    }
  }
}

}  // namespace deeptrace::debuginfo
