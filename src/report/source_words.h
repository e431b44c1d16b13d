// Source lines as they are shown in text.
#pragma once

#include <fmt/format.h>

#include <filesystem>
#include <string>
#include <string_view>

#include "base/path.h"
#include "program/source_text.h"
#include "report/output.h"

namespace deeptrace::report {

/// Tabs become spaces; other control characters are escaped.
inline std::string printable_source(std::string_view text) {
  std::string spaces;
  for (const char c : text) {
    if (c == '\t') {
      spaces += "    ";
    } else {
      spaces += c;
    }
  }
  return printable(spaces);
}

/// A source line with its number; where its file is not found, the file's name stands in the text's place.
inline std::string source_line(program::SourceText& sources, const std::string& path, std::uint32_t line) {
  const auto text = sources.line(path, line);
  const std::string words = text ? printable_source(*text) : sources.found(path) ? "" : printable(base_name(path));
  return fmt::format("{:>7}  {}", line, words);
}

/// "the binary is older than …" is said where a source was changed after the file was built.
inline bool changed_since(const std::string& source, const std::string& binary) {
  std::error_code problem;
  const auto source_time = std::filesystem::last_write_time(source, problem);
  if (problem) return false;
  const auto binary_time = std::filesystem::last_write_time(binary, problem);
  return !problem && source_time > binary_time;
}

}  // namespace deeptrace::report
