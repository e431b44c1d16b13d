#include "look/kernel_call.h"

#include "look/foresight.h"
#include "look/level.h"

namespace deeptrace::look {
namespace {

constexpr std::size_t kShownBytes = 64;  // of buffers

}  // namespace

KernelCalls::KernelCalls(const state::Target& target, CallFindings::Surroundings surroundings)
    : decoder_(surroundings.descriptor, kShownBytes), findings_(target, std::move(surroundings)) {}

KernelCall KernelCalls::begin(const state::StateView& view) {
  KernelCall result;
  const abi::CallTable table = table_of_call(view);
  const std::uint64_t number = view.registers()[state::Reg::rax];
  result.address = view.registers()[state::Reg::rip];
  result.asked = AskedCall::of(view, table, table == abi::CallTable::i386 ? number & 0xffffffff : number);
  decoder_.before(result.call, result.asked, view);
  return result;
}

void KernelCalls::end(KernelCall& call, const state::StateView& view, Modules& modules) {
  const std::uint64_t result = view.registers()[state::Reg::rax];
  if (view.registers()[state::Reg::rip] == call.address || state::broken_off(static_cast<std::int64_t>(result))) return;
  call.over = true;
  decoder_.after(call.call, call.asked, view, result);
  const Where own = own_where_at(modules, call.address);
  const bool raw = modules.is_own_line(call.address);
  const CallOver over{.number = 0,
                      .asked = call.asked,
                      .decoded = &call.call,
                      .result = result,
                      .address = call.address,
                      .raw = raw,
                      .after = raw ? view.registers()[state::Reg::rip] : 0,
                      .function = own.place,
                      .file = own.file,
                      .line = own.line};
  call.findings = findings_.of(over, view, modules);
}

}  // namespace deeptrace::look
