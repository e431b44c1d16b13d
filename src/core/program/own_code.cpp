#include "program/own_code.h"

#include <algorithm>
#include <array>
#include <filesystem>

namespace deeptrace::program {
namespace {

template <std::size_t N>
bool starts_with_any(std::string_view path, const std::array<std::string_view, N>& prefixes) {
  return std::any_of(prefixes.begin(), prefixes.end(), [&](std::string_view p) { return path.starts_with(p); });
}

/// A path lies below another when it begins with it, at a directory boundary.
bool is_below(std::string_view path, std::string_view parent) {
  while (parent.size() > 1 && parent.ends_with('/')) parent.remove_suffix(1);
  return path.starts_with(parent) && (path.size() == parent.size() || path[parent.size()] == '/' || parent == "/");
}

}  // namespace

bool in_system_libraries(std::string_view module_path) {
  constexpr std::array<std::string_view, 7> kDirectories = {"/lib/",     "/lib32/",     "/lib64/",    "/libx32/",
                                                            "/usr/lib/", "/usr/lib32/", "/usr/lib64/"};
  return starts_with_any(module_path, kDirectories) || (!module_path.empty() && module_path.front() == '[');
}

bool in_system_sources(std::string_view source_path) {
  // Distributions build their packages below /build or /usr/src.
  constexpr std::array<std::string_view, 9> kDirectories = {"/usr/include/", "/usr/local/include/", "/usr/lib/",
                                                            "/usr/lib32/",   "/usr/lib64/",         "/usr/src/",
                                                            "/build/",       "/usr/share/",         "../sysdeps/"};
  if (starts_with_any(source_path, kDirectories) || source_path.find("/../sysdeps/") != std::string_view::npos)
    return true;
  // Compilers may name their own folder by a way back from where they lie: /usr/bin/../lib/gcc/…
  if (source_path.find("/../") == std::string_view::npos) return false;
  return starts_with_any(std::filesystem::path(source_path).lexically_normal().string(), kDirectories);
}

bool is_scaffolding(std::string_view function, bool with_c_start) {
  constexpr std::array<std::string_view, 12> kNames = {
      "_init",       "_fini",           "deregister_tm_clones", "register_tm_clones",      "__do_global_dtors_aux",
      "frame_dummy", "__libc_csu_init", "__libc_csu_fini",      "_dl_relocate_static_pie", "__stack_chk_fail_local",
      "atexit",      "at_quick_exit"};
  if (function == "_start") return with_c_start;
  return std::find(kNames.begin(), kNames.end(), function) != kNames.end();
}

bool is_own(const OwnCode& rule, std::string_view module_path, bool has_lines, std::string_view source,
            std::string_view function, bool with_c_start) {
  if (rule.all) return true;
  if (!rule.paths.empty()) {
    return std::any_of(rule.paths.begin(), rule.paths.end(), [&](const std::string& path) {
      return (!source.empty() && is_below(source, path)) || is_below(module_path, path);
    });
  }
  if (in_system_libraries(module_path)) return false;
  if (has_lines) return !source.empty() && !in_system_sources(source);
  return !is_scaffolding(function, with_c_start);
}

}  // namespace deeptrace::program
