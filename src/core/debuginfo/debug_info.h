// Debug information entries: units, the entries in them, their attributes, and what attributes refer to (DWARF 2 to 5,
// sections 2 and 7.5; split debug information, section 7.3).
//
//   const DebugInfo info(elf);
//   for (const Unit& unit : info.units())
//     for (Cursor at(info, unit); at.next();)
//       if (at.entry().tag == Tag::variable) … info.name_of(at.entry()) …
//
// Entries are read where they lie; nothing but a unit's first entry is kept. Damaged entries end their unit. Not safe
// for use by two threads at once: the tables of abbreviations are read when they are first needed.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "base/address_range.h"
#include "binary/elf.h"
#include "debuginfo/constants.h"
#include "debuginfo/forms.h"

namespace deeptrace::debuginfo {

/// The sections of one file, or of one unit's share in a package of split units.
struct DebugSections {
  DebugSections() = default;
  explicit DebugSections(const binary::Elf& elf, bool split = false);

  binary::SectionBytes info, types, abbreviations, strings, line_strings, string_offsets, addresses;
  binary::SectionBytes ranges, range_lists, locations, location_lists;
  Bytes other_info, other_strings;  ///< of the supplementary file that several files share
};

struct Unit {
  const DebugSections* sections = nullptr;
  Bytes section;  ///< the one it lies in: .debug_info, or .debug_types of DWARF 4
  std::uint32_t index = 0;
  UnitType type = UnitType::compile;
  FormContext form;
  std::uint64_t offset = 0;         ///< of the header, in its section
  std::uint64_t first_entry = 0;    ///< offset
  std::uint64_t end = 0;            ///< offset after it
  std::uint64_t abbreviations = 0;  ///< offset in .debug_abbrev
  std::uint64_t signature = 0;      ///< of a type unit; the identity of a split one
  std::uint64_t type_entry = 0;     ///< of a type unit: offset of the type, from the unit's start

  // What the first entry says:
  std::string_view name, directory, producer, dwo_name;
  std::uint16_t language = 0;
  std::optional<std::uint64_t> line_table;  ///< offset in .debug_line
  std::uint64_t low_pc = 0;                 ///< what ranges and locations count from
  std::uint64_t string_offsets_base = 0, address_base = 0, range_lists_base = 0, location_lists_base = 0;
  std::uint64_t ranges_base = 0;  ///< of split units of DWARF 4
  std::vector<AddressRange> ranges;
  bool says_ranges = false;    ///< it says where its code lies, be it nowhere
  std::int64_t skeleton = -1;  ///< index of the unit that stands for this one in the linked file; -1: none

  [[nodiscard]] bool is_of_gcc() const { return producer.starts_with("GNU "); }
};

struct Attribute {
  At name = At::none;
  FormValue value;
};

struct Entry {
  const Unit* unit = nullptr;
  std::uint64_t offset = 0;  ///< in the unit's section
  std::uint64_t after = 0;   ///< offset of what follows
  Tag tag = Tag::none;       ///< none: the end of a list of siblings
  bool has_children = false;
  std::vector<Attribute> attributes;

  [[nodiscard]] const FormValue* find(At name) const {
    for (const Attribute& attribute : attributes) {
      if (attribute.name == name) return &attribute.value;
    }
    return nullptr;
  }
  [[nodiscard]] bool has(At name) const { return find(name) != nullptr; }
  [[nodiscard]] bool flag(At name) const {
    const FormValue* value = find(name);
    return value != nullptr && value->number != 0;
  }
  [[nodiscard]] std::optional<std::uint64_t> number(At name) const {
    const FormValue* value = find(name);
    return value == nullptr || !value->bytes.empty() ? std::nullopt : std::optional(value->number);
  }
};

/// Where an entry lies.
struct EntryPlace {
  const Unit* unit = nullptr;
  std::uint64_t offset = 0;
  explicit operator bool() const { return unit != nullptr; }
  bool operator==(const EntryPlace&) const = default;
};

/// A location expression and the addresses for which it holds.
struct LocationPart {
  AddressRange range;   ///< meaningless when `always`
  bool always = false;  ///< holds everywhere in the variable's scope
  Bytes expression;
};

class DebugInfo {
 public:
  DebugInfo() = default;
  /// Reads the headers of all units of a file and its split parts. `supplementary` is the file that several share
  /// (.gnu_debugaltlink), or null; both must outlive the result.
  explicit DebugInfo(const binary::Elf& elf, const binary::Elf* supplementary = nullptr);

  [[nodiscard]] const std::vector<std::unique_ptr<Unit>>& units() const { return units_; }
  [[nodiscard]] bool empty() const { return units_.empty(); }
  /// True when it describes an object file, in which 0 is an address like others.
  [[nodiscard]] bool relocatable() const { return relocatable_; }
  /// The units whose code may hold an address: those that say so, and those that do not say what they hold.
  [[nodiscard]] std::vector<const Unit*> units_at(std::uint64_t address) const;

  /// Reads an entry; false where none can be read.
  bool read(const Unit& unit, std::uint64_t offset, Entry& into) const;
  [[nodiscard]] std::optional<Entry> read(EntryPlace place) const;

  /// The string of an attribute.
  [[nodiscard]] std::string_view text(const Unit& unit, const FormValue& value) const;
  [[nodiscard]] std::string_view text(const Entry& entry, At name) const;
  /// The address that an attribute gives.
  [[nodiscard]] std::optional<std::uint64_t> address(const Unit& unit, const FormValue& value) const;
  /// The offset of a thread's own variable in the block of them, from the operand that its expression gives. gcc with
  /// split debug information writes where the initial value lies in its place (an address of the segment).
  [[nodiscard]] std::uint64_t thread_offset(std::uint64_t operand) const {
    return operand >= thread_block_.size() && thread_block_.holds(operand) ? operand - thread_block_.from : operand;
  }
  /// An address of .debug_addr.
  [[nodiscard]] std::optional<std::uint64_t> indexed_address(const Unit& unit, std::uint64_t index) const;
  /// The entry that an attribute refers to; nothing when it lies nowhere.
  [[nodiscard]] EntryPlace reference(const Unit& unit, const FormValue& value) const;
  [[nodiscard]] EntryPlace reference(const Entry& entry, At name) const;
  /// The code that an entry covers, from low_pc and high_pc or from ranges.
  [[nodiscard]] std::vector<AddressRange> ranges(const Entry& entry) const;
  /// The expressions of an attribute that holds one, or a list of them.
  [[nodiscard]] std::vector<LocationPart> locations(const Entry& entry, At name) const;

  /// Follows abstract origins and specifications to the first entry that has the attribute; bounded, so that circles
  /// end. The entry itself comes first.
  [[nodiscard]] std::optional<Entry> with_attribute(const Entry& entry, At name) const;
  /// The name of an entry or of what it is an instance of.
  [[nodiscard]] std::string_view name_of(const Entry& entry) const;
  /// The name for the linker of an entry or of what it is an instance of; empty where there is none.
  [[nodiscard]] std::string_view linkage_name_of(const Entry& entry) const;

  /// What could not be found or read; empty when all could.
  [[nodiscard]] const std::string& note() const { return note_; }

 private:
  struct Specification {
    std::uint16_t name = 0, form = 0;
    std::int64_t implicit = 0;
  };
  struct Abbreviation {
    std::uint64_t code = 0;
    Tag tag = Tag::none;
    bool has_children = false;
    std::uint32_t first = 0, count = 0;  ///< of the specifications
  };
  struct AbbreviationTable {
    std::vector<Abbreviation> rows;  ///< by code
    std::vector<Specification> specifications;
    bool dense = true;  ///< row i has the code i + 1
    [[nodiscard]] const Abbreviation* find(std::uint64_t code) const;
  };

  struct Held {
    AddressRange range;
    std::uint32_t unit;
  };
  void index_ranges();
  void read_units(const DebugSections& sections, Bytes section, bool types);
  bool read_header(ByteReader& reader, Unit& unit, bool types) const;
  void read_root(Unit& unit) const;
  void add_split_units(const binary::Elf& elf);
  void add_package(const binary::Elf& elf);
  const AbbreviationTable& abbreviations_of(const Unit& unit) const;
  bool read_attributes(const Unit& unit, const AbbreviationTable& table, ByteReader& reader, Entry& into) const;
  [[nodiscard]] std::vector<AddressRange> range_list(const Unit& unit, std::uint64_t offset) const;
  [[nodiscard]] std::vector<AddressRange> old_range_list(const Unit& unit, std::uint64_t offset) const;
  [[nodiscard]] std::vector<LocationPart> location_list(const Unit& unit, std::uint64_t offset) const;
  [[nodiscard]] std::vector<LocationPart> old_location_list(const Unit& unit, std::uint64_t offset) const;

  AddressRange thread_block_;  ///< the segment of thread-local variables; empty without one
  bool relocatable_ = false;
  std::vector<std::unique_ptr<DebugSections>> sections_;
  std::vector<std::unique_ptr<binary::Elf>> files_;  ///< of split debug information
  std::vector<std::unique_ptr<Unit>> units_;
  std::vector<Held> by_address_;         ///< by the ranges' start; ranges may overlap in objects only
  std::vector<std::uint32_t> anywhere_;  ///< units that do not say where their code lies
  /// Units of one section follow each other in order.
  struct Group {
    const std::uint8_t* section;
    std::size_t first, last;  ///< of units_; past the last
  };
  std::vector<Group> groups_;
  std::unordered_map<std::uint64_t, const Unit*> signatures_;
  struct Key {
    const std::uint8_t* data;
    std::uint64_t offset;
    bool operator==(const Key&) const = default;
  };
  struct KeyHash {
    std::size_t operator()(const Key& k) const {
      return std::hash<const void*>()(k.data) ^ k.offset * 0x9e3779b97f4a7c15;
    }
  };
  mutable std::unordered_map<Key, AbbreviationTable, KeyHash> abbreviations_;
  mutable std::uint64_t abbreviation_room_ = 0;  ///< bytes that tables may still take (damaged files)
  std::string note_;
};

/// Goes over the entries of a unit, or of the part of it below one entry, in the order of the file.
class Cursor {
 public:
  /// Over a whole unit, its first entry included.
  Cursor(const DebugInfo& info, const Unit& unit) : Cursor(info, unit, unit.first_entry) {}
  /// Over the entry at an offset and all below it.
  Cursor(const DebugInfo& info, const Unit& unit, std::uint64_t offset) : info_(info), unit_(unit), at_(offset) {}

  /// Moves to the next entry; false past the last.
  bool next();
  /// How deep the entry lies below the first, which is 0.
  [[nodiscard]] unsigned depth() const { return depth_; }
  [[nodiscard]] const Entry& entry() const { return entry_; }
  /// The next one will not lie below this one.
  void skip_children();

 private:
  const DebugInfo& info_;
  const Unit& unit_;
  std::uint64_t at_;
  unsigned depth_ = 0, next_depth_ = 0;
  bool started_ = false;
  Entry entry_;
};

}  // namespace deeptrace::debuginfo
