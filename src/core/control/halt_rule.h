// What a person asks to stop at, as text: the words after `halt` in the console.
//
//   at levels.c:31 from hit 3 when level > 5
//
// The words of a kind (`at LOCATION`, `on write EXPR`, …), followed by any of: from hit N, every N, when EXPR, for
// thread N, for all threads, once, later. Hits are counted after `when` holds. With `later` a place or variable that
// nothing knows yet is waited for: a library that is loaded may have it. All that makes a kind is one record of
// kHaltKinds.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "base/result.h"

namespace deeptrace::control {

struct HaltKind {
  std::string_view words;    ///< "at", "on write"
  std::string_view subject;  ///< what stands after them: "LOCATION"; empty: nothing does
  /// What brings it about: control comes to a place, memory is accessed, the kernel or the dynamic linker reports it.
  enum class By : std::uint8_t { place, data, system_call, signal, loader };
  By by = By::place;
  // Of places:
  /// The functions at whose first instruction all rules of the kind stand, with blanks between; they may come with a
  /// library, and not all need be there.
  std::string_view fixed = {};
  bool at_return = false;  ///< where the function that begins at the place returns to
  // Of data:
  bool reads = false;         ///< a read counts, too
  bool only_changes = false;  ///< a write of the same value does not count
};

/// In the order of HaltRule::Kind.
inline constexpr std::array<HaltKind, 10> kHaltKinds = {{
    {.words = "at", .subject = "LOCATION"},
    {.words = "on write", .subject = "EXPR", .by = HaltKind::By::data},
    {.words = "on access", .subject = "EXPR", .by = HaltKind::By::data, .reads = true},
    {.words = "on change", .subject = "EXPR", .by = HaltKind::By::data, .only_changes = true},
    {.words = "on return", .subject = "FUNCTION", .at_return = true},
    {.words = "on syscall", .subject = "NAME", .by = HaltKind::By::system_call},
    {.words = "on signal", .subject = "NAME", .by = HaltKind::By::signal},
    // Itanium C++ ABI: Exception Handling, 2.4 and 2.5; std::rethrow_exception raises by itself.
    {.words = "on throw",
     .subject = {},
     .fixed = "__cxa_throw __cxa_rethrow _ZSt17rethrow_exceptionNSt15__exception_ptr13exception_ptrE"},
    {.words = "on catch", .subject = {}, .fixed = "__cxa_begin_catch"},
    {.words = "on load", .subject = "NAME", .by = HaltKind::By::loader},
}};

struct HaltRule {
  enum class Kind : std::uint8_t { at, write, access, change, returns, system_call, signal, thrown, caught, load };
  Kind kind = Kind::at;
  std::string what;       ///< the location, expression, function or name
  std::string condition;  ///< an expression; empty: none
  std::uint64_t from = 1;
  std::uint64_t every = 1;
  std::optional<std::uint64_t> thread;
  bool all_threads = false;  ///< of a variable of each thread's own: all copies are watched
  bool once = false;
  bool later = false;

  [[nodiscard]] const HaltKind& how() const { return kHaltKinds[static_cast<std::size_t>(kind)]; }
  [[nodiscard]] bool on_data() const { return how().by == HaltKind::By::data; }
  /// The rule as it is written.
  [[nodiscard]] std::string text() const;
};

/// Errors (Fault::usage) say at which character what was expected; `at`, where it is not null, gets that place.
Result<HaltRule> parse_halt_rule(std::string_view text, std::size_t* at = nullptr);

}  // namespace deeptrace::control
