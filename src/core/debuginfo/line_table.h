// The line number tables of a file: which source line an address belongs to (DWARF 2 to 5, section 6.2 of the
// DWARF 5 standard).
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <unordered_map>
#include <vector>

#include "binary/elf.h"
#include "debuginfo/debug_info.h"

namespace deeptrace::debuginfo {

struct SourceLine {
  std::uint32_t file = 0;  ///< index into LineTable::files()
  std::uint32_t line = 0;  ///< 1 and up
  friend bool operator==(const SourceLine&, const SourceLine&) = default;
};

/// One row of the table: from this address on, until the next row's.
struct LineRow {
  std::uint64_t address = 0;
  std::uint32_t file = 0;
  std::uint32_t line = 0;     ///< 0: the compiler says that these instructions belong to no line
  bool statement = false;     ///< a recommended stop
  bool prologue_end = false;  ///< after the function's prologue
  bool ends = false;          ///< the address after a run of instructions; starts nothing
  /// How many rows of the same run stand at the address before this one. The line of a row that another follows at the
  /// same address has a place in the program (a value of it may begin there) but no instruction there. Location lists
  /// of gcc count places the same way (its manual, -gvariable-location-views).
  std::uint16_t view = 0;
  std::uint16_t column = 0;  ///< 1 and up; 0: unknown, or beyond 65535
};

class LineReader;

/// Small tables are read at once. Of large ones (kLarge bytes and more) the part of each unit is read when its first
/// address is asked for; what was read is dropped again when it grows too much. Not safe for use by two threads at once
/// then: see `is_lazy`.
class LineTable {
 public:
  static constexpr std::size_t kLarge = std::size_t(1) << 23;

  LineTable();
  LineTable(LineTable&&) noexcept;
  LineTable& operator=(LineTable&&) noexcept;
  ~LineTable();

  /// What is damaged is left out and said by `note`. `large` is for tests.
  static LineTable read(const binary::Elf& elf, const DebugInfo& info, std::size_t large = kLarge);

  [[nodiscard]] bool empty() const;
  [[nodiscard]] bool is_lazy() const { return !parts_.empty(); }
  /// Source paths as the compiler wrote them, made absolute with the compilation directory.
  [[nodiscard]] const std::vector<std::string>& files() const;
  /// One of them; the rest need not be read for it.
  [[nodiscard]] const std::string& file(std::uint32_t number) const;
  /// Calls `visit` with runs of rows by address; where several rows have the same address, the last one counts. A run
  /// ends where no row of another begins, so a row's end is the next one's address. A span holds during the call.
  void each_run(const std::function<void(std::span<const LineRow>)>& visit) const;
  /// The line that the instruction at `address` belongs to.
  [[nodiscard]] std::optional<SourceLine> at(std::uint64_t address) const;
  /// The first line that any instruction of a range belongs to.
  [[nodiscard]] std::optional<SourceLine> first_in(AddressRange range) const;
  /// The file, as an index into files(), that a unit's table at `table` of .debug_line gives a number.
  [[nodiscard]] std::optional<std::uint32_t> file_of(std::uint64_t table, std::uint64_t number) const;
  /// The line that an entry of a unit names by the number of its file (DW_AT_decl_file, DW_AT_call_file) and its own;
  /// nothing when either is unknown.
  [[nodiscard]] std::optional<SourceLine> line_of(const Unit& unit, std::optional<std::uint64_t> file,
                                                  std::uint32_t line) const;
  /// True when `address` lies in code that a table describes, with or without a line.
  [[nodiscard]] bool covers(std::uint64_t address) const;
  /// True when a row begins at `address`: the compiler put an instruction there.
  [[nodiscard]] bool starts_row(std::uint64_t address) const;
  /// All rows that begin at `address`, in the order of the program; the last one counts. Holds until the next call.
  [[nodiscard]] std::span<const LineRow> rows_at(std::uint64_t address) const;
  /// All rows that begin in a range of one unit's code, ends of runs included. Holds until the next call.
  [[nodiscard]] std::span<const LineRow> rows_in(AddressRange range) const;
  /// True when a row begins at `address` that the compiler recommends for stopping.
  [[nodiscard]] bool starts_statement(std::uint64_t address) const;
  /// What could not be read; empty when all could.
  [[nodiscard]] const std::string& note() const { return note_; }

 private:
  friend class LineReader;
  /// A unit's table, of those that are read when they are needed.
  struct Part {
    std::uint64_t offset = 0;  ///< in .debug_line
    bool loaded = false;
    std::vector<LineRow> rows;
  };
  struct Held {
    AddressRange range;
    std::size_t part;
  };
  [[nodiscard]] const std::vector<LineRow>& rows_for(std::uint64_t address) const;
  [[nodiscard]] const LineRow* row_at(std::uint64_t address) const;
  void load(Part& part) const;

  std::unique_ptr<LineReader> reader_;  ///< kept for parts
  mutable std::vector<std::string> files_;
  std::vector<LineRow> rows_;  ///< of tables that were read at once
  mutable std::vector<Part> parts_;
  std::vector<Held> by_address_;
  mutable std::size_t loaded_rows_ = 0;
  mutable bool all_files_ = true;
  mutable std::unordered_map<std::uint64_t, std::vector<std::uint32_t>> tables_;  ///< each one's files, by its offset
  mutable std::string note_;
};

}  // namespace deeptrace::debuginfo
