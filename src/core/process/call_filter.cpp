#include "process/call_filter.h"

#include <linux/audit.h>
#include <linux/seccomp.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <cerrno>
#include <cstddef>

namespace deeptrace::process {
namespace {

constexpr std::uint32_t kStop = SECCOMP_RET_TRACE, kPass = SECCOMP_RET_ALLOW;

sock_filter load(std::size_t offset) { return BPF_STMT(BPF_LD | BPF_W | BPF_ABS, static_cast<std::uint32_t>(offset)); }
sock_filter give(std::uint32_t what) { return BPF_STMT(BPF_RET | BPF_K, what); }
/// Goes on after `skip` instructions unless what was loaded is `value`.
sock_filter unless(std::uint32_t value, std::uint8_t skip) {
  return BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, value, 0, skip);
}

void add_numbers(std::vector<sock_filter>& to, const CallFilter& filter, const CallFilter::Numbers& numbers) {
  const std::uint32_t listed = filter.others ? kPass : kStop, others = filter.others ? kStop : kPass;
  to.push_back(load(offsetof(seccomp_data, nr)));
  for (const std::uint32_t number : numbers.with_file) {
    if (numbers.listed.contains(number) != filter.others) continue;  // it stops anyway
    constexpr std::size_t kFifth = offsetof(seccomp_data, args) + 4 * sizeof(std::uint64_t);
    constexpr auto kNone = static_cast<std::uint32_t>(-1);
    to.insert(to.end(), {unless(number, 4), load(kFifth), unless(kNone, 1), give(kPass), give(kStop)});
  }
  for (const std::uint32_t number : numbers.listed) {
    to.push_back(unless(number, 1));
    to.push_back(give(listed));
  }
  to.push_back(give(others));
}

}  // namespace

std::vector<sock_filter> instructions_of(const CallFilter& filter) {
  std::vector<sock_filter> wide, narrow, all;
  add_numbers(wide, filter, filter.x86_64);
  add_numbers(narrow, filter, filter.i386);
  all.push_back(load(offsetof(seccomp_data, arch)));
  all.push_back(unless(AUDIT_ARCH_X86_64, 1));
  all.push_back(BPF_STMT(BPF_JMP | BPF_JA, static_cast<std::uint32_t>(narrow.size())));
  all.insert(all.end(), narrow.begin(), narrow.end());
  all.insert(all.end(), wide.begin(), wide.end());
  return all;
}

bool install(const CallFilter& filter) {
  std::vector<sock_filter> instructions = instructions_of(filter);
  const sock_fprog program{static_cast<unsigned short>(instructions.size()), instructions.data()};
  const auto set = [&] { return ::syscall(SYS_seccomp, SECCOMP_SET_MODE_FILTER, 0, &program) == 0; };
  if (set()) return true;
  // Who is not privileged has to promise that no program gains privileges; traced ones gain none anyway (execve(2)).
  return errno == EACCES && ::prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0 && set();
}

}  // namespace deeptrace::process
