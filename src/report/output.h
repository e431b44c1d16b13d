// Where a report goes: a buffered writer over a file descriptor, and what a text report may use there.
#pragma once

#include <cstdint>
#include <cstring>
#include <functional>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

namespace deeptrace::report {

/// Collects bytes and writes them in large pieces. A failed write is remembered; later ones are dropped.
class Output {
 public:
  explicit Output(int descriptor) : descriptor_(descriptor) { grow(kPiece); }
  /// Collects in memory: `text` has it all.
  Output() = default;
  ~Output() { flush(); }
  Output(const Output&) = delete;
  Output& operator=(const Output&) = delete;

  void add(std::string_view text) {
    if (text.empty()) return;
    if (descriptor_ >= 0 && text.size() >= kPiece) return add_large(text);
    std::memcpy(room(text.size()), text.data(), text.size());
    size_ += text.size();
  }
  void add(char c) { *room(1) = c, ++size_; }
  void flush();
  [[nodiscard]] bool is_terminal() const;
  /// errno of the first failed write; 0 when all went well.
  [[nodiscard]] int error() const { return error_; }

  /// What was collected in memory.
  [[nodiscard]] std::string_view text() const { return {buffer_.get(), size_}; }
  /// Forgets it and keeps the room.
  void clear() { size_ = 0; }

  /// For those who write in place: at least `bytes` bytes after what was added; `wrote` says how many they took.
  char* room(std::size_t bytes) {
    if (size_ + bytes > capacity_) [[unlikely]]
      make_room(bytes);
    return buffer_.get() + size_;
  }
  void wrote(std::size_t bytes) { size_ += bytes; }

 private:
  void add_large(std::string_view text);
  void write(std::string_view text);
  void make_room(std::size_t bytes);
  void grow(std::size_t capacity);

  static constexpr std::size_t kPiece = 1U << 16;
  int descriptor_ = -1;
  int error_ = 0;
  std::unique_ptr<char[]> buffer_;
  std::size_t size_ = 0, capacity_ = 0;
};

/// What a text report may use.
struct Style {
  bool colour = false;
  bool utf8 = false;
  unsigned width = 0;  ///< columns; 0: no limit
  bool full_paths = false;
  bool wraps = false;    ///< a terminal with little room: what does not fit goes on below
  std::string folder{};  ///< the one that paths are shown relative to; empty: none

  /// Decides from the environment: colour only on a terminal and without NO_COLOR, UTF-8 by the locale's name.
  static Style for_descriptor(int descriptor, std::string_view colour_choice, bool wide);
};

/// True where the environment asks for no colours (NO_COLOR; an empty one asks for nothing).
bool colours_refused();

/// The roles that text can have; each has one look everywhere.
enum class Role { plain, heading, source, faint, changed, attention, broken, next };

/// `text` in the look of `role`. Without colour it stays as it is.
std::string look(const Style& style, Role role, std::string_view text);

/// A path for people: relative to the current folder where it lies below it, else its last two parts; in full with
/// `full_paths`.
std::string shown_path(const Style& style, std::string_view path);

/// A character of UTF-8 text.
struct Character {
  std::size_t bytes = 1;
  unsigned columns = 1;  ///< on a terminal: 0 for a combining one, 2 for a wide one (wcwidth(3))
};
/// The one that begins at `at`; a byte that begins none is one by itself.
Character character_at(std::string_view text, std::size_t at);
/// Columns of a text without colours.
unsigned columns_of(std::string_view text);

/// Bytes of the beginning of a text that take no more than so many columns; colours take none.
std::size_t bytes_within(std::string_view text, std::size_t columns);

/// Adds a line and its end, cut to the style's width (escape sequences count nothing); where it wraps, what does not
/// fit goes on below.
void add_line(Output& out, const Style& style, std::string_view line);

/// Adds prose: broken between words where the terminal ends, each line after `indent`.
void add_prose(Output& out, const Style& style, std::string_view text, std::string_view indent, Role role);

/// The length of the UTF-8 sequence that starts at `at`, or 0 when none does (RFC 3629).
std::size_t utf8_sequence(std::string_view text, std::size_t at);

/// Text from a binary or a traced process made harmless: control characters and bytes that are not UTF-8 are
/// written as \n, \t or \xNN, and so are quotes and backslashes with a backslash before them.
std::string escaped(std::string_view raw);
/// The same for names and paths, without touching quotes and backslashes.
std::string printable(std::string_view raw);
/// True for text that printable() leaves as it is, ASCII only.
bool is_plain(std::string_view raw);

/// "0x1f"; numbers below 10 as a digit.
std::string hex(std::uint64_t value);
/// "0x17 · 23": hexadecimal and signed decimal of a value of `bytes` bytes.
std::string both_readings(const Style& style, std::uint64_t value, unsigned bytes);

/// What the program has written since the last call, when its output is caught to be shown apart; may be empty.
using TakeOutput = std::function<std::string()>;
/// What the program itself wrote, a line of it a line, quoted.
std::vector<std::string> program_lines(const Style& style, std::string_view output);

}  // namespace deeptrace::report
