#include "report/value.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "inspect/wide_text.h"
#include "report/names.h"

namespace deeptrace::report {
namespace {

using inspect::Value;
using Kind = Value::Kind;

std::string hex_bytes(const std::vector<std::uint8_t>& bytes, std::string_view separator) {
  std::string result;
  for (const std::uint8_t byte : bytes) {
    if (!result.empty()) result += separator;
    result += fmt::format("{:02x}", byte);
  }
  return result;
}

/// Decimal digits of a number of 128 bits in memory order.
std::string wide_decimal(const std::vector<std::uint8_t>& raw, bool is_signed) {
  unsigned __int128 number = 0;
  for (std::size_t i = raw.size(); i-- > 0;) number = number << 8 | raw[i];
  const bool negative = is_signed && (number >> 127) != 0;
  if (negative) number = -number;
  std::string digits;
  do {
    digits.insert(digits.begin(), static_cast<char>('0' + static_cast<int>(number % 10)));
    number /= 10;
  } while (number != 0);
  return (negative ? "-" : "") + digits;
}

std::string_view dot(const Style& style) { return style.utf8 ? " · " : " / "; }

/// Both readings; where the type is unsigned and the sign would lie, the unsigned one.
std::string integer_words(const Style& style, const Value& value) {
  if (value.bits > 64)
    return fmt::format(
        "{}{}{}",
        "0x" +
            [&] {
              std::string digits;
              for (std::size_t i = value.raw.size(); i-- > 0;) digits += fmt::format("{:02x}", value.raw[i]);
              const std::size_t first = digits.find_first_not_of('0');
              return first == std::string::npos ? std::string("0") : digits.substr(first);
            }(),
        dot(style), wide_decimal(value.raw, value.is_signed));
  const std::string decimal = value.is_signed ? std::to_string(value.signed_number()) : std::to_string(value.number);
  return fmt::format("{:#x}{}{}", value.number, dot(style), decimal);
}

std::string character_of(const Style& style, const Value& value) {
  const std::uint64_t n = value.number;
  // Wide ones and UTF-32 are Unicode's; those of one byte may be of any encoding.
  if (style.utf8 && value.size > 1 && n >= 0xa0 && n < 0x110000 && (n < 0xd800 || n >= 0xe000)) {
    const auto code = static_cast<std::uint32_t>(n);
    std::uint8_t raw[sizeof code];
    std::memcpy(raw, &code, sizeof raw);
    return "'" + escaped(inspect::utf8_of(raw, sizeof raw)) + "'";
  }
  if (n >= 0x20 && n < 0x7f) return fmt::format("'{}'", escaped(std::string(1, static_cast<char>(n))));
  if (n == '\n') return "'\\n'";
  if (n == '\t') return "'\\t'";
  if (n == 0) return "'\\0'";
  return {};
}

std::string unit_words(const Value& value) {
  return value.remarks->unit.empty() ? "" : " " + printable(value.remarks->unit);
}

/// Of a pointer that shares what it points to: ", 2 owners, 1 watcher".
std::string sharing_words(const Value& value) {
  if (!value.remarks->owners) return {};
  if (*value.remarks->owners == 0) return ", expired";
  std::string result = fmt::format(", {} {}", *value.remarks->owners, *value.remarks->owners == 1 ? "owner" : "owners");
  const std::uint64_t watchers = value.remarks->watchers.value_or(0);
  if (watchers != 0) result += fmt::format(", {} {}", watchers, watchers == 1 ? "watcher" : "watchers");
  return result;
}

std::string pointer_words(const Style& style, const Value& value) {
  if (value.number == 0) return "null";
  std::string result = fmt::format("{:#x}", value.number);
  const std::string_view arrow = style.utf8 ? " → " : " -> ";
  if (!value.pointed_text.empty()) return result + std::string(arrow) + "\"" + escaped(value.pointed_text) + "\"";
  if (!value.parts.empty())
    return result + std::string(arrow) + value_words(style, value.parts.front()) + sharing_words(value) +
           (value.text.empty() ? "" : ", " + shown_name(style, value.text));
  if (!value.text.empty()) result += std::string(arrow) + shown_name(style, value.text);
  if (value.text.empty() && !value.remarks->region.empty()) result += "  " + printable(value.remarks->region);
  if (!value.remarks->dynamic.empty()) result += ", a " + shown_type(style, value.remarks->dynamic);
  return result + sharing_words(value);
}

constexpr std::size_t kInWords = 8, kInLines = 64;

std::string label_of(const Style& style, const Value& part) {
  if (part.label.empty()) return "(unnamed)";
  return part.base ? shown_type(style, part.label) : printable(part.label);
}

std::string parts_words(const Style& style, const Value& value, char open, char close) {
  std::string result(1, open);
  for (std::size_t i = 0; i < value.parts.size() && i < kInWords; ++i) {
    if (i != 0) result += ", ";
    if (!value.parts[i].label.empty()) result += label_of(style, value.parts[i]) + " ";
    result += value_words(style, value.parts[i]);
  }
  const std::uint64_t count = value.kind == Kind::array ? value.count : value.parts.size();
  if (count > kInWords) result += fmt::format(", and {} more", count - kInWords);
  return result + close;
}

bool all_zero(const Value& value) {
  switch (value.kind) {
    case Kind::integer:
    case Kind::character:
    case Kind::truth:
    case Kind::enumeration:
    case Kind::pointer: return value.bits <= 64 && value.number == 0;
    case Kind::floating: return value.text == "0";
    case Kind::array:
    case Kind::aggregate:
      if (value.kind == Kind::array && value.count == 0) return false;
      return std::ranges::all_of(value.parts, all_zero) &&
             (value.kind != Kind::array || value.parts.size() == value.count);
    case Kind::string: return value.text.empty() && value.count == value.size;
    default: return false;
  }
}

void number_json(JsonWriter& json, const Value& value) {
  json.begin_object();
  if (value.bits > 64) {
    json.key("bytes").bytes(value.raw.data(), value.raw.size());
    if (value.kind == Kind::integer) {
      json.key("signed").string(wide_decimal(value.raw, true));
      json.key("unsigned").string(wide_decimal(value.raw, false));
    }
  } else {
    json.key("hex").hex(value.number);
    json.key("signed").string(std::to_string(value.signed_number()));
    json.key("unsigned").string(std::to_string(value.number));
  }
  if (value.kind == Kind::character)
    json.key("text").string_or_null(
        value.number != 0 && value.number < 0x80 ? std::string(1, static_cast<char>(value.number)) : std::string());
  if (value.kind == Kind::integer && !value.text.empty()) json.key("text").string(value.text);
  if (!value.remarks->unit.empty()) json.key("unit").string(value.remarks->unit);
  if (value.kind == Kind::truth) json.key("text").string(value.number != 0 ? "true" : "false");
  if (value.kind == Kind::floating) json.key("text").string(value.text);
  if (value.kind == Kind::enumeration) json.key("text").string_or_null(value.text);
  if (value.kind == Kind::pointer) {
    json.key("target").string_or_null(value.text);
    if (!value.remarks->region.empty()) json.key("region").string(value.remarks->region);
    if (!value.remarks->dynamic.empty()) json.key("class").string(value.remarks->dynamic);
    if (!value.parts.empty()) {
      json.key("value");
      value_json(json, value.parts.front());
    }
    if (value.remarks->owners) json.key("owners").number(*value.remarks->owners);
    if (value.remarks->watchers) json.key("watchers").number(*value.remarks->watchers);
    if (!value.pointed_text.empty()) json.key("text").string(value.pointed_text);
  }
  json.end();
}

}  // namespace

std::string value_words(const Style& style, const Value& value) {
  switch (value.kind) {
    case Kind::integer: {
      const char quote = value.size == 1 ? '\'' : '"';
      return integer_words(style, value) + unit_words(value) +
             (value.text.empty() ? "" : fmt::format(" {}{}{}", quote, escaped(value.text), quote));
    }
    case Kind::character: {
      const std::string character = character_of(style, value);
      return integer_words(style, value) + (character.empty() ? "" : " " + character);
    }
    case Kind::truth:
      return value.number == 0 ? "false" : value.number == 1 ? "true" : fmt::format("true ({:#x})", value.number);
    case Kind::floating: return value.text + unit_words(value);
    case Kind::enumeration:
      return value.text.empty() ? integer_words(style, value)
                                : fmt::format("{} ({})", printable(value.text), integer_words(style, value));
    case Kind::pointer: return pointer_words(style, value);
    case Kind::string: return "\"" + escaped(value.text) + "\"";
    case Kind::array: return all_zero(value) ? "all zero" : parts_words(style, value, '[', ']');
    case Kind::aggregate: return all_zero(value) ? "all zero" : parts_words(style, value, '{', '}');
    case Kind::bytes: {
      constexpr std::size_t kShown = 32;
      std::vector<std::uint8_t> first(
          value.raw.begin(), value.raw.begin() + static_cast<std::ptrdiff_t>(std::min(kShown, value.raw.size())));
      if (std::ranges::all_of(value.raw, [](std::uint8_t b) { return b == 0; })) return "all zero";
      return hex_bytes(first, " ") +
             (value.raw.size() > kShown ? fmt::format(" and {} more", value.raw.size() - kShown) : "");
    }
    case Kind::nothing: return value.text.empty() ? "nothing" : value.text;
    case Kind::state: return printable(value.text);
    case Kind::unknown: return "unknown: " + printable(value.text);
    case Kind::not_set: return printable(value.text);
  }
  return {};
}

std::string value_head(const Style& style, const Value& value) {
  constexpr std::size_t kWide = 100;  // columns
  std::string words = value_words(style, value);
  if (words.size() <= kWide || !has_lines(value)) return words;
  if (value.kind == Kind::pointer) return fmt::format("{:#x}{}", value.number, sharing_words(value));
  const bool array = value.kind == Kind::array;
  const std::size_t count = array ? value.count : value.parts.size();
  return fmt::format("{} {}{}", count, array ? "element" : "member", count == 1 ? "" : "s");
}

std::string inferred_words(const Value& value) {
  const std::uint64_t size = value.count == 0 ? 0 : value.size / value.count;
  return fmt::format("{} of {} {}, as instructions access it", value.count, size, size == 1 ? "byte" : "bytes");
}

bool has_lines(const Value& value) {
  if (value.kind == Kind::pointer && !value.parts.empty()) return has_lines(value.parts.front());
  return (value.kind == Kind::array || value.kind == Kind::aggregate) && !value.parts.empty() && !all_zero(value);
}

std::vector<std::string> value_lines(const Style& style, const Value& value, unsigned indent) {
  std::vector<std::string> result;
  const std::string room(indent, ' ');
  if (!has_lines(value)) return result;
  if (value.kind == Kind::pointer) return value_lines(style, value.parts.front(), indent);
  if (value.kind == Kind::array) {
    const bool nested = has_lines(value.parts.front());
    std::string line;
    for (std::size_t i = 0; i < value.parts.size() && i < kInLines; ++i) {
      const Value& part = value.parts[i];
      if (nested) {
        result.push_back(fmt::format("{}[{}] {}", room, i, has_lines(part) ? "" : value_words(style, part)));
        while (result.back().back() == ' ') result.back().pop_back();
        for (std::string& inner : value_lines(style, part, indent + 4)) result.push_back(std::move(inner));
        continue;
      }
      const std::string words = value_words(style, part);
      if (!line.empty() && line.size() + words.size() + 3 > 100) {
        result.push_back(line);
        line.clear();
      }
      line += line.empty() ? fmt::format("{}{:<6} {}", room, fmt::format("[{}]", i), words) : "   " + words;
    }
    if (!line.empty()) result.push_back(line);
    if (value.count > kInLines) result.push_back(fmt::format("{}and {} more", room, value.count - kInLines));
    return result;
  }
  std::size_t widest = 0;
  for (const Value& part : value.parts) widest = std::max(widest, label_of(style, part).size());
  for (const Value& part : value.parts) {
    const std::string label = label_of(style, part);
    std::string line = fmt::format("{}{:<{}}  {:#06x}  {}", room, label, widest, part.address - value.address,
                                   has_lines(part) ? "" : value_words(style, part));
    if (part.kind == Kind::unknown && part.size == 0)
      line = fmt::format("{}{:<{}}  {}", room, label, widest, value_words(style, part));
    if (!part.type.empty())
      line += (has_lines(part) ? "" : "   ") + look(style, Role::faint, shown_type(style, part.type));
    result.push_back(std::move(line));
    for (std::string& inner : value_lines(style, part, indent + 4)) result.push_back(std::move(inner));
  }
  return result;
}

std::vector<std::string> field_lines(const Style& style, const Value& value, const Value* before) {
  struct Row {
    std::string name, place, now, was;
  };
  std::vector<Row> rows;
  const std::vector<inspect::Field> fields = inspect::fields_of(value);
  const std::vector<inspect::Field> old =
      before != nullptr ? inspect::fields_of(*before) : std::vector<inspect::Field>{};
  std::size_t name_width = 0, place_width = 0;
  for (std::size_t i = 0; i < fields.size(); ++i) {
    const Value& field = *fields[i].value;
    Row row;
    row.name = printable(fields[i].path);
    row.place = fmt::format("+{:#x}", field.address - value.address);
    if (field.bit_field && field.bits == 1) row.place += fmt::format(" bit {}", field.bit_offset);
    if (field.bit_field && field.bits > 1)
      row.place += fmt::format(" bits {}..{}", field.bit_offset, field.bit_offset + field.bits - 1);
    row.now = value_words(style, field);
    if (i < old.size() && old[i].path == fields[i].path) row.was = value_words(style, *old[i].value);
    if (row.was == row.now) row.was.clear();
    name_width = std::max(name_width, row.name.size());
    place_width = std::max(place_width, row.place.size());
    rows.push_back(std::move(row));
  }
  std::vector<std::string> result;
  for (const Row& row : rows) {
    const bool changed = !row.was.empty();
    std::string line = fmt::format("{} {:<{}}  {:<{}}  {}{}", changed ? '~' : ' ', row.name, name_width, row.place,
                                   place_width, changed ? "now " : "", row.now);
    if (changed) line += "   was " + row.was;
    result.push_back(look(style, changed ? Role::changed : Role::plain, line));
  }
  return result;
}

std::pair<std::string, std::string> before_and_after(const Style& style, const Value& before, const Value& after) {
  constexpr std::size_t kMost = 4;
  const std::vector<inspect::Field> old = inspect::fields_of(before), now = inspect::fields_of(after);
  std::pair<std::string, std::string> result;
  std::size_t changed = 0;
  for (std::size_t i = 0; now.size() > 1 && i < now.size() && i < old.size(); ++i) {
    const std::string was = value_words(style, *old[i].value), is = value_words(style, *now[i].value);
    if (old[i].path != now[i].path || was == is || ++changed > kMost) continue;
    const std::string gap = changed == 1 ? "" : ", ";
    result.first += gap + printable(now[i].path) + " " + was;
    result.second += gap + printable(now[i].path) + " " + is;
  }
  if (changed == 0) return {value_words(style, before), value_words(style, after)};
  if (changed > kMost) result.second += fmt::format(", and {} more", changed - kMost);
  return result;
}

void value_json(JsonWriter& json, const Value& value) {
  switch (value.kind) {
    case Kind::string:
      json.begin_object();
      json.key("text").string(value.text);
      json.key("bytes").bytes(value.raw.data(), value.raw.size());
      json.end();
      return;
    case Kind::bytes:
      json.begin_object();
      json.key("bytes").bytes(value.raw.data(), value.raw.size());
      json.end();
      return;
    case Kind::array:
      if (value.parts.size() < value.count) {
        json.begin_object();
        json.key("count").number(value.count);
        json.key("elements");
      }
      json.begin_array();
      for (const Value& part : value.parts) value_json(json, part);
      json.end();
      if (value.parts.size() < value.count) json.end();
      return;
    case Kind::aggregate: {
      json.begin_object();
      std::size_t unnamed = 0;
      for (const Value& part : value.parts) {
        json.key(part.label.empty() ? fmt::format("(unnamed {})", ++unnamed) : part.label);
        value_json(json, part);
      }
      json.end();
      return;
    }
    case Kind::nothing: json.null(); return;
    case Kind::state:
      json.begin_object();
      json.key("text").string(value.text);
      json.end();
      return;
    case Kind::unknown:
    case Kind::not_set:
      json.begin_object();
      json.key("unknown").string(value.text);
      json.end();
      return;
    default: number_json(json, value);
  }
}

}  // namespace deeptrace::report
