// System calls added up: by call, by descriptor, by own line or by file. Memory grows with how many of these there are,
// not with the calls.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "look/call_decoder.h"
#include "look/level.h"

namespace deeptrace::session {

enum class TotalsBy : std::uint8_t { call, descriptor, line, file };

/// By "call", "descriptor", "line", "file"; nothing for other words.
std::optional<TotalsBy> totals_by(std::string_view word);

struct SyscallTotal {
  std::string key;
  std::uint64_t calls = 0, errors = 0;
  std::uint64_t bytes = 0;  ///< that calls say they read or wrote
  std::uint64_t time = 0;   ///< nanoseconds, the cost of tracing included
  std::uint64_t longest = 0;
};

class SyscallTotals {
 public:
  explicit SyscallTotals(TotalsBy by) : by_(by) {}

  void add(const look::AskedCall& asked, const look::DecodedCall& call, const look::Where& own, std::uint64_t duration);
  /// Those that took the most time first.
  [[nodiscard]] std::vector<SyscallTotal> all() const;

 private:
  [[nodiscard]] std::string key_of(const look::AskedCall& asked, const look::DecodedCall& call,
                                   const look::Where& own) const;

  TotalsBy by_;
  std::map<std::string, SyscallTotal> totals_;
};

}  // namespace deeptrace::session
