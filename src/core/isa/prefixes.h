// What the prefixes of instructions do, by the names that assemblers have for them (Intel SDM volume 2, chapter 2, and
// the pages of LOCK, REP and XACQUIRE; volume 1 on control-flow enforcement for notrack).
#pragma once

#include <span>
#include <string_view>

namespace deeptrace::isa {

struct NamedPrefix {
  std::string_view names;     ///< with spaces between them
  std::string_view encoding;  ///< bytes in hexadecimal: "f0", "40 to 4f"
  std::string_view meaning, where, warning;
};

[[nodiscard]] std::span<const NamedPrefix> named_prefixes();

}  // namespace deeptrace::isa
