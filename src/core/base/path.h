// Parts of file names.
#pragma once

#include <string>
#include <string_view>

namespace deeptrace {

/// What stands past the last slash: "levels.c" of "demo/levels.c".
inline std::string base_name(std::string_view path) { return std::string(path.substr(path.rfind('/') + 1)); }

}  // namespace deeptrace
