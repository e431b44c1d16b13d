// The numbers that people know threads by: from 1, in the order in which they were seen.
#pragma once

#include <algorithm>
#include <cstdint>
#include <optional>
#include <vector>

#include "state/target.h"

namespace deeptrace::state {

class ThreadNumbers {
 public:
  [[nodiscard]] std::uint64_t of(const Target& target, ThreadId thread) {
    for (const ThreadId id : target.threads()) {
      if (std::ranges::find(seen_, id) == seen_.end()) seen_.push_back(id);
    }
    return static_cast<std::uint64_t>(std::ranges::find(seen_, thread) - seen_.begin()) + 1;
  }
  /// The living thread of a number of ours, or the kernel's.
  [[nodiscard]] std::optional<ThreadId> named(const Target& target, std::uint64_t number) {
    for (const ThreadId id : target.threads()) {
      if (of(target, id) == number || static_cast<std::uint64_t>(id) == number) return id;
    }
    return std::nullopt;
  }

 private:
  std::vector<ThreadId> seen_;
};

}  // namespace deeptrace::state
