#include "process/kernel_registers.h"

#include <cpuid.h>
#include <elf.h>
#include <sys/ptrace.h>
#include <sys/uio.h>

#include <array>
#include <cstring>
#include <vector>

namespace deeptrace::process {
namespace {

/// The area of xsave in its standard form (Intel SDM volume 1, 13.4): where its components lie.
enum Component : unsigned { kLegacy = 0, kYmmHigh = 2, kMasks = 5, kZmmHigh = 6, kHighZmm = 7 };
constexpr std::size_t kHeader = 512, kControlAt = 0, kStatusAt = 2, kTagsAt = 4, kMxcsrAt = 24, kX87At = 32,
                      kXmmAt = 160;

struct Area {
  std::vector<std::uint8_t> bytes;

  static std::optional<Area> of(pid_t thread) {
    Area area;
    area.bytes.resize(16384);
    iovec vector{area.bytes.data(), area.bytes.size()};
    if (::ptrace(PTRACE_GETREGSET, thread, NT_X86_XSTATE, &vector) != 0) return std::nullopt;
    area.bytes.resize(vector.iov_len);
    return area;
  }

  /// Where a component lies; null when this processor does not have it. The processor is asked once: in a virtual
  /// machine that takes longer than everything else here.
  [[nodiscard]] std::uint8_t* component(Component which) {
    struct Place {
      unsigned size = 0, offset = 0;
    };
    static const std::array<Place, 8> kPlaces = [] {
      std::array<Place, 8> places{};
      for (const unsigned i : {kYmmHigh, kMasks, kZmmHigh, kHighZmm}) {
        unsigned c = 0, d = 0;
        if (__get_cpuid_count(0xd, i, &places[i].size, &places[i].offset, &c, &d) == 0) places[i] = {};
      }
      return places;
    }();
    const Place place = kPlaces[which];
    if (place.size == 0 || place.offset + place.size > bytes.size()) return nullptr;
    return bytes.data() + place.offset;
  }
  template <class T>
  [[nodiscard]] T at(std::size_t offset) const {
    T value{};
    std::memcpy(&value, bytes.data() + offset, sizeof value);
    return value;
  }
  template <class T>
  void put(std::size_t offset, T value) {
    std::memcpy(bytes.data() + offset, &value, sizeof value);
  }
};

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
  auto area = Area::of(thread);
  if (!area) return std::nullopt;
  state::ExtendedSet set;
  set.x87_control = area->at<std::uint16_t>(kControlAt);
  set.x87_status = area->at<std::uint16_t>(kStatusAt);
  set.mxcsr = area->at<std::uint32_t>(kMxcsrAt);
  // The tags are by physical register; st(0) is the one that the status word's bits 11 to 13 name.
  const auto tags = area->at<std::uint8_t>(kTagsAt);
  const unsigned top = set.x87_status >> 11 & 7;
  for (unsigned i = 0; i < 8; ++i) {
    std::memcpy(set.x87[i].data(), area->bytes.data() + kX87At + 16 * i, 10);
    if ((tags >> ((top + i) & 7) & 1) != 0) set.x87_used |= static_cast<std::uint8_t>(1U << i);
  }
  for (unsigned i = 0; i < 16; ++i) std::memcpy(set.vectors[i].data(), area->bytes.data() + kXmmAt + 16 * i, 16);
  if (const std::uint8_t* high = area->component(kYmmHigh)) {
    set.vector_bits = 256;
    for (unsigned i = 0; i < 16; ++i) std::memcpy(set.vectors[i].data() + 16, high + 16 * i, 16);
  }
  const std::uint8_t* masks = area->component(kMasks);
  const std::uint8_t* high = area->component(kZmmHigh);
  const std::uint8_t* more = area->component(kHighZmm);
  if (masks != nullptr && high != nullptr && more != nullptr) {
    set.vector_bits = 512;
    set.vector_count = 32;
    set.has_masks = true;
    std::memcpy(set.masks.data(), masks, sizeof set.masks);
    for (unsigned i = 0; i < 16; ++i) {
      std::memcpy(set.vectors[i].data() + 32, high + 32 * i, 32);
      std::memcpy(set.vectors[16 + i].data(), more + 64 * i, 64);
    }
  }
  return set;
}

bool set_extended(pid_t thread, const state::ExtendedSet& set) {
  auto area = Area::of(thread);
  if (!area) return false;
  auto present = area->at<std::uint64_t>(kHeader) | 3;
  area->put(kControlAt, set.x87_control);
  area->put(kStatusAt, set.x87_status);
  area->put(kMxcsrAt, set.mxcsr);
  const unsigned top = set.x87_status >> 11 & 7;
  std::uint8_t tags = 0;
  for (unsigned i = 0; i < 8; ++i) {
    std::memcpy(area->bytes.data() + kX87At + 16 * i, set.x87[i].data(), 10);
    if ((set.x87_used >> i & 1) != 0) tags |= static_cast<std::uint8_t>(1U << ((top + i) & 7));
  }
  area->put(kTagsAt, tags);
  for (unsigned i = 0; i < 16; ++i) std::memcpy(area->bytes.data() + kXmmAt + 16 * i, set.vectors[i].data(), 16);
  if (std::uint8_t* high = area->component(kYmmHigh)) {
    present |= 1U << kYmmHigh;
    for (unsigned i = 0; i < 16; ++i) std::memcpy(high + 16 * i, set.vectors[i].data() + 16, 16);
  }
  if (set.has_masks) {
    present |= 1U << kMasks | 1U << kZmmHigh | 1U << kHighZmm;
    std::memcpy(area->component(kMasks), set.masks.data(), sizeof set.masks);
    for (unsigned i = 0; i < 16; ++i) {
      std::memcpy(area->component(kZmmHigh) + 32 * i, set.vectors[i].data() + 32, 32);
      std::memcpy(area->component(kHighZmm) + 64 * i, set.vectors[16 + i].data(), 64);
    }
  }
  area->put(kHeader, present);
  iovec vector{area->bytes.data(), area->bytes.size()};
  return ::ptrace(PTRACE_SETREGSET, thread, NT_X86_XSTATE, &vector) == 0;
}

}  // namespace deeptrace::process
