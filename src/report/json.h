// A streaming JSON writer: values go out as they come, so a report of any length needs no memory, and `close_all`
// makes what was written so far a valid document.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "report/output.h"

namespace deeptrace::report {

/// Adds `text` as a JSON string with its quotes.
void add_json_string(std::string& to, std::string_view text);

class JsonWriter {
 public:
  explicit JsonWriter(Output& out) : out_(out) {}

  void begin_object() { open('{', '}'); }
  void begin_array() { open('[', ']'); }
  void end() {
    out_.add(open_.back().closing);
    open_.pop_back();
  }
  void close_all() {
    while (!open_.empty()) end();
    out_.add('\n');
  }
  /// A line end before the next element, for files that people look into.
  void new_line() { line_pending_ = true; }

  JsonWriter& key(std::string_view name) {
    string(name);
    out_.add(':');
    after_key_ = true;
    return *this;
  }

  void string(std::string_view text);
  void number(std::uint64_t value);
  void boolean(bool value) { raw(value ? "true" : "false"); }
  void null() { raw("null"); }
  /// "0x1f" in quotes, without leading zeros.
  void hex(std::uint64_t value);
  /// Bytes as plain hexadecimal digits in memory order, in quotes.
  void bytes(const std::uint8_t* data, std::size_t size);
  /// A value that the caller has put together as JSON text.
  void ready_made(std::string_view text) { raw(text); }
  /// A string, or null when it is empty.
  void string_or_null(std::string_view text) { text.empty() ? null() : string(text); }

 private:
  struct Level {
    char closing;
    bool empty;
  };
  void separate();
  void raw(std::string_view text) {
    separate();
    out_.add(text);
  }
  void open(char opening, char closing);

  Output& out_;
  std::vector<Level> open_;
  std::string scratch_;
  bool after_key_ = false;
  bool line_pending_ = false;
};

}  // namespace deeptrace::report
