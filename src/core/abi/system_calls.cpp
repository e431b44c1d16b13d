#include "abi/system_calls.h"

#include <algorithm>

namespace deeptrace::abi {
namespace {

#include "linux_x86_64.inc"

}  // namespace

const SystemCall* system_call(std::uint64_t number) {
  const auto* found = std::lower_bound(std::begin(kCalls), std::end(kCalls), number,
                                       [](const SystemCall& call, std::uint64_t n) { return call.number < n; });
  return found != std::end(kCalls) && found->number == number ? found : nullptr;
}

std::uint64_t argument(const state::RegisterSet& registers, unsigned index) {
  using state::Reg;
  constexpr Reg kOrder[] = {Reg::rdi, Reg::rsi, Reg::rdx, Reg::r10, Reg::r8, Reg::r9};
  return registers[kOrder[(index - 1) % 6]];
}

}  // namespace deeptrace::abi
