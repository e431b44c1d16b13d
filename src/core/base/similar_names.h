// Names that resemble a mistyped one.
#pragma once

#include <set>
#include <string>
#include <string_view>
#include <vector>

namespace deeptrace {

/// How many letters must be changed, added or left out to make one name of the other.
std::size_t edit_distance(std::string_view a, std::string_view b);

/// Up to three names that are near, best first.
std::vector<std::string> similar_names(const std::set<std::string>& names, std::string_view name);

/// The same for the end of a message: "; similar names: level_sum, level_at", or nothing.
std::string similar_words(const std::vector<std::string>& near);

}  // namespace deeptrace
