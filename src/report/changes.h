// What changed between two moments of a thread, in words: for rows of steps and for cards.
#pragma once

#include <string>
#include <vector>

#include "report/output.h"
#include "state/delta.h"

namespace deeptrace::report {

/// The flags that a program's instructions change: OF DF TF SF ZF AF PF CF.
inline constexpr std::uint64_t kShownFlags = 0xdd5;

struct ChangeWords {
  std::string what;  ///< "eax", "ymm3", "flags", "[0x7fffffffe0f8] 4 bytes"
  std::string now, was;
  std::string where;  ///< of memory: "[0x7fffffffe0f8]"
};

/// "now 0x6 · 6   was 0x5 · 5", or "still 0x5 · 5"; of long values what was comes on a line of its own.
std::vector<std::string> now_and_was(const Style& style, const ChangeWords& words);

/// Up to 64 bytes in memory order, more are counted by dots.
std::string byte_words(const std::uint8_t* bytes, std::size_t size);

ChangeWords words_of(const Style& style, const state::RegisterChange& change, isa::Mode mode);
/// Registers beyond the integer core: vectors as bytes in memory order, those of the floating-point unit as numbers or
/// "empty". Many of the unit that were merely marked as used or empty, as mmx instructions do, are one.
std::vector<ChangeWords> wide_words(const Style& style, const state::Delta& delta);
ChangeWords words_of(const Style& style, const state::Delta& delta, const state::MemoryChange& change);
/// The flags before and after, where those that are shown differ; else nothing is in `what`.
ChangeWords flag_words(const state::Delta& delta);

}  // namespace deeptrace::report
