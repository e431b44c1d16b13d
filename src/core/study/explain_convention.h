// What `explain convention` tells: the row of the table, what follows from it, and the stack at a function's first
// instruction.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "abi/conventions.h"

namespace deeptrace::study {

struct ExplainedConvention {
  const abi::Convention* convention = nullptr;
  std::vector<std::string> changes;  ///< general registers that the callee may leave changed
  struct Slot {
    std::int64_t offset = 0;  ///< bytes from the stack pointer
    std::string what;
  };
  std::vector<Slot> stack;  ///< at the first instruction, from above; none of conventions without a stack
};

/// Of one of its names; nothing for other words.
std::optional<ExplainedConvention> explain_convention(std::string_view word);

}  // namespace deeptrace::study
