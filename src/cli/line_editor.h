// The line that is typed in the full screen: readline's editing, history and keys, without readline's own output. What
// is shown of it is drawn by the screen.
#pragma once

#include <cstddef>
#include <cstdio>
#include <string>
#include <string_view>

namespace deeptrace::cli {

/// There can be one at a time, as readline keeps its state to itself.
class LineEditor {
 public:
  LineEditor();
  ~LineEditor();
  LineEditor(const LineEditor&) = delete;
  LineEditor& operator=(const LineEditor&) = delete;

  /// Bytes as a terminal sends them: characters of UTF-8, control characters, escape sequences of keys.
  void type(std::string_view bytes);
  /// Puts text in place of what stands from byte `from` to the cursor.
  void replace(std::size_t from, const std::string& text);
  void clear();
  /// Adds a line to the history.
  void remember(const std::string& line);

  [[nodiscard]] std::string text() const;
  /// Bytes before the cursor.
  [[nodiscard]] std::size_t cursor() const;

 private:
  std::FILE* nowhere_;
};

}  // namespace deeptrace::cli
