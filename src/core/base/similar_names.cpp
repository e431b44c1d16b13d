#include "base/similar_names.h"

#include <algorithm>
#include <compare>

namespace deeptrace {

std::size_t edit_distance(std::string_view a, std::string_view b) {
  std::vector<std::size_t> row(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j) row[j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    std::size_t diagonal = row[0];
    row[0] = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      const std::size_t above = row[j];
      row[j] = std::min({above + 1, row[j - 1] + 1, diagonal + (a[i - 1] == b[j - 1] ? 0 : 1)});
      diagonal = above;
    }
  }
  return row[b.size()];
}

std::vector<std::string> similar_names(const std::set<std::string>& names, std::string_view name) {
  constexpr std::size_t kLongest = 100, kMost = 3;
  struct Scored {
    std::size_t score, length_difference;
    std::string name;
    auto operator<=>(const Scored&) const = default;
  };
  std::vector<Scored> scored;
  for (const std::string& other : names) {
    if (other.size() > kLongest || name.size() > kLongest) continue;
    std::size_t score = edit_distance(name, other);
    if (name.size() >= 3 && other.find(name) != std::string::npos) score = 1;
    if (score <= std::max<std::size_t>(2, name.size() / 3))
      scored.push_back({score, std::max(name.size(), other.size()) - std::min(name.size(), other.size()), other});
  }
  std::sort(scored.begin(), scored.end());
  std::vector<std::string> result;
  for (std::size_t i = 0; i < scored.size() && i < kMost; ++i) result.push_back(scored[i].name);
  return result;
}

std::string similar_words(const std::vector<std::string>& near) {
  std::string words;
  for (const std::string& name : near) words += (words.empty() ? "; similar names: " : ", ") + name;
  return words;
}

}  // namespace deeptrace
