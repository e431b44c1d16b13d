#include "process/kernel_registers.h"

#include <cpuid.h>
#include <elf.h>
#include <sys/ptrace.h>
#include <sys/uio.h>

#include <array>
#include <vector>

#include "state/extended_area.h"

namespace deeptrace::process {
namespace {

/// The processor is asked once: in a virtual machine that takes longer than everything else here.
const state::AreaLayout& layout_of_this_processor() {
  static const state::AreaLayout kLayout = [] {
    constexpr unsigned kAreaLeaf = 0xd, kComponents = 64;
    state::AreaLayout layout;
    for (unsigned i = 2; i < kComponents; ++i) {
      state::AreaLayout::Place* place = layout.component(i);
      unsigned c = 0, d = 0;
      if (place != nullptr && __get_cpuid_count(kAreaLeaf, i, &place->size, &place->offset, &c, &d) == 0) *place = {};
    }
    return layout;
  }();
  return kLayout;
}

std::optional<std::vector<std::uint8_t>> area_of(pid_t thread) {
  std::vector<std::uint8_t> area(16384);
  iovec vector{area.data(), area.size()};
  if (::ptrace(PTRACE_GETREGSET, thread, NT_X86_XSTATE, &vector) != 0) return std::nullopt;
  area.resize(vector.iov_len);
  return area;
}

}  // namespace

state::RegisterSet from_kernel(const user_regs_struct& r) {
  return {{r.rax, r.rbx, r.rcx, r.rdx, r.rsi,    r.rdi, r.rbp, r.rsp, r.r8, r.r9, r.r10, r.r11,     r.r12,
           r.r13, r.r14, r.r15, r.rip, r.eflags, r.cs,  r.ss,  r.ds,  r.es, r.fs, r.gs,  r.fs_base, r.gs_base}};
}

void to_kernel(const state::RegisterSet& set, user_regs_struct& raw) {
  using state::Reg;
  raw.rax = set[Reg::rax];
  raw.rbx = set[Reg::rbx];
  raw.rcx = set[Reg::rcx];
  raw.rdx = set[Reg::rdx];
  raw.rsi = set[Reg::rsi];
  raw.rdi = set[Reg::rdi];
  raw.rbp = set[Reg::rbp];
  raw.rsp = set[Reg::rsp];
  raw.r8 = set[Reg::r8];
  raw.r9 = set[Reg::r9];
  raw.r10 = set[Reg::r10];
  raw.r11 = set[Reg::r11];
  raw.r12 = set[Reg::r12];
  raw.r13 = set[Reg::r13];
  raw.r14 = set[Reg::r14];
  raw.r15 = set[Reg::r15];
  raw.rip = set[Reg::rip];
  raw.eflags = set[Reg::rflags];
  raw.fs_base = set[Reg::fs_base];
  raw.gs_base = set[Reg::gs_base];
}

std::optional<state::ExtendedSet> extended_of(pid_t thread) {
  const auto area = area_of(thread);
  return area ? state::extended_from(*area, layout_of_this_processor()) : std::nullopt;
}

bool refresh_legacy(pid_t thread, state::ExtendedSet& registers) {
  std::array<std::uint8_t, state::kLegacyArea> area{};
  static_assert(sizeof(user_fpregs_struct) == sizeof area);
  if (::ptrace(PTRACE_GETFPREGS, thread, nullptr, area.data()) != 0) return false;
  state::take_legacy(area, registers);
  return true;
}

bool set_extended(pid_t thread, const state::ExtendedSet& set) {
  auto area = area_of(thread);
  if (!area || area->size() < state::kLegacyArea + sizeof(std::uint64_t)) return false;
  state::put_extended(*area, layout_of_this_processor(), set);
  iovec vector{area->data(), area->size()};
  return ::ptrace(PTRACE_SETREGSET, thread, NT_X86_XSTATE, &vector) == 0;
}

}  // namespace deeptrace::process
