#include "cli/configuration.h"

#include <algorithm>
#include <array>
#include <cstdlib>
#include <filesystem>
#include <optional>
#include <set>

#define TOML_EXCEPTIONS 0
#include <toml++/toml.h>

#include "base/similar_names.h"

namespace deeptrace::cli {
namespace {

namespace fs = std::filesystem;

struct Key {
  std::string_view name;
  enum class Type : std::uint8_t { text, flag, list } type;
};
/// What changes how things are shown, and where sources are. Nothing here starts, writes or removes anything: a file
/// may lie in a folder that somebody else filled.
constexpr std::array kKeys = {Key{"syntax", Key::Type::text},    Key{"colour", Key::Type::text},
                              Key{"uncut", Key::Type::flag},     Key{"own", Key::Type::list},
                              Key{"debug-dir", Key::Type::list}, Key{"source-moved", Key::Type::list},
                              Key{"mangled", Key::Type::flag}};

std::vector<std::string> files() {
  if (const char* named = std::getenv("DEEPTRACE_CONFIG"))
    return *named == 0 ? std::vector<std::string>{} : std::vector<std::string>{named};
  std::vector<std::string> result;
  const char* folder = std::getenv("XDG_CONFIG_HOME");
  const char* home = std::getenv("HOME");
  if (folder != nullptr && *folder == '/') {
    result.push_back(std::string(folder) + "/deeptrace/config.toml");
  } else if (home != nullptr && *home != 0) {
    result.push_back(std::string(home) + "/.config/deeptrace/config.toml");
  }
  result.emplace_back(".deeptrace.toml");
  std::erase_if(result, [](const std::string& file) {
    std::error_code failed;
    return !fs::exists(file, failed);
  });
  return result;
}

Error wrong(const std::string& file, const toml::source_region& where, const std::string& message) {
  return {Fault::usage,
          file + ":" + std::to_string(where.begin.line) + ":" + std::to_string(where.begin.column) + ": " + message};
}

std::optional<Setting> setting(const Key& key, const toml::node& value) {
  Setting result{std::string(key.name), {}, key.type == Key::Type::list};
  if (key.type == Key::Type::text && value.is_string()) {
    result.values = {value.ref<std::string>()};
    return result;
  }
  if (key.type == Key::Type::flag && value.is_boolean()) {
    result.off = !value.ref<bool>();
    return result;
  }
  const toml::array* list = key.type == Key::Type::list ? value.as_array() : nullptr;
  if (list == nullptr) return std::nullopt;
  for (const toml::node& one : *list) {
    if (!one.is_string()) return std::nullopt;
    result.values.push_back(one.ref<std::string>());
  }
  return result;
}

std::optional<Error> read(const std::string& file, std::vector<Setting>& into) {
  const toml::parse_result parsed = toml::parse_file(file);
  if (!parsed) {
    const toml::parse_error& error = parsed.error();
    return wrong(file, error.source(), std::string(error.description()));
  }
  for (const auto& [name, value] : parsed.table()) {
    const auto key = std::ranges::find(kKeys, name.str(), &Key::name);
    if (key == kKeys.end()) {
      std::set<std::string> names;
      for (const Key& one : kKeys) names.emplace(one.name);
      std::string all;
      for (const Key& one : kKeys) all += (all.empty() ? "" : ", ") + std::string(one.name);
      const std::string similar = similar_words(similar_names(names, std::string(name.str())));
      return wrong(
          file, name.source(),
          std::string(name.str()) + ": cannot be set here" + (similar.empty() ? "; these can: " + all : similar));
    }
    auto result = setting(*key, value);
    if (!result) {
      constexpr std::array kWords = {"a text in quotes", "true or false", "a list of texts in brackets"};
      return wrong(file, value.source(),
                   std::string(name.str()) + ": takes " + kWords[static_cast<std::size_t>(key->type)]);
    }
    into.push_back(std::move(*result));
  }
  return std::nullopt;
}

}  // namespace

Result<std::vector<Setting>> configured() {
  std::vector<Setting> result;
  for (const std::string& file : files()) {
    if (auto error = read(file, result)) return *error;
  }
  return result;
}

}  // namespace deeptrace::cli
