// Two sequences laid side by side: which elements belong together.
#pragma once

#include <cstddef>
#include <functional>
#include <vector>

namespace deeptrace::study {

/// One row: indices into the two sequences, -1 where one has nothing.
struct AlignedPair {
  std::ptrdiff_t a = -1, b = -1;
};

/// How well two elements go together: 0 not at all; the sum over all rows is made as large as can be. Sequences whose
/// table of comparisons would grow too large are cut at elements that occur once in both.
using Likeness = std::function<int(std::size_t a, std::size_t b)>;

/// `keys` tell elements that are quite the same by equal numbers.
std::vector<AlignedPair> align(const std::vector<std::size_t>& keys_a, const std::vector<std::size_t>& keys_b,
                               const Likeness& likeness);

}  // namespace deeptrace::study
