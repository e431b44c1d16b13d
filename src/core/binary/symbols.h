// Symbol tables (System V ABI, "Symbol Table"), read where they lie: large files have millions of symbols.
#pragma once

#include <cstdint>
#include <iterator>
#include <string_view>
#include <vector>

#include "base/byte_reader.h"

namespace deeptrace::binary {

enum SymbolType : std::uint8_t {
  kNoType = 0,
  kObject = 1,
  kFunction = 2,
  kSectionSymbol = 3,
  kFile = 4,
  kThreadLocal = 6,
  kIndirectFunction = 10
};

struct Symbol {
  std::string_view name;
  std::uint64_t address = 0;
  std::uint64_t size = 0;  ///< bytes; 0 when the file does not say
  SymbolType type = kNoType;
  bool global = false;  ///< or weak
  bool weak = false;
  bool common = false;          ///< storage that the linker makes; `address` is its alignment then
  std::uint8_t visibility = 0;  ///< 0 default, 1 internal, 2 hidden, 3 protected (System V ABI, figure 4-19)
  std::uint32_t section = 0;    ///< index; 0 when undefined
};

/// One entry as it stands in a file.
Symbol read_symbol(ByteReader& reader, Bytes strings, bool wide);

/// Symbols of one table, or of several one after the other. A symbol is made anew each time it is asked for.
class SymbolTable {
 public:
  /// What the file's sections say of a symbol in them.
  struct Place {
    std::uint32_t section = 0;      ///< index that the symbol gets
    std::uint64_t base = 0;         ///< added to its address
    std::string_view section_name;  ///< the name of a section's own symbol
  };

  void add(Bytes entries, Bytes strings, bool wide, std::vector<Place> places);
  /// All tables of another list; `places` are for its sections.
  void add(const SymbolTable& other, const std::vector<Place>& places);

  [[nodiscard]] std::size_t size() const { return size_; }
  [[nodiscard]] bool empty() const { return size_ == 0; }
  [[nodiscard]] Symbol operator[](std::size_t index) const;
  /// The same without its name, which is the costly part.
  [[nodiscard]] Symbol nameless(std::size_t index) const;
  /// The name alone; it ends with a zero byte and stays as long as the file is mapped.
  [[nodiscard]] const char* name_at(std::size_t index) const;

  class Iterator {
   public:
    using iterator_category = std::input_iterator_tag;
    using value_type = Symbol;
    using difference_type = std::ptrdiff_t;
    Iterator() = default;
    Iterator(const SymbolTable* table, std::size_t index) : table_(table), index_(index) {}
    Symbol operator*() const { return (*table_)[index_]; }
    Iterator& operator++() {
      ++index_;
      return *this;
    }
    Iterator operator++(int) { return {table_, index_++}; }
    bool operator==(const Iterator&) const = default;

   private:
    const SymbolTable* table_ = nullptr;
    std::size_t index_ = 0;
  };
  [[nodiscard]] Iterator begin() const { return {this, 0}; }
  [[nodiscard]] Iterator end() const { return {this, size_}; }

 private:
  struct Part {
    Bytes entries, strings;
    bool wide = true;
    std::vector<Place> places;  ///< by section index
    std::size_t first = 0;      ///< number of its first symbol
  };
  [[nodiscard]] const Part& part_of(std::size_t index) const;
  std::vector<Part> parts_;
  std::size_t size_ = 0;
};

}  // namespace deeptrace::binary
