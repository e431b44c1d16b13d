// What changed between two moments of a thread, in words: for rows of steps and for cards.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "look/address_name.h"
#include "look/rows.h"
#include "report/output.h"
#include "state/delta.h"

namespace deeptrace::report {

/// The flags that a program's instructions change: OF DF TF SF ZF AF PF CF.
inline constexpr std::uint64_t kShownFlags = 0xdd5;

struct ChangeWords {
  std::string what;  ///< "eax", "ymm3", "flags", "[0x7fffffffe0f8] 4 bytes", "[0x40200c] total"
  std::string now, was;
  std::string where;  ///< of memory: "total", or "[0x7fffffffe0f8]"
};

/// What lies at an address; nothing known for numbers.
using Names = std::function<look::AddressName(std::uint64_t value)>;

/// A value of up to eight bytes: an address with what lies there and no decimal, everything else in both readings.
std::string reading_of(const Style& style, std::uint64_t value, unsigned bytes, const Names& names);
std::string reading_of(const Style& style, std::uint64_t value, unsigned bytes, const look::AddressName& name);
/// What lies at an address, after its digits: " → level_sum+0x12", "  stack, rsp+8"; empty where nothing is known.
std::string address_words(const Style& style, const look::AddressName& name);
/// The same for what was: an address alone.
std::string old_reading_of(const Style& style, std::uint64_t value, unsigned bytes, const Names& names);
/// Of a register that has changed (row.before).
std::string old_reading_of(const Style& style, const look::RegisterRow& row, unsigned bytes);

/// The general registers that changed: those that an instruction wrote at the width that it wrote, changed or not, then
/// all others.
std::vector<ChangeWords> register_words(const Style& style, const state::Delta& delta, isa::Mode mode,
                                        const Names& names);

/// "now 0x6 · 6   was 0x5 · 5", or "still 0x5 · 5"; of long values what was comes on a line of its own.
std::vector<std::string> now_and_was(const Style& style, const ChangeWords& words);

/// Up to 64 bytes in memory order, more are counted by dots.
std::string byte_words(const std::uint8_t* bytes, std::size_t size);

/// Registers beyond the integer core: vectors as bytes in memory order, those of the floating-point unit as numbers or
/// "empty". Many of the unit that were merely marked as used or empty, as mmx instructions do, are one.
std::vector<ChangeWords> wide_words(const Style& style, const state::Delta& delta);
/// `name` is the variable that was written, where one is known: "total".
ChangeWords words_of(const Style& style, const state::Delta& delta, const state::MemoryChange& change,
                     const std::string& name, isa::Mode mode, const Names& names);
/// "ZF PF", "none".
std::string flag_list(std::uint64_t flags);
/// The flags before and after, where those that are shown differ; else nothing is in `what`.
ChangeWords flag_words(const state::Delta& delta);

}  // namespace deeptrace::report
