#include "binary/symbols.h"

namespace deeptrace::binary {
namespace {

std::size_t entry_size(bool wide) { return wide ? 24 : 16; }

/// All but the name.
Symbol read_nameless(ByteReader& reader, bool wide, std::uint32_t& name) {
  Symbol symbol;
  name = reader.u32();
  if (!wide) {
    symbol.address = reader.u32();
    symbol.size = reader.u32();
  }
  const std::uint8_t info = reader.u8();
  symbol.visibility = reader.u8() & 3;
  symbol.section = reader.u16();
  if (wide) {
    symbol.address = reader.u64();
    symbol.size = reader.u64();
  }
  symbol.type = static_cast<SymbolType>(info & 15);
  symbol.global = (info >> 4) != 0;
  symbol.weak = (info >> 4) == 2;
  symbol.common = symbol.section == 0xfff2;
  return symbol;
}

}  // namespace

Symbol read_symbol(ByteReader& reader, Bytes strings, bool wide) {
  std::uint32_t name = 0;
  Symbol symbol = read_nameless(reader, wide, name);
  symbol.name = string_at(strings, name);
  return symbol;
}

void SymbolTable::add(Bytes entries, Bytes strings, bool wide, std::vector<Place> places) {
  parts_.push_back({entries, strings, wide, std::move(places), size_});
  size_ += entries.size() / entry_size(wide);
}

void SymbolTable::add(const SymbolTable& other, const std::vector<Place>& places) {
  for (const Part& part : other.parts_) add(part.entries, part.strings, part.wide, places);
}

const SymbolTable::Part& SymbolTable::part_of(std::size_t index) const {
  const Part* part = &parts_.back();
  while (part->first > index) --part;
  return *part;
}

Symbol SymbolTable::nameless(std::size_t index) const {
  const Part& part = part_of(index);
  ByteReader reader(part.entries, (index - part.first) * entry_size(part.wide));
  std::uint32_t name = 0;
  Symbol symbol = read_nameless(reader, part.wide, name);
  if (symbol.section >= 0xff00) symbol.section = 0;  // absolute, common: no section
  if (symbol.section >= part.places.size()) return symbol;
  const Place& place = part.places[symbol.section];
  if (symbol.section != 0) symbol.address += place.base;
  if (symbol.type == kSectionSymbol) symbol.name = place.section_name;
  symbol.section = place.section;
  return symbol;
}

const char* SymbolTable::name_at(std::size_t index) const {
  const Part& part = part_of(index);
  ByteReader reader(part.entries, (index - part.first) * entry_size(part.wide));
  const std::uint32_t name = reader.u32();
  // A table that does not end with a zero byte is damaged; its last name is not to be read beyond the end.
  const bool ended = !part.strings.empty() && part.strings.back() == 0;
  if (!ended && string_at(part.strings, name).empty()) return "";
  return name < part.strings.size() ? reinterpret_cast<const char*>(part.strings.data() + name) : "";
}

Symbol SymbolTable::operator[](std::size_t index) const {
  Symbol symbol = nameless(index);
  if (symbol.type != kSectionSymbol) symbol.name = name_at(index);
  return symbol;
}

}  // namespace deeptrace::binary
