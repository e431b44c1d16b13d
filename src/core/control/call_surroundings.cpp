#include "control/call_surroundings.h"

#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <set>
#include <sstream>
#include <vector>

#include "base/outside.h"

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

/// Calls that change no descriptor and no name of a file, whatever comes of them.
constexpr std::string_view kHarmless =
    "access alarm arch_prctl brk clock_getres clock_gettime clock_gettime64 clock_nanosleep "
    "clock_nanosleep_time64 epoll_ctl epoll_pwait epoll_wait faccessat faccessat2 fadvise64 fdatasync flock fstat "
    "fstat64 fstatat64 fstatfs fsync futex futex_time64 getcpu getcwd getdents getdents64 getegid getegid32 "
    "geteuid geteuid32 getgid getgid32 getitimer getpeername getpgid getpgrp getpid getppid getpriority getrandom "
    "getrlimit getrusage getsid getsockname getsockopt gettid gettimeofday getuid getuid32 kill listen llseek "
    "lseek lstat lstat64 madvise membarrier mincore mmap mmap2 mprotect mremap msync munmap nanosleep newfstatat "
    "pause poll ppoll ppoll_time64 pread64 preadv preadv2 prlimit64 pselect6 pselect6_time64 pwrite64 pwritev "
    "pwritev2 read readahead readlink readlinkat readv recvfrom restart_syscall rseq rt_sigaction rt_sigpending "
    "rt_sigprocmask rt_sigreturn rt_sigsuspend rt_sigtimedwait sched_getaffinity sched_yield select sendmsg "
    "sendto set_robust_list set_thread_area set_tid_address setitimer setsockopt shutdown sigaction sigaltstack "
    "sigprocmask sigreturn stat stat64 statfs statx sysinfo tgkill time times ugetrlimit umask uname wait4 waitid "
    "waitpid write writev";

bool may_change(std::string_view call) {
  static const std::set<std::string_view> kCalls = [] {
    std::set<std::string_view> calls;
    for (const Part& one : parts_between(kHarmless, [](char c) { return c == ' '; })) calls.insert(one.text);
    return calls;
  }();
  return !kCalls.contains(call);
}

std::string descriptor_name(pid_t pid, std::uint64_t descriptor) {
  char target[4096];
  const std::string link = "/proc/" + std::to_string(pid) + "/fd/" + std::to_string(descriptor);
  const ssize_t size = ::readlink(link.c_str(), target, sizeof target);
  return size > 0 ? std::string(target, static_cast<std::size_t>(size)) : std::string();
}

}  // namespace

void DescriptorChanges::begin(std::string_view call) {
  if (!may_change(call)) return;
  ++count_;
  ++under_way_;
}

void DescriptorChanges::end(std::string_view call) {
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
