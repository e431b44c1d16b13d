#include "binary/archive.h"

#include <cstring>
#include <optional>

#include "base/number.h"

namespace deeptrace::binary {
namespace {

constexpr std::string_view kMagic = "!<arch>\n";
/// A header is text in columns: name, time, owner, group, mode, size, and two characters that end it.
constexpr std::size_t kHeader = 60, kName = 16, kSizeAt = 48, kSizeLength = 10;

std::string_view trimmed(std::string_view text) {
  while (text.ends_with(' ')) text.remove_suffix(1);
  return text;
}

/// "levels.o/" is a name, "/18" the place of a long one in the table of names.
std::string name_of(std::string_view field, std::string_view long_names) {
  if (field.size() > 1 && field.front() == '/') {
    const auto at = number_in(field.substr(1));
    if (!at || *at >= long_names.size()) return {};
    const std::string_view rest = long_names.substr(*at);
    return std::string(rest.substr(0, rest.find_first_of("/\n")));
  }
  if (field.ends_with('/')) field.remove_suffix(1);
  return std::string(field);
}

}  // namespace

bool is_archive(Bytes bytes) {
  return bytes.size() >= kMagic.size() && std::memcmp(bytes.data(), kMagic.data(), kMagic.size()) == 0;
}

std::vector<ArchiveMember> archive_members(Bytes bytes) {
  std::vector<ArchiveMember> result;
  if (!is_archive(bytes)) return result;
  const std::string_view all(reinterpret_cast<const char*>(bytes.data()), bytes.size());
  std::string_view long_names;
  for (std::size_t at = kMagic.size(); at + kHeader <= all.size();) {
    const std::string_view header = all.substr(at, kHeader);
    const auto size = number_in(trimmed(header.substr(kSizeAt, kSizeLength)));
    const std::size_t body = at + kHeader;
    if (!header.ends_with("`\n") || !size || *size > all.size() - body) break;
    const std::string_view field = trimmed(header.substr(0, kName));
    if (field == "//") {
      long_names = all.substr(body, *size);
    } else if (field != "/" && field != "/SYM64/") {
      result.push_back({name_of(field, long_names), body, *size});
    }
    at = body + *size + *size % 2;
  }
  return result;
}

}  // namespace deeptrace::binary
