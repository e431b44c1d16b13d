#include "report/changes.h"

#include <fmt/format.h>

#include <algorithm>

#include "inspect/value.h"
#include "isa/text.h"

namespace deeptrace::report {
namespace {

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

std::string flag_list(std::uint64_t flags) {
  const std::string names = isa::flag_names(flags & kShownFlags);
  return names.empty() ? "none" : names;
}

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

std::string address_words(const Style& style, const look::AddressName& name) {
  const std::string arrow = style.utf8 ? " \u2192 " : " -> ";
  if (!name.text.empty()) return arrow + "\"" + escaped(name.text) + "\"";
  if (!name.name.empty()) return arrow + printable(name.name);
  return name.region.empty() ? std::string() : "  " + printable(name.region);
}

std::string reading_of(const Style& style, std::uint64_t value, unsigned bytes, const look::AddressName& name) {
  return name.known() ? fmt::format("{:#x}", value) + address_words(style, name) : both_readings(style, value, bytes);
}

std::string reading_of(const Style& style, std::uint64_t value, unsigned bytes, const Names& names) {
  return reading_of(style, value, bytes, names ? names(value) : look::AddressName{});
}

std::string old_reading_of(const Style& style, const look::RegisterRow& row, unsigned bytes) {
  return row.before_is_address ? fmt::format("{:#x}", *row.before) : both_readings(style, *row.before, bytes);
}

std::string old_reading_of(const Style& style, std::uint64_t value, unsigned bytes, const Names& names) {
  const bool address = names && names(value).known();
  return address ? fmt::format("{:#x}", value) : both_readings(style, value, bytes);
}

namespace {

/// What the stack pointer points to is the stack.
ChangeWords words_of(const Style& style, const state::RegisterChange& change, isa::Mode mode, const Names& names) {
  const unsigned word = arch::machine_of(mode).word;
  std::string name(name_of(change.reg, mode));
  if (change.reg == state::Reg::rsp)
    return {std::move(name), fmt::format("{:#x}", change.after), fmt::format("{:#x}", change.before), {}};
  return {std::move(name),
          reading_of(style, change.after, word, names),
          old_reading_of(style, change.before, word, names),
          {}};
}

ChangeWords words_of(const Style& style, const state::WrittenRegister& one, isa::Mode mode, const Names& names) {
  const unsigned bytes = one.part.width / 8U;
  const bool whole = bytes == arch::machine_of(mode).word;
  if (whole && one.part.index == isa::kRsp)
    return words_of(style, state::RegisterChange{state::Reg::rsp, one.before, one.after}, mode, names);
  const Names meant = whole ? names : Names();
  ChangeWords words{std::string(isa::name_of(one.part)),
                    reading_of(style, one.after, bytes, meant),
                    old_reading_of(style, one.before, bytes, meant),
                    {}};
  if (one.before == one.after) words.was = words.now;
  if (one.whole_before && mode == isa::Mode::bits64)
    words.was +=
        fmt::format("   ({} was {:#x})", isa::name_of({one.part.file, one.part.index, 0, 64}), *one.whole_before);
  return words;
}

}  // namespace

std::vector<ChangeWords> register_words(const Style& style, const state::Delta& delta, isa::Mode mode,
                                        const Names& names) {
  std::vector<ChangeWords> result;
  std::uint32_t shown = 0;  // bits by number
  const auto bit = [](unsigned number) { return std::uint32_t(1) << (number & 31); };
  for (const state::WrittenRegister& one : delta.written) {
    shown |= bit(one.part.index);
    result.push_back(words_of(style, one, mode, names));
  }
  for (const state::RegisterChange& change : delta.registers) {
    const auto number = state::general_number(change.reg);
    if (!number || (shown & bit(*number)) == 0) result.push_back(words_of(style, change, mode, names));
  }
  return result;
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

ChangeWords words_of(const Style& style, const state::Delta& delta, const state::MemoryChange& change,
                     const std::string& name, isa::Mode mode, const Names& names) {
  const unsigned word = arch::machine_of(mode).word;
  const auto words = [&](const std::uint8_t* bytes, bool known, bool now) -> std::string {
    if (!known) return "unknown";
    if (change.size != word) return reading(style, bytes, change.size);
    const std::uint64_t value = state::number_of(bytes, change.size);
    return now ? reading_of(style, value, word, names) : old_reading_of(style, value, word, names);
  };
  const std::string where = fmt::format("[{:#x}]", change.address);
  const bool same = std::equal(delta.after(change), delta.after(change) + change.size, delta.before(change));
  std::string what = name.empty() ? fmt::format("{} {} byte{}", where, change.size, change.size == 1 ? "" : "s")
                     : name.starts_with('[') ? printable(name)
                                             : where + " " + printable(name);
  std::string now = words(delta.after(change), change.after_known, true);
  std::string was =
      same && change.before_known && change.after_known ? now : words(delta.before(change), change.before_known, false);
  // In tables "[rbp-8] sum" is the sum.
  const std::size_t variable = name.starts_with('[') ? name.find("] ") + 2 : 0;
  return {std::move(what), std::move(now), std::move(was), name.empty() ? where : printable(name.substr(variable))};
}

ChangeWords flag_words(const state::Delta& delta) {
  if (((delta.flags_before ^ delta.flags_after) & kShownFlags) == 0) return {};
  return {"flags", flag_list(delta.flags_after), flag_list(delta.flags_before), {}};
}

}  // namespace deeptrace::report
