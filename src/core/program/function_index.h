// What is known of the functions of a large file, kept in the user's cache folder, so that it is opened at once the
// next time. The file's size, its time of change and its inode number tell whether the index still fits; a file that
// was changed gets a new one.
#pragma once

#include <memory>
#include <optional>
#include <span>
#include <string>

#include "base/mapped_file.h"
#include "binary/elf.h"
#include "program/function_list.h"

namespace deeptrace::program {

/// Files with fewer functions open fast without.
inline constexpr std::size_t kManyFunctions = 100000;

class FunctionIndex {
 public:
  /// The index that fits a file, or null. The file must stay mapped as long.
  static std::shared_ptr<const FunctionIndex> find(const binary::Elf& elf);
  /// Writes one; what cannot be written is left undone. The file's symbols must be its own.
  static void keep(const binary::Elf& elf, const FunctionList& functions, std::span<const Label> labels);

  [[nodiscard]] std::size_t size() const { return rows_.size(); }
  /// Function `number`, by address.
  [[nodiscard]] Function function(std::size_t number) const;
  /// How many functions begin at or before an address.
  [[nodiscard]] std::size_t at_or_before(std::uint64_t address) const;
  [[nodiscard]] std::vector<Label> labels() const;
  /// Numbers of the functions whose linker's name holds a word.
  [[nodiscard]] std::vector<std::size_t> with_word(std::string_view word) const;

 private:
  struct Row {
    std::uint64_t address = 0;
    std::uint32_t size = 0;  ///< bytes
    std::uint32_t name = 0;  ///< offset in the string table, or of a name of our own in the index
    std::uint16_t section = 0;
    std::uint8_t origin = 0;
    std::uint8_t typed = 0;
    std::uint32_t spare = 0;
  };
  struct NamedRow {
    std::uint32_t name = 0, number = 0;
  };
  struct LabelRow {
    std::uint64_t address = 0;
    std::uint64_t name = 0;
  };
  struct Header;

  explicit FunctionIndex(MappedFile file) : file_(std::move(file)) {}
  bool read(const binary::Elf& elf);
  [[nodiscard]] std::string_view own_name(std::uint32_t offset) const;

  MappedFile file_;
  std::span<const Row> rows_;         ///< by address
  std::span<const NamedRow> names_;   ///< of functions with symbols, by name
  std::span<const LabelRow> labels_;  ///< by address
  Bytes own_names_;                   ///< of functions without symbols
  Bytes strings_;                     ///< of the file, which must stay mapped: the symbols' names
  std::size_t sections_ = 0;          ///< how many the file has
};

}  // namespace deeptrace::program
