// Inlined calls with the source paths that people know.
#pragma once

#include <optional>
#include <string_view>
#include <vector>

#include "debuginfo/scopes.h"
#include "program/program.h"

namespace deeptrace::program {

/// One inlined call: which function's instructions these are, and where it was called.
struct Inlined {
  std::string_view name;
  std::string_view file;   ///< of the call; empty when unknown
  std::uint32_t line = 0;  ///< 0 when unknown
  bool operator==(const Inlined&) const = default;
};

/// Not safe for use by two threads at once; each takes its own. Views hold as long as the object.
class Inlining {
 public:
  explicit Inlining(const Program& program) : program_(program), scopes_(program.debug()) {}

  /// The calls that the instruction at an address stands in, outermost first.
  std::vector<Inlined> at(std::uint64_t address) {
    std::vector<Inlined> result;
    const std::vector<const debuginfo::InlinedCall*> calls = scopes_.inlined_at(address);
    if (calls.empty()) return result;
    const debuginfo::Unit& unit = *scopes_.function_at(address)->unit;
    for (const debuginfo::InlinedCall* call : calls) result.push_back(with_path(unit, *call));
    return result;
  }

  /// Where a copy was called.
  std::optional<Inlined> call_of(const debuginfo::InlinedCopy& copy) {
    for (const debuginfo::InlinedCall* call : scopes_.inlined_at(copy.address())) {
      if (call->entry == copy.entry.offset) return with_path(*copy.entry.unit, *call);
    }
    return std::nullopt;
  }

  debuginfo::Scopes& scopes() { return scopes_; }

 private:
  Inlined with_path(const debuginfo::Unit& unit, const debuginfo::InlinedCall& call) const {
    Inlined one{call.name, {}, call.call_line};
    if (const auto line = program_.lines().line_of(unit, call.call_file, call.call_line))
      one.file = program_.lines().file(line->file);
    return one;
  }

  const Program& program_;
  debuginfo::Scopes scopes_;
};

}  // namespace deeptrace::program
