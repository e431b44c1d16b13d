// The line number tables of a file: which source line an address belongs to (DWARF 2 to 5, section 6.2 of the
// DWARF 5 standard).
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "binary/elf.h"
#include "debuginfo/debug_info.h"

namespace deeptrace::debuginfo {

struct SourceLine {
  std::uint32_t file = 0;  ///< index into LineTable::files()
  std::uint32_t line = 0;  ///< 1 and up
};

/// One row of the table: from this address on, until the next row's.
struct LineRow {
  std::uint64_t address = 0;
  std::uint32_t file = 0;
  std::uint32_t line = 0;     ///< 0: the compiler says that these instructions belong to no line
  bool statement = false;     ///< a recommended stop
  bool prologue_end = false;  ///< behind the function's entry code
  bool ends = false;          ///< the address behind a run of instructions; starts nothing
};

class LineTable {
 public:
  /// Reads all tables of the file. What is damaged is left out and told by `note`.
  static LineTable read(const binary::Elf& elf, const DebugInfo& info);

  [[nodiscard]] bool empty() const { return rows_.empty(); }
  /// Source paths as the compiler wrote them, made absolute with the compilation directory.
  [[nodiscard]] const std::vector<std::string>& files() const { return files_; }
  /// Rows by address; where several have the same address, the last one counts.
  [[nodiscard]] const std::vector<LineRow>& rows() const { return rows_; }
  /// The line that the instruction at `address` belongs to.
  [[nodiscard]] std::optional<SourceLine> at(std::uint64_t address) const;
  /// The file, as an index into files(), that a unit's table at `table` of .debug_line gives a number.
  [[nodiscard]] std::optional<std::uint32_t> file_of(std::uint64_t table, std::uint64_t number) const;
  /// True when `address` lies in code that a table describes, with or without a line.
  [[nodiscard]] bool covers(std::uint64_t address) const;
  /// True when a row begins at `address`: the compiler put an instruction there.
  [[nodiscard]] bool starts_row(std::uint64_t address) const;
  /// What could not be read; empty when all could.
  [[nodiscard]] const std::string& note() const { return note_; }

 private:
  friend class LineReader;
  [[nodiscard]] const LineRow* row_at(std::uint64_t address) const;

  std::vector<std::string> files_;
  std::vector<LineRow> rows_;
  std::unordered_map<std::uint64_t, std::vector<std::uint32_t>> tables_;  ///< each one's files, by its offset
  std::string note_;
};

}  // namespace deeptrace::debuginfo
