#include "inspect/wide_text.h"

#include <cstring>

namespace deeptrace::inspect {
namespace {

/// RFC 3629, of any number up to 21 bits.
void append(std::string& text, std::uint32_t code) {
  if (code < 0x80) {
    text += static_cast<char>(code);
  } else if (code < 0x800) {
    text += static_cast<char>(0xc0 | code >> 6);
    text += static_cast<char>(0x80 | (code & 0x3f));
  } else if (code < 0x10000) {
    text += static_cast<char>(0xe0 | code >> 12);
    text += static_cast<char>(0x80 | (code >> 6 & 0x3f));
    text += static_cast<char>(0x80 | (code & 0x3f));
  } else {
    text += static_cast<char>(0xf0 | (code >> 18 & 7));
    text += static_cast<char>(0x80 | (code >> 12 & 0x3f));
    text += static_cast<char>(0x80 | (code >> 6 & 0x3f));
    text += static_cast<char>(0x80 | (code & 0x3f));
  }
}

}  // namespace

std::string utf8_of(Bytes units, std::uint64_t size) {
  if (size == 1) return {units.begin(), units.end()};
  const auto unit = [&](std::size_t i) {
    std::uint32_t code = 0;
    std::memcpy(&code, units.data() + i * size, size);
    return code;
  };
  std::string text;
  const std::size_t count = units.size() / size;
  for (std::size_t i = 0; i < count; ++i) {
    std::uint32_t code = unit(i);
    const bool high = size == 2 && code >= 0xd800 && code < 0xdc00 && i + 1 < count;
    if (high && unit(i + 1) >= 0xdc00 && unit(i + 1) < 0xe000)
      code = 0x10000 + ((code - 0xd800) << 10) + (unit(++i) - 0xdc00);
    append(text, code);
  }
  return text;
}

std::uint64_t character_size(debuginfo::Types& types, debuginfo::TypeId id) {
  using debuginfo::Encoding;
  using Kind = debuginfo::Type::Kind;
  // In C the wide ones are other names of integers (C11, 7.19 and 7.28).
  for (debuginfo::TypeId at = id; types[at].kind == Kind::named || types[at].kind == Kind::constant;) {
    const std::string& name = types[at].name;
    const bool named = types[at].kind == Kind::named;
    if (named && (name == "wchar_t" || name == "char16_t" || name == "char32_t")) return types.size(at);
    at = types[at].target;
  }
  const debuginfo::Type& type = types[types.plain(id)];
  if (type.kind != Kind::base) return 0;
  if (type.encoding == Encoding::signed_char || type.encoding == Encoding::unsigned_char) return type.size == 1 ? 1 : 0;
  const bool wide = type.encoding == Encoding::utf || type.name == "wchar_t" || type.name == "char8_t";
  return wide && (type.size == 1 || type.size == 2 || type.size == 4) ? type.size : 0;
}

}  // namespace deeptrace::inspect
