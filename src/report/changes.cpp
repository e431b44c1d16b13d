#include "report/changes.h"

#include <fmt/format.h>

#include <algorithm>

#include "inspect/value.h"
#include "isa/text.h"

namespace deeptrace::report {
namespace {

std::string flag_list(std::uint64_t flags) {
  const std::string names = isa::flag_names(flags & kShownFlags);
  return names.empty() ? "none" : names;
}

std::string reading(const Style& style, const std::uint8_t* bytes, std::size_t size) {
  const bool number = size == 1 || size == 2 || size == 4 || size == 8;
  return number ? both_readings(style, state::number_of(bytes, size), static_cast<unsigned>(size))
                : byte_words(bytes, size);
}

/// A register of the floating-point unit whose bits stayed while it became used or empty.
bool merely_marked(const state::WideChange& change) {
  return change.part.file == isa::RegisterFile::x87 && change.was_empty != change.is_empty &&
         change.before == change.after;
}

ChangeWords words_of(const Style& style, const state::WideChange& change) {
  using isa::RegisterFile;
  const auto words = [&](const std::array<std::uint8_t, 64>& bytes, bool empty) -> std::string {
    switch (change.part.file) {
      case RegisterFile::x87: {
        if (empty) return "empty";
        const inspect::Shape shape{inspect::Shape::Kind::floating, 10};
        return inspect::value_of(shape, Bytes(bytes).first(change.size()), 0, {}).text;
      }
      case RegisterFile::x87_control:
      case RegisterFile::x87_status:
      case RegisterFile::mxcsr: return hex(state::number_of(bytes.data(), change.size()));
      default: return reading(style, bytes.data(), change.size());
    }
  };
  std::string name(name_of(change));
  const bool moved = change.part.file == RegisterFile::x87 && change.was_index != change.part.index;
  if (moved && !change.was_empty) name += fmt::format(", was st({})", change.was_index);
  return {std::move(name), words(change.after, change.is_empty), words(change.before, change.was_empty), {}};
}

}  // namespace

std::vector<std::string> now_and_was(const Style& style, const ChangeWords& words) {
  constexpr std::size_t kLong = 60;  // more than 16 bytes, each with its blank
  if (words.now == words.was) return {"still " + words.now};
  const std::string now = look(style, Role::changed, "now " + words.now);
  if (words.now.size() > kLong && words.was.size() > kLong) return {now, "was " + words.was};
  return {now + "   was " + words.was};
}

std::string byte_words(const std::uint8_t* bytes, std::size_t size) {
  constexpr std::size_t kShown = 64;
  std::string result;
  for (std::size_t i = 0; i < std::min(size, kShown); ++i)
    result += fmt::format("{}{:02x}", i == 0 ? "" : " ", bytes[i]);
  return size > kShown ? result + " ..." : result;
}

ChangeWords words_of(const Style& style, const state::RegisterChange& change, isa::Mode mode) {
  const unsigned word = arch::machine_of(mode).word;
  return {std::string(name_of(change.reg, mode)),
          both_readings(style, change.after, word),
          both_readings(style, change.before, word),
          {}};
}

std::vector<ChangeWords> wide_words(const Style& style, const state::Delta& delta) {
  constexpr std::ptrdiff_t kMostMarked = 2;
  const bool fold = std::ranges::count_if(delta.wide, merely_marked) > kMostMarked;
  std::vector<ChangeWords> result;
  ChangeWords marked;
  for (const state::WideChange& change : delta.wide) {
    if (!fold || !merely_marked(change)) {
      result.push_back(words_of(style, change));
      continue;
    }
    marked.now = change.is_empty ? "empty" : "in use";
    marked.was = change.is_empty ? "in use" : "empty";
    marked.what += (marked.what.empty() ? "" : " ") + std::string(name_of(change));
  }
  if (!marked.what.empty()) result.push_back(std::move(marked));
  return result;
}

ChangeWords words_of(const Style& style, const state::Delta& delta, const state::MemoryChange& change) {
  const auto words = [&](const std::uint8_t* bytes, bool known) {
    return known ? reading(style, bytes, change.size) : "unknown";
  };
  const std::string where = fmt::format("[{:#x}]", change.address);
  return {fmt::format("{} {} byte{}", where, change.size, change.size == 1 ? "" : "s"),
          words(delta.after(change), change.after_known), words(delta.before(change), change.before_known), where};
}

ChangeWords flag_words(const state::Delta& delta) {
  if (((delta.flags_before ^ delta.flags_after) & kShownFlags) == 0) return {};
  return {"flags", flag_list(delta.flags_after), flag_list(delta.flags_before), {}};
}

}  // namespace deeptrace::report
