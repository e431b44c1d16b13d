#include "state/delta.h"

namespace deeptrace::state {

void Delta::clear() {
  registers.clear();
  vectors.clear();
  memory.clear();
  bytes.clear();
  flags_before = flags_after = 0;
  mxcsr_before = mxcsr_after = 0;
}

void Delta::compare(const RegisterSet& before, const RegisterSet& after) {
  for (std::size_t i = 0; i < kRegCount; ++i) {
    const Reg reg = static_cast<Reg>(i);
    if (before.values[i] != after.values[i] && reg != Reg::rip && reg != Reg::rflags) {
      registers.push_back({reg, before.values[i], after.values[i]});
    }
  }
  flags_before = before[Reg::rflags];
  flags_after = after[Reg::rflags];
}

void Delta::compare(const VectorSet& before, const VectorSet& after) {
  for (std::size_t i = 0; i < before.xmm.size(); ++i) {
    if (before.xmm[i] != after.xmm[i]) vectors.push_back({static_cast<std::uint8_t>(i), before.xmm[i], after.xmm[i]});
  }
  mxcsr_before = before.mxcsr;
  mxcsr_after = after.mxcsr;
}

bool Delta::empty() const {
  return registers.empty() && vectors.empty() && memory.empty() && flags_before == flags_after &&
         mxcsr_before == mxcsr_after;
}

MemoryChange& Delta::add_memory(std::uint64_t address, std::uint64_t size) {
  memory.push_back({address, size, bytes.size(), true, true});
  bytes.resize(bytes.size() + 2 * size);
  return memory.back();
}

}  // namespace deeptrace::state
