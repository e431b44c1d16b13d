// Which functions of two builds belong together: by name, and, where one of them has no name (a stripped file), by what
// they do.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "program/program.h"

namespace deeptrace::study {

/// A function of both files; null where one has none.
struct FunctionPair {
  const program::Function* a = nullptr;
  const program::Function* b = nullptr;
  bool by_content = false;
};

/// A text of what a function does that is the same wherever it lies.
using ContentOf = std::function<std::string(const program::Function&)>;

/// Of several functions with one name those at the same place in the order go together, and a function with its only
/// clone (program/instances.h). What is left and has no name on
/// at least one side is paired with its only equal by content; between two pairs, where as many are left on both sides,
/// they go together in order, as linkers keep it. All others are alone.
std::vector<FunctionPair> pair_functions(const std::vector<const program::Function*>& a,
                                         const std::vector<const program::Function*>& b, const ContentOf& content_a,
                                         const ContentOf& content_b);

}  // namespace deeptrace::study
