#include "abi/system_calls.h"

#include <algorithm>

namespace deeptrace::abi {
namespace {

#include "linux_i386.inc"
#include "linux_x86_64.inc"

std::span<const SystemCall> table_of(CallTable table) {
  return table == CallTable::x86_64 ? std::span<const SystemCall>(kCalls) : std::span<const SystemCall>(kCalls32);
}

}  // namespace

const SystemCall* system_call(std::uint64_t number, CallTable table) {
  const std::span<const SystemCall> calls = table_of(table);
  const auto found = std::ranges::lower_bound(calls, number, {}, &SystemCall::number);
  return found != calls.end() && found->number == number ? &*found : nullptr;
}

const SystemCall* system_call(std::string_view name, CallTable table) {
  const std::span<const SystemCall> calls = table_of(table);
  const auto found = std::ranges::find(calls, name, &SystemCall::name);
  return found != calls.end() ? &*found : nullptr;
}

std::string call_name(std::uint64_t number, CallTable table) {
  const SystemCall* call = system_call(number, table);
  return call != nullptr ? std::string(call->name) : std::to_string(number);
}

std::span<const SystemCall> system_calls(CallTable table) { return table_of(table); }

std::uint64_t argument(const state::RegisterSet& registers, unsigned index, isa::Mode mode) {
  const auto order = arch::machine_of(mode).call_arguments;
  return registers[state::reg_numbered(order[(index - 1) % order.size()])];
}

}  // namespace deeptrace::abi
