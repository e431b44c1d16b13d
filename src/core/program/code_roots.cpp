#include "program/code_roots.h"

#include <algorithm>
#include <cstring>

#include "base/address_range.h"
#include "debuginfo/unwind_table.h"

namespace deeptrace::program {
namespace {

class Roots {
 public:
  explicit Roots(const binary::Elf& elf) : elf_(elf) {
    for (const binary::Section& section : elf.sections()) {
      if (section.is_code()) code_.push_back({section.address, section.address + section.size});
    }
  }

  /// Sections are few, and most addresses lie in the one that the address before lay in.
  void add(std::uint64_t address) {
    if (last_ < code_.size() && code_[last_].holds(address)) return found_.push_back(address);
    for (std::size_t i = 0; i < code_.size(); ++i) {
      if (!code_[i].holds(address)) continue;
      last_ = i;
      return found_.push_back(address);
    }
  }

  /// The addresses that a section holds.
  void add_words(std::string_view name) {
    const binary::Section* section = elf_.section_named(name);
    if (section == nullptr) return;
    const Bytes words = elf_.bytes_of(*section);
    const std::size_t size = elf_.machine().word;
    for (std::size_t at = 0; at + size <= words.size(); at += size) {
      std::uint64_t address = 0;
      std::memcpy(&address, words.data() + at, size);
      add(address);
    }
  }

  std::vector<std::uint64_t> in_order() && {
    std::ranges::sort(found_);
    return std::move(found_);
  }

 private:
  const binary::Elf& elf_;
  std::vector<AddressRange> code_;
  std::vector<std::uint64_t> found_;
  std::size_t last_ = 0;
};

}  // namespace

std::vector<std::uint64_t> code_roots(const binary::Elf& elf, std::span<const binary::Relocation> relocations) {
  Roots roots(elf);
  roots.add(elf.entry());
  for (const binary::Symbol& symbol : elf.symbols()) {
    if (symbol.type == binary::kFunction || symbol.type == binary::kIndirectFunction) roots.add(symbol.address);
  }
  if (elf.kind() == binary::Kind::relocatable) return std::move(roots).in_order();
  const debuginfo::CodeEntries entries = debuginfo::code_entries(elf);
  for (const std::uint64_t address : entries.functions) roots.add(address);
  for (const std::uint64_t address : entries.landing_pads) roots.add(address);
  for (const binary::Relocation& relocation : relocations)
    roots.add(relocation.symbol_value + static_cast<std::uint64_t>(relocation.addend));
  for (const std::string_view name : {".init_array", ".fini_array", ".preinit_array"}) roots.add_words(name);
  return std::move(roots).in_order();
}

}  // namespace deeptrace::program
