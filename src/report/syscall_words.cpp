#include "report/syscall_words.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <utility>

#include "base/path.h"
#include "report/names.h"
#include "report/value.h"

namespace deeptrace::report {

using inspect::Value;
using session::SyscallRow;

namespace {

template <class Number>
void add_number(std::string& to, Number number) {
  char text[24];
  to.append(text, std::to_chars(text, text + sizeof text, number).ptr);
}

void add_parts(std::string& to, const Style& style, const Value& value) {
  constexpr std::size_t kMost = 12;
  const bool array = value.kind == Value::Kind::array;
  to += array ? '[' : '{';
  bool first = true;
  for (std::size_t i = 0; i < value.parts.size() && i < kMost; ++i) {
    const Value& part = value.parts[i];
    if (part.label.starts_with("__")) continue;  // room that the kernel keeps
    if (!std::exchange(first, false)) to += ", ";
    if (!part.label.empty()) to += printable(part.label) + " ";
    add_short_words(to, style, part);
  }
  const std::uint64_t count = array ? value.count : value.parts.size();
  if (count > std::min(kMost, value.parts.size()))
    to += fmt::format(", and {} more", count - std::min(kMost, value.parts.size()));
  to += array ? ']' : '}';
}

}  // namespace

std::string short_words(const Style& style, const Value& value) {
  std::string text;
  add_short_words(text, style, value);
  return text;
}

void add_short_words(std::string& to, const Style& style, const Value& value) {
  using Kind = Value::Kind;
  constexpr std::uint64_t kSmall = 1 << 20;
  if (value.kind == Kind::enumeration && !value.text.empty()) {
    to += is_plain(value.text) ? value.text : printable(value.text);
  } else if (value.kind == Kind::pointer && !value.parts.empty()) {
    const Value& there = value.parts.front();
    if (there.kind != Kind::unknown) return add_short_words(to, style, there);
    to += fmt::format("{:#x} {}", value.number, printable(there.text));
  } else if (value.kind == Kind::string) {
    to += '"';
    to += escaped(value.text);
    to += '"';
    if (value.raw.size() < value.count) to += fmt::format(" and {} more bytes", value.count - value.raw.size());
  } else if (value.kind == Kind::bytes && value.raw.size() < value.count) {
    to += value_words(style, value) + fmt::format(", {} bytes in all", value.count);
  } else if ((value.kind == Kind::aggregate || value.kind == Kind::array) && !value.parts.empty()) {
    add_parts(to, style, value);
  } else if (value.kind == Kind::integer && value.is_signed) {
    add_number(to, value.signed_number());
  } else if (value.kind == Kind::integer && value.number < kSmall) {
    add_number(to, value.number);
  } else {
    to += value_words(style, value);
  }
}

std::string duration_words(std::uint64_t nanoseconds) {
  constexpr std::uint64_t kMicro = 1000, kMilli = 1000000, kWhole = 1000000000;
  if (nanoseconds < 10 * kMilli) return fmt::format("{} us", (nanoseconds + kMicro / 2) / kMicro);
  if (nanoseconds < 10 * kWhole) return fmt::format("{} ms", (nanoseconds + kMilli / 2) / kMilli);
  return fmt::format("{:.1f} s", static_cast<double>(nanoseconds) / static_cast<double>(kWhole));
}

std::string result_words(const Style& style, const SyscallRow& row) {
  return row.ended ? result_words(style, row.call) : "does not come back";
}

std::string result_words(const Style& style, const look::DecodedCall& call) {
  if (call.failed) return call.error;
  return call.result.kind == Value::Kind::nothing ? "done" : short_words(style, call.result);
}

std::string own_words(const Style& style, const SyscallRow& row) {
  if (row.own.place.empty())
    return row.made_by.empty() ? fmt::format("{:#x}", row.address) : shown_name(style, row.made_by);
  if (row.own.line == 0) return shown_name(style, row.own.place);
  return fmt::format("{}:{}", printable(base_name(row.own.file)), row.own.line);
}

std::vector<std::string> argument_words(const Style& style, const look::DecodedCall& call) {
  std::vector<std::string> words;
  for (const look::Argument& one : call.arguments)
    words.push_back(printable(one.name) + " " + (one.value ? short_words(style, *one.value) : "unknown"));
  return words;
}

}  // namespace deeptrace::report
