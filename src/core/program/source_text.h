// The text of source files, read once each when they can be found.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>
#include <utility>
#include <vector>

namespace deeptrace::program {

class SourceText {
 public:
  /// `moved` holds pairs FROM, TO: a path that begins with FROM is looked for with TO in its place.
  explicit SourceText(std::vector<std::pair<std::string, std::string>> moved = {}) : moved_(std::move(moved)) {}

  /// The text of a line (1 and up), without its line end; nothing when the file cannot be read or is shorter. The
  /// view holds until the object ends.
  std::optional<std::string_view> line(const std::string& path, std::uint32_t number);
  /// All of it; nothing when it cannot be read. The view holds as long.
  std::optional<std::string_view> whole(const std::string& path);
  /// True when the file can be read.
  bool found(const std::string& path);

 private:
  struct File {
    bool readable = false;
    std::string text;
    std::vector<std::size_t> starts;  ///< offset of each line, and one past the last
  };
  File& load(const std::string& path);

  std::vector<std::pair<std::string, std::string>> moved_;
  std::unordered_map<std::string, File> files_;
};

}  // namespace deeptrace::program
