// Comma-separated values (RFC 4180).
#pragma once

#include <charconv>
#include <cstdint>
#include <string_view>

#include "report/any_character.h"
#include "report/output.h"

namespace deeptrace::report {

class CsvWriter {
 public:
  explicit CsvWriter(Output& out) : out_(out) {}

  CsvWriter& cell(std::string_view text) {
    if (!first_) out_.add(',');
    first_ = false;
    if (!any_character(text, [](auto c) { return (c == ',') | (c == '"') | (c == '\r') | (c == '\n'); })) {
      out_.add(text);
      return *this;
    }
    out_.add('"');
    for (std::size_t end = text.find('"'); end != std::string_view::npos; end = text.find('"')) {
      out_.add(text.substr(0, end + 1));
      out_.add('"');
      text.remove_prefix(end + 1);
    }
    out_.add(text);
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
