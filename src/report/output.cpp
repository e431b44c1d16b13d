#include "report/output.h"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdlib>
#include <cwchar>
#include <memory>

#include "report/any_character.h"

namespace deeptrace::report {
namespace {

std::string made_harmless(std::string_view raw, bool quoted) {
  if (is_plain(raw) && (!quoted || raw.find('"') == std::string_view::npos)) return std::string(raw);
  std::string result;
  for (std::size_t i = 0; i < raw.size();) {
    const auto byte = static_cast<std::uint8_t>(raw[i]);
    const std::size_t length = utf8_sequence(raw, i);
    const bool c1_control = byte == 0xc2 && length == 2 && static_cast<std::uint8_t>(raw[i + 1]) < 0xa0;
    if (byte == '\n') {
      result += "\\n";
    } else if (byte == '\t') {
      result += "\\t";
    } else if (byte < 0x20 || byte == 0x7f || length == 0 || c1_control) {
      result += fmt::format("\\x{:02x}", byte);
    } else if (quoted && (byte == '"' || byte == '\\')) {
      result += '\\';
      result += static_cast<char>(byte);
    } else {
      result += raw.substr(i, length);
      i += length;
      continue;
    }
    ++i;
  }
  return result;
}

}  // namespace

void add_prose(Output& out, const Style& style, std::string_view text, std::string_view indent, Role role) {
  std::string rest(text);
  while (!rest.empty()) {
    std::size_t end = rest.size();
    if (style.width > indent.size() + 20 && rest.size() + indent.size() > style.width) {
      end = rest.rfind(' ', style.width - indent.size());
      if (end == std::string::npos || end == 0) end = rest.size();
    }
    add_line(out, style, look(style, role, std::string(indent) + rest.substr(0, end)));
    rest.erase(0, std::min(end + 1, rest.size()));
  }
}

std::size_t utf8_sequence(std::string_view text, std::size_t at) {
  const auto byte = static_cast<std::uint8_t>(text[at]);
  const std::size_t length = byte < 0x80                   ? 1
                             : byte >= 0xc2 && byte < 0xe0 ? 2
                             : byte >= 0xe0 && byte < 0xf0 ? 3
                             : byte >= 0xf0 && byte < 0xf5 ? 4
                                                           : 0;
  if (length == 0 || at + length > text.size()) return 0;
  for (std::size_t i = 1; i < length; ++i) {
    if ((static_cast<std::uint8_t>(text[at + i]) & 0xc0) != 0x80) return 0;
  }
  const auto second = length > 1 ? static_cast<std::uint8_t>(text[at + 1]) : 0;
  if ((byte == 0xe0 && second < 0xa0) || (byte == 0xed && second > 0x9f) || (byte == 0xf0 && second < 0x90) ||
      (byte == 0xf4 && second > 0x8f))
    return 0;
  return length;
}

void Output::write(std::string_view text) {
  while (!text.empty() && error_ == 0) {
    const ssize_t written = ::write(descriptor_, text.data(), text.size());
    if (written > 0) {
      text.remove_prefix(static_cast<std::size_t>(written));
    } else if (errno != EINTR) {
      error_ = errno;
    }
  }
}

void Output::flush() {
  if (descriptor_ < 0) return;
  write(text());
  size_ = 0;
}

bool Output::is_terminal() const { return descriptor_ >= 0 && ::isatty(descriptor_) != 0; }

void Output::make_room(std::size_t bytes) {
  flush();
  if (size_ + bytes > capacity_) grow(std::max(size_ + bytes, 2 * capacity_));
}

void Output::grow(std::size_t capacity) {
  auto larger = std::make_unique_for_overwrite<char[]>(capacity);
  if (size_ != 0) std::memcpy(larger.get(), buffer_.get(), size_);
  buffer_ = std::move(larger);
  capacity_ = capacity;
}

/// What fills pieces of its own is not copied.
void Output::add_large(std::string_view text) {
  flush();
  write(text);
}

bool colours_refused() {
  const char* value = std::getenv("NO_COLOR");
  return value != nullptr && *value != '\0';
}

Style Style::for_descriptor(int descriptor, std::string_view colour_choice, bool wide) {
  Style style;
  const bool terminal = ::isatty(descriptor) != 0;
  style.colour = colour_choice == "always" || (colour_choice != "never" && terminal && !colours_refused());
  for (const char* name : {"LC_ALL", "LC_CTYPE", "LANG"}) {
    const char* value = std::getenv(name);
    if (value == nullptr || *value == '\0') continue;
    const std::string_view locale = value;
    style.utf8 = locale.find("UTF-8") != std::string_view::npos || locale.find("utf8") != std::string_view::npos;
    break;
  }
  style.full_paths = wide;
  const std::unique_ptr<char, decltype(&std::free)> folder(::getcwd(nullptr, 0), &std::free);
  if (folder) style.folder = folder.get();
  winsize size{};
  if (terminal && !wide && ::ioctl(descriptor, TIOCGWINSZ, &size) == 0) style.width = size.ws_col;
  constexpr unsigned kNarrow = 80;
  style.wraps = style.width != 0 && style.width < kNarrow;
  return style;
}

std::string look(const Style& style, Role role, std::string_view text) {
  if (!style.colour || role == Role::plain || text.empty()) return std::string(text);
  constexpr std::array<std::string_view, 8> kCodes = {"", "1", "38;5;110", "2", "38;5;37", "38;5;214", "38;5;199", "7"};
  return fmt::format("\x1b[{}m{}\x1b[0m", kCodes[static_cast<std::size_t>(role)], text);
}

Character character_at(std::string_view text, std::size_t at) {
  const std::size_t bytes = utf8_sequence(text, at);
  if (bytes <= 1) return {};
  auto code = static_cast<wchar_t>(static_cast<std::uint8_t>(text[at]) & (0xffU >> (bytes + 1)));
  for (std::size_t i = 1; i < bytes; ++i) code = code << 6 | (text[at + i] & 0x3f);
  const int columns = ::wcwidth(code);
  return {bytes, columns < 0 ? 1U : static_cast<unsigned>(columns)};
}

unsigned columns_of(std::string_view text) {
  unsigned columns = 0;
  for (std::size_t at = 0; at < text.size();) {
    const Character character = character_at(text, at);
    columns += character.columns;
    at += character.bytes;
  }
  return columns;
}

std::size_t bytes_within(std::string_view text, std::size_t columns) {
  std::size_t at = 0;
  while (at < text.size()) {
    if (text[at] == 0x1b) {  // a colour
      at = std::min(text.find('m', at), text.size() - 1) + 1;
      continue;
    }
    const Character character = character_at(text, at);
    if (character.columns > columns) break;
    columns -= character.columns;
    at += character.bytes;
  }
  return at;
}

namespace {

/// Where a line is broken that is wider than `columns`: between groups of words, else between words; `at` bytes fit.
std::size_t break_in(std::string_view line, std::size_t at, unsigned columns) {
  const std::size_t least = bytes_within(line, columns / 3);
  std::size_t word = 0;
  for (std::size_t i = at; i > least; --i) {
    if (line[i] != ' ') continue;
    if (line[i - 1] == ' ') return i;
    word = std::max(word, i);
  }
  return word != 0 ? word : at;
}

/// On terminals with little room nothing is cut off: what does not fit goes on below.
void add_wrapped(Output& out, std::string_view line, unsigned width) {
  constexpr unsigned kIndent = 8;
  for (unsigned columns = width;; columns = width - kIndent) {
    const std::size_t fits = bytes_within(line, columns);
    if (fits == line.size()) break;
    const std::size_t at = break_in(line, fits, columns);
    std::string_view first = line.substr(0, at);
    first.remove_suffix(first.size() - std::min(first.find_last_not_of(' ') + 1, first.size()));
    out.add(first);
    out.add('\n');
    line.remove_prefix(std::min(line.find_first_not_of(' ', at), line.size()));
    if (line.empty()) return;
    out.add(std::string(kIndent, ' '));
  }
  out.add(line);
  out.add('\n');
}

}  // namespace

std::vector<std::string> program_lines(const Style& style, std::string_view output) {
  std::vector<std::string> result;
  for (std::size_t at = 0; at < output.size();) {
    const std::size_t end = std::min(output.find('\n', at), output.size());
    result.push_back(fmt::format("  {} \"{}\"", look(style, Role::faint, "program wrote"),
                                 escaped(output.substr(at, end - at + (end < output.size() ? 1 : 0)))));
    at = end + 1;
  }
  return result;
}

void add_line(Output& out, const Style& style, std::string_view line) {
  constexpr unsigned kNarrowest = 24;
  if (style.wraps && style.width >= kNarrowest) return add_wrapped(out, line, style.width);
  const std::size_t at = style.width == 0 ? line.size() : bytes_within(line, style.width);
  const bool cut = at < line.size();
  out.add(cut ? line.substr(0, at) : line);
  if (cut && style.colour) out.add("\x1b[0m");
  out.add('\n');
}

std::string escaped(std::string_view raw) { return made_harmless(raw, true); }
std::string printable(std::string_view raw) { return made_harmless(raw, false); }
bool is_plain(std::string_view raw) {
  return !any_character(raw, [](auto c) { return (c < ' ') | (c == 0x7f) | (c == '\\'); });
}

std::string shown_path(const Style& style, std::string_view path) {
  if (style.full_paths || !path.starts_with('/')) return printable(path);
  const bool below = !style.folder.empty() && path.starts_with(style.folder) && path.size() > style.folder.size() &&
                     path[style.folder.size()] == '/';
  if (below) return printable(path.substr(style.folder.size() + 1));
  const std::size_t name = path.rfind('/');
  const std::size_t before = name == 0 ? 0 : path.rfind('/', name - 1);
  return printable(path.substr(before == 0 || before == std::string_view::npos ? 0 : before + 1));
}

std::string hex(std::uint64_t value) { return value < 10 ? fmt::format("{}", value) : fmt::format("{:#x}", value); }

std::string both_readings(const Style& style, std::uint64_t value, unsigned bytes) {
  const unsigned shift = bytes >= 8 ? 0 : 64 - 8 * bytes;
  const std::int64_t number = static_cast<std::int64_t>(value << shift) >> shift;
  return fmt::format("{:#x} {} {}", value, style.utf8 ? "\u00b7" : "/", number);
}

}  // namespace deeptrace::report
