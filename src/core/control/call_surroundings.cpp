#include "control/call_surroundings.h"

#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <sstream>
#include <vector>

namespace deeptrace::control {
namespace {

/// Names in a directory as a process would find it; nothing where it cannot be read.
std::vector<std::string> names_in(pid_t pid, std::int64_t at, const std::string& directory) {
  constexpr std::size_t kMost = 10000;
  std::string base = "/proc/" + std::to_string(pid);
  base += directory.starts_with('/') ? "/root" : at >= 0 ? "/fd/" + std::to_string(at) + "/" : "/cwd/";
  std::vector<std::string> names;
  std::error_code failed;
  for (std::filesystem::directory_iterator one(base + directory, failed), end; !failed && one != end;
       one.increment(failed)) {
    if (names.size() == kMost) return {};
    names.push_back(one->path().filename());
  }
  return names;
}

/// Whether a socket listens at a port of this machine (proc_pid_net(5): state 0A).
bool listens_at(pid_t pid, std::uint16_t port) {
  for (const char* table : {"tcp", "tcp6"}) {
    std::ifstream file("/proc/" + std::to_string(pid) + "/net/" + table);
    std::string number, local, remote, state;
    std::getline(file, local);
    for (std::string line; std::getline(file, line);) {
      std::istringstream words(line);
      words >> number >> local >> remote >> state;
      const std::size_t colon = local.rfind(':');
      if (state == "0A" && colon != std::string::npos && std::strtoul(local.c_str() + colon + 1, nullptr, 16) == port)
        return true;
    }
  }
  return false;
}

bool may_change(const abi::CallShape* call) { return call == nullptr || !call->keeps_names; }

std::string descriptor_name(pid_t pid, std::uint64_t descriptor) {
  char target[4096];
  const std::string link = "/proc/" + std::to_string(pid) + "/fd/" + std::to_string(descriptor);
  const ssize_t size = ::readlink(link.c_str(), target, sizeof target);
  return size > 0 ? std::string(target, static_cast<std::size_t>(size)) : std::string();
}

}  // namespace

void DescriptorChanges::begin(const abi::CallShape* call) {
  if (!may_change(call)) return;
  ++count_;
  ++under_way_;
}

void DescriptorChanges::end(const abi::CallShape* call) {
  if (!may_change(call)) return;
  ++count_;
  --under_way_;
}

std::string DescriptorNames::of(std::uint64_t descriptor) {
  if (changes_ == nullptr || !changes_->settled()) return descriptor_name(pid_, descriptor);
  if (changes_->count() != read_at_) {
    names_.clear();
    read_at_ = changes_->count();
  }
  const auto [place, added] = names_.try_emplace(descriptor);
  if (added) place->second = descriptor_name(pid_, descriptor);
  return place->second;
}

look::CallFindings::Surroundings surroundings_of(pid_t pid, DescriptorNames& names) {
  return {[&names](std::uint64_t descriptor) { return names.of(descriptor); },
          [pid](std::int64_t at, const std::string& directory) { return names_in(pid, at, directory); },
          [pid](std::uint16_t port) { return listens_at(pid, port); }};
}

}  // namespace deeptrace::control
