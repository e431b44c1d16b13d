// Comma-separated values (RFC 4180).
#pragma once

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
  void end_row() {
    out_.add("\r\n");
    first_ = true;
  }

 private:
  Output& out_;
  bool first_ = true;
};

}  // namespace deeptrace::report
