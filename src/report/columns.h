// The columns of a row, described once for the forms that machines read: JSON objects and CSV lines.
#pragma once

#include <fmt/format.h>

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <variant>

#include "report/csv.h"
#include "report/json.h"

namespace deeptrace::report {

/// The value of a column: null in JSON and empty in CSV where there is none. Text of a row is not copied: a cell is
/// written while its row is there.
class Cell {
 public:
  static Cell string(std::string_view text) { return Cell(text); }
  static Cell string(const char* text) { return Cell(std::string_view(text)); }
  static Cell string(std::string&& text) { return Cell(std::move(text)); }
  /// Nothing when it is empty.
  static Cell text(std::string_view text) { return text.empty() ? Cell() : Cell(text); }
  static Cell text(const char* text) { return Cell::text(std::string_view(text)); }
  static Cell text(std::string&& text) { return text.empty() ? Cell() : Cell(std::move(text)); }
  /// An address: "0x401136".
  static Cell address(std::uint64_t value) { return Cell(Address{value}); }
  static Cell number(std::uint64_t value) { return Cell(value); }
  /// A source line: nothing when it is 0.
  static Cell line(std::uint32_t line) { return line == 0 ? Cell() : Cell(std::uint64_t(line)); }
  static Cell boolean(bool value) { return Cell(value); }

  void write(JsonWriter& json) const {
    if (const auto* text = std::get_if<std::string_view>(&value_)) return json.string(*text);
    if (const auto* made = std::get_if<std::string>(&value_)) return json.string(*made);
    if (const auto* address = std::get_if<Address>(&value_)) return json.hex(address->value);
    if (const auto* number = std::get_if<std::uint64_t>(&value_)) return json.number(*number);
    if (const auto* flag = std::get_if<bool>(&value_)) return json.boolean(*flag);
    json.null();
  }
  void write(CsvWriter& csv) const {
    if (const auto* number = std::get_if<std::uint64_t>(&value_)) {
      csv.number(*number);
    } else if (const auto* text = std::get_if<std::string_view>(&value_)) {
      csv.cell(*text);
    } else if (const auto* made = std::get_if<std::string>(&value_)) {
      csv.cell(*made);
    } else if (const auto* address = std::get_if<Address>(&value_)) {
      csv.number(address->value, 16);
    } else if (const auto* flag = std::get_if<bool>(&value_)) {
      csv.cell(*flag ? "true" : "false");
    } else {
      csv.cell("");
    }
  }

 private:
  struct Address {
    std::uint64_t value;
  };
  using Value = std::variant<std::monostate, std::string_view, std::string, Address, std::uint64_t, bool>;
  Cell() = default;
  explicit Cell(Value value) : value_(std::move(value)) {}
  Value value_;
};

enum class Forms : std::uint8_t { both, json, csv };

template <class Row>
struct Column {
  std::string_view name;
  Cell (*of)(const Row& row);
  Forms forms = Forms::both;
};

/// The columns as members of the object that is open.
template <class Row>
void put_members(JsonWriter& json, std::span<const Column<Row>> columns, const Row& row) {
  for (const Column<Row>& column : columns) {
    if (column.forms == Forms::csv) continue;
    json.key(column.name);
    column.of(row).write(json);
  }
}

template <class Row>
void put_heads(CsvWriter& csv, std::span<const Column<Row>> columns) {
  for (const Column<Row>& column : columns) {
    if (column.forms != Forms::json) csv.cell(column.name);
  }
}

template <class Row>
void put_cells(CsvWriter& csv, std::span<const Column<Row>> columns, const Row& row) {
  for (const Column<Row>& column : columns) {
    if (column.forms != Forms::json) column.of(row).write(csv);
  }
}

}  // namespace deeptrace::report
