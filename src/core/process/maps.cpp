#include "process/maps.h"

#include <sys/personality.h>
#include <unistd.h>

#include <climits>
#include <cstdio>
#include <cstring>
#include <fstream>
#include <iterator>
#include <sstream>

namespace deeptrace::process {
namespace {

std::string proc_path(pid_t pid, const char* name) { return "/proc/" + std::to_string(pid) + "/" + name; }

}  // namespace

std::vector<state::Mapping> mappings_of(pid_t pid) {
  std::vector<state::Mapping> result;
  std::ifstream in(proc_path(pid, "maps"));
  for (std::string line; std::getline(in, line);) {
    state::Mapping mapping;
    unsigned long long from = 0, to = 0, offset = 0;
    char flags[5] = {};
    int path_at = 0;
    if (std::sscanf(line.c_str(), "%llx-%llx %4s %llx %*s %*s %n", &from, &to, flags, &offset, &path_at) < 4) continue;
    mapping.from = from;
    mapping.to = to;
    mapping.offset = offset;
    mapping.readable = flags[0] == 'r';
    mapping.writable = flags[1] == 'w';
    mapping.executable = flags[2] == 'x';
    mapping.shared = flags[3] == 's';
    if (path_at > 0 && static_cast<std::size_t>(path_at) < line.size())
      mapping.path = line.substr(static_cast<std::size_t>(path_at));
    result.push_back(std::move(mapping));
  }
  return result;
}

std::string executable_of(pid_t pid) {
  char real[PATH_MAX];
  std::string link = proc_path(pid, "exe");
  const ssize_t size = ::readlink(link.c_str(), real, sizeof real);
  std::string path(real, size > 0 ? static_cast<std::size_t>(size) : 0);
  return path.empty() || path.ends_with(" (deleted)") ? link : path;
}

std::optional<std::uint64_t> auxiliary_value(pid_t pid, state::Auxiliary type) {
  // The words are as wide as the program's; byte 4 of its file says how wide that is (ELF, EI_CLASS).
  std::ifstream file(proc_path(pid, "exe"), std::ios::binary);
  char ident[5] = {};
  const bool narrow = file.read(ident, sizeof ident) && ident[4] == 1;
  std::ifstream in(proc_path(pid, "auxv"), std::ios::binary);
  const std::string all((std::istreambuf_iterator<char>(in)), std::istreambuf_iterator<char>());
  const std::size_t word = narrow ? 4 : 8;
  for (std::size_t at = 0; at + 2 * word <= all.size(); at += 2 * word) {
    std::uint64_t pair[2] = {};
    std::memcpy(&pair[0], all.data() + at, word);
    std::memcpy(&pair[1], all.data() + at + word, word);
    if (pair[0] == static_cast<std::uint64_t>(type)) return pair[1];
    if (pair[0] == 0) break;
  }
  return std::nullopt;
}

bool is_randomised(pid_t pid) {
  std::ifstream in(proc_path(pid, "personality"));
  unsigned long flags = 0;
  return !(in >> std::hex >> flags) || (flags & ADDR_NO_RANDOMIZE) == 0;
}

std::string status_text(pid_t task, std::string_view name) {
  std::ifstream in(proc_path(task, "status"));
  for (std::string line; std::getline(in, line);) {
    if (!line.starts_with(name) || line.size() <= name.size() || line[name.size()] != ':') continue;
    const std::size_t start = line.find_first_not_of(" \t", name.size() + 1);
    return start != std::string::npos ? line.substr(start) : std::string();
  }
  return {};
}

std::uint64_t status_field(pid_t task, std::string_view name, int base) {
  return std::strtoull(status_text(task, name).c_str(), nullptr, base);
}

namespace {

/// True when a signal stands in one of the masks of /proc/PID/status.
bool in_mask(pid_t pid, std::string_view field, int signal) {
  return signal >= 1 && (status_field(pid, field, 16) >> (signal - 1) & 1) != 0;
}

}  // namespace

bool catches_signal(pid_t pid, int signal) { return in_mask(pid, "SigCgt", signal); }
bool ignores_signal(pid_t pid, int signal) { return in_mask(pid, "SigIgn", signal); }

}  // namespace deeptrace::process
