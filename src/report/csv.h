// Comma-separated values (RFC 4180).
#pragma once

#include <charconv>
#include <cstdint>
#include <string_view>

#include "report/output.h"

namespace deeptrace::report {

class CsvWriter {
 public:
  explicit CsvWriter(Output& out) : out_(out) {}

  CsvWriter& cell(std::string_view text) {
    if (!first_) out_.add(',');
    first_ = false;
    if (text.find_first_of(",\"\r\n") == std::string_view::npos) {
      out_.add(text);
      return *this;
    }
    out_.add('"');
    for (const char c : text) {
      if (c == '"') out_.add('"');
      out_.add(c);
    }
    out_.add('"');
    return *this;
  }
  CsvWriter& number(std::uint64_t value, int base = 10) {
    char text[24];
    const auto end = std::to_chars(text, text + sizeof text, value, base).ptr;
    if (!first_) out_.add(',');
    first_ = false;
    if (base == 16) out_.add("0x");
    out_.add({text, static_cast<std::size_t>(end - text)});
    return *this;
  }
  void end_row() {
    out_.add("\r\n");
    first_ = true;
  }

 private:
  Output& out_;
  bool first_ = true;
};

}  // namespace deeptrace::report
