#include "program/source_text.h"

#include <filesystem>
#include <fstream>
#include <iterator>

namespace deeptrace::program {

SourceText::File& SourceText::load(const std::string& path) {
  const auto [place, added] = files_.try_emplace(path);
  File& file = place->second;
  if (!added) return file;
  std::string where = path;
  for (const auto& [from, to] : moved_) {
    if (path.starts_with(from)) {
      where = to + path.substr(from.size());
      break;
    }
  }
  std::error_code ignored;
  if (!std::filesystem::is_regular_file(where, ignored)) return file;
  std::ifstream in(where, std::ios::binary);
  if (!in) return file;
  file.text.assign(std::istreambuf_iterator<char>(in), {});
  file.readable = true;
  file.starts.push_back(0);
  for (std::size_t i = 0; i < file.text.size(); ++i) {
    if (file.text[i] == '\n') file.starts.push_back(i + 1);
  }
  if (file.starts.back() != file.text.size()) file.starts.push_back(file.text.size() + 1);
  return file;
}

std::optional<std::string_view> SourceText::line(const std::string& path, std::uint32_t number) {
  const File& file = load(path);
  if (!file.readable || number == 0 || number >= file.starts.size()) return std::nullopt;
  const std::size_t start = file.starts[number - 1];
  std::string_view text = std::string_view(file.text).substr(start, file.starts[number] - 1 - start);
  if (text.ends_with('\r')) text.remove_suffix(1);
  return text;
}

std::optional<std::string_view> SourceText::whole(const std::string& path) {
  const File& file = load(path);
  return file.readable ? std::optional<std::string_view>(file.text) : std::nullopt;
}

bool SourceText::found(const std::string& path) { return load(path).readable; }

}  // namespace deeptrace::program
