#include "study/alignment.h"

#include <algorithm>
#include <cstdint>
#include <unordered_map>

namespace deeptrace::study {
namespace {

/// Cells of a table of comparisons: a byte each, and four for two rows of sums.
constexpr std::size_t kMostCells = std::size_t(1) << 25;

class Aligner {
 public:
  Aligner(const std::vector<std::size_t>& a, const std::vector<std::size_t>& b, const Likeness& likeness)
      : a_(a), b_(b), likeness_(likeness) {}

  std::vector<AlignedPair> run() {
    part(0, a_.size(), 0, b_.size());
    return std::move(rows_);
  }

 private:
  void pair(std::size_t a, std::size_t b) {
    rows_.push_back({static_cast<std::ptrdiff_t>(a), static_cast<std::ptrdiff_t>(b)});
  }
  void only_a(std::size_t a) { rows_.push_back({static_cast<std::ptrdiff_t>(a), -1}); }
  void only_b(std::size_t b) { rows_.push_back({-1, static_cast<std::ptrdiff_t>(b)}); }

  void part(std::size_t a, std::size_t a_end, std::size_t b, std::size_t b_end) {
    while (a < a_end && b < b_end && a_[a] == b_[b]) pair(a++, b++);
    std::size_t tail = 0;
    while (a < a_end - tail && b < b_end - tail && a_[a_end - tail - 1] == b_[b_end - tail - 1]) ++tail;
    middle(a, a_end - tail, b, b_end - tail);
    for (std::size_t i = tail; i > 0; --i) pair(a_end - i, b_end - i);
  }

  void middle(std::size_t a, std::size_t a_end, std::size_t b, std::size_t b_end) {
    const std::size_t rows = a_end - a, columns = b_end - b;
    if (rows == 0 || columns == 0 || rows + 1 <= kMostCells / (columns + 1)) return table(a, a_end, b, b_end);
    // Too large: elements that occur once in both hold the sequences together.
    const std::vector<AlignedPair> anchors = unique_in_both(a, a_end, b, b_end);
    if (anchors.empty()) {
      while (a < a_end) only_a(a++);
      while (b < b_end) only_b(b++);
      return;
    }
    for (const AlignedPair& anchor : anchors) {
      const auto at_a = static_cast<std::size_t>(anchor.a), at_b = static_cast<std::size_t>(anchor.b);
      part(a, at_a, b, at_b);
      pair(at_a, at_b);
      a = at_a + 1;
      b = at_b + 1;
    }
    part(a, a_end, b, b_end);
  }

  /// The longest ascending run of them (patience sorting).
  [[nodiscard]] std::vector<AlignedPair> unique_in_both(std::size_t a, std::size_t a_end, std::size_t b,
                                                        std::size_t b_end) const {
    struct Count {
      std::size_t in_a = 0, in_b = 0, at_b = 0;
    };
    std::unordered_map<std::size_t, Count> counts;
    for (std::size_t i = a; i < a_end; ++i) ++counts[a_[i]].in_a;
    for (std::size_t i = b; i < b_end; ++i) {
      Count& count = counts[b_[i]];
      ++count.in_b;
      count.at_b = i;
    }
    std::vector<AlignedPair> candidates;
    for (std::size_t i = a; i < a_end; ++i) {
      const Count& count = counts[a_[i]];
      if (count.in_a == 1 && count.in_b == 1)
        candidates.push_back({static_cast<std::ptrdiff_t>(i), static_cast<std::ptrdiff_t>(count.at_b)});
    }
    std::vector<std::size_t> tops;
    std::vector<std::ptrdiff_t> before(candidates.size(), -1);
    for (std::size_t i = 0; i < candidates.size(); ++i) {
      const auto pile =
          std::ranges::lower_bound(tops, candidates[i].b, {}, [&](std::size_t t) { return candidates[t].b; });
      if (pile != tops.begin()) before[i] = static_cast<std::ptrdiff_t>(*(pile - 1));
      if (pile == tops.end()) {
        tops.push_back(i);
      } else {
        *pile = i;
      }
    }
    std::vector<AlignedPair> result;
    for (std::ptrdiff_t i = tops.empty() ? -1 : static_cast<std::ptrdiff_t>(tops.back()); i >= 0;
         i = before[static_cast<std::size_t>(i)])
      result.push_back(candidates[static_cast<std::size_t>(i)]);
    std::ranges::reverse(result);
    return result;
  }

  /// The best alignment by dynamic programming (Needleman and Wunsch; gaps cost nothing).
  void table(std::size_t a, std::size_t a_end, std::size_t b, std::size_t b_end) {
    const std::size_t rows = a_end - a, columns = b_end - b;
    enum Step : std::uint8_t { kPair, kOnlyA, kOnlyB };
    std::vector<std::uint8_t> steps((rows + 1) * (columns + 1), kOnlyB);
    std::vector<std::int32_t> below(columns + 1, 0), here(columns + 1, 0);
    for (std::size_t i = rows; i-- > 0;) {
      here[columns] = 0;
      steps[i * (columns + 1) + columns] = kOnlyA;
      for (std::size_t k = columns; k-- > 0;) {
        const int like = likeness_(a + i, b + k);
        std::int32_t best = below[k];
        Step step = kOnlyA;
        if (here[k + 1] > best) {
          best = here[k + 1];
          step = kOnlyB;
        }
        if (like > 0 && below[k + 1] + like >= best) {
          best = below[k + 1] + like;
          step = kPair;
        }
        here[k] = best;
        steps[i * (columns + 1) + k] = step;
      }
      std::swap(here, below);
    }
    std::size_t i = 0, k = 0;
    while (i < rows || k < columns) {
      if (i == rows) {
        only_b(b + k++);
      } else if (k == columns || steps[i * (columns + 1) + k] == kOnlyA) {
        only_a(a + i++);
      } else if (steps[i * (columns + 1) + k] == kOnlyB) {
        only_b(b + k++);
      } else {
        pair(a + i++, b + k++);
      }
    }
  }

  const std::vector<std::size_t>& a_;
  const std::vector<std::size_t>& b_;
  const Likeness& likeness_;
  std::vector<AlignedPair> rows_;
};

}  // namespace

std::vector<AlignedPair> align(const std::vector<std::size_t>& keys_a, const std::vector<std::size_t>& keys_b,
                               const Likeness& likeness) {
  return Aligner(keys_a, keys_b, likeness).run();
}

}  // namespace deeptrace::study
