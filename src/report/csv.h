// Comma-separated values (RFC 4180).
#pragma once

#include <algorithm>
#include <charconv>
#include <cstddef>
#include <cstdint>
#include <span>
#include <string>
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
    add_quoted(text);
    out_.add('"');
    return *this;
  }
  /// One cell that lists them, with ", " between them.
  CsvWriter& list(std::span<const std::string> texts) {
    if (texts.size() < 2) return cell(texts.empty() ? std::string_view() : texts.front());
    out_.add(first_ ? "\"" : ",\"");
    first_ = false;
    for (std::size_t i = 0; i < texts.size(); ++i) {
      if (i != 0) out_.add(", ");
      add_quoted(texts[i]);
    }
    out_.add('"');
    return *this;
  }
  CsvWriter& number(std::uint64_t value, int base = 10) {
    constexpr std::size_t kMost = 24;  // characters: a comma, "0x" and 20 digits
    char* const start = out_.room(kMost);
    char* at = start;
    if (!first_) *at++ = ',';
    first_ = false;
    if (base == 16) at = std::copy_n("0x", 2, at);
    out_.wrote(static_cast<std::size_t>(std::to_chars(at, start + kMost, value, base).ptr - start));
    return *this;
  }
  /// Cells as another writer wrote them: a row's end is not among them.
  CsvWriter& written(std::string_view cells) {
    if (!first_) out_.add(',');
    first_ = false;
    out_.add(cells);
    return *this;
  }
  void end_row() {
    out_.add("\r\n");
    first_ = true;
  }

 private:
  void add_quoted(std::string_view text) {
    for (std::size_t end = text.find('"'); end != std::string_view::npos; end = text.find('"')) {
      out_.add(text.substr(0, end + 1));
      out_.add('"');
      text.remove_prefix(end + 1);
    }
    out_.add(text);
  }

  Output& out_;
  bool first_ = true;
};

}  // namespace deeptrace::report
