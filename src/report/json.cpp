#include "report/json.h"

#include <charconv>

namespace deeptrace::report {

void JsonWriter::separate() {
  if (after_key_) {
    after_key_ = false;
    return;
  }
  if (!open_.empty()) {
    if (!open_.back().empty) out_.add(',');
    open_.back().empty = false;
  }
  if (line_pending_) out_.add('\n');
  line_pending_ = false;
}

void JsonWriter::open(char opening, char closing) {
  separate();
  out_.add(opening);
  open_.push_back({closing, true});
}

/// RFC 8259: quotes, backslashes and control characters are escaped; bytes that are not UTF-8 become \\u00NN of the
/// byte's value, so that the document stays valid whatever a binary's names hold.
void add_json_string(std::string& to, std::string_view text) {
  to += '"';
  const auto is_ordinary = [](char c) {
    const auto byte = static_cast<std::uint8_t>(c);
    return byte >= 0x20 && byte < 0x7f && byte != '"' && byte != '\\';
  };
  for (std::size_t i = 0; i < text.size(); ++i) {
    std::size_t end = i;
    while (end < text.size() && is_ordinary(text[end])) ++end;
    to.append(text, i, end - i);
    if (end == text.size()) break;
    i = end;
    const auto byte = static_cast<std::uint8_t>(text[i]);
    const std::size_t length = byte >= 0x80 ? utf8_sequence(text, i) : 0;
    if (length != 0) {
      to += text.substr(i, length);
      i += length - 1;
      continue;
    }
    constexpr std::string_view kDigits = "0123456789abcdef";
    const char code[] = {'\\', 'u', '0', '0', kDigits[byte >> 4], kDigits[byte & 15]};
    switch (byte) {
      case '"': to += "\\\""; break;
      case '\\': to += "\\\\"; break;
      case '\n': to += "\\n"; break;
      case '\t': to += "\\t"; break;
      default: to.append(code, sizeof code);
    }
  }
  to += '"';
}

void JsonWriter::string(std::string_view text) {
  separate();
  scratch_.clear();
  add_json_string(scratch_, text);
  out_.add(scratch_);
}

void JsonWriter::number(std::uint64_t value) {
  char digits[24];
  const auto result = std::to_chars(digits, digits + sizeof digits, value);
  raw({digits, static_cast<std::size_t>(result.ptr - digits)});
}

void JsonWriter::hex(std::uint64_t value) {
  char digits[24] = {'"', '0', 'x'};
  const auto result = std::to_chars(digits + 3, digits + sizeof digits, value, 16);
  *result.ptr = '"';
  raw({digits, static_cast<std::size_t>(result.ptr + 1 - digits)});
}

void JsonWriter::bytes(const std::uint8_t* data, std::size_t size) {
  separate();
  scratch_.assign(1, '"');
  for (std::size_t i = 0; i < size; ++i) {
    scratch_ += "0123456789abcdef"[data[i] >> 4];
    scratch_ += "0123456789abcdef"[data[i] & 15];
  }
  scratch_ += '"';
  out_.add(scratch_);
}

}  // namespace deeptrace::report
