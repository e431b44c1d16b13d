// What a person asks to stop at, as text: the words behind `halt` in the console.
//
//   at LOCATION                    on write EXPR      on access EXPR     on change EXPR
//   on return FUNCTION             on syscall NAME    on signal NAME     on throw      on load NAME
//
// each followed by any of: from hit N, every N, when EXPR, for thread N, once. Hits are counted after `when` holds.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "base/result.h"

namespace deeptrace::control {

struct HaltRule {
  enum class Kind : std::uint8_t { at, write, access, change, returns, system_call, signal, thrown, load };
  Kind kind = Kind::at;
  std::string what;       ///< the location, expression, function or name
  std::string condition;  ///< an expression; empty: none
  std::uint64_t from = 1;
  std::uint64_t every = 1;
  std::optional<std::uint64_t> thread;
  bool once = false;

  [[nodiscard]] bool on_data() const { return kind == Kind::write || kind == Kind::access || kind == Kind::change; }
  /// The rule as it is written.
  [[nodiscard]] std::string text() const;
};

/// Errors (Fault::usage) say at which character what was expected; `at`, where it is not null, gets that place.
Result<HaltRule> parse_halt_rule(std::string_view text, std::size_t* at = nullptr);

}  // namespace deeptrace::control
