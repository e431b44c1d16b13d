#include "state/imagine.h"

#include <cstring>
#include <map>

#include "isa/effects.h"
#include "state/execute.h"

namespace deeptrace::state {
namespace {

/// The state underneath with other registers, and with bytes written over its memory.
class Overlay final : public StateView {
 public:
  explicit Overlay(const StateView& below) : below_(below), registers_(below.registers()) {}

  [[nodiscard]] isa::Mode mode() const override { return below_.mode(); }
  [[nodiscard]] const RegisterSet& registers() const override { return registers_; }
  void read_memory(std::span<MemoryRequest> requests, Provenance provenance) const override {
    below_.read_memory(requests, provenance);
    for (const MemoryRequest& request : requests) {
      for (std::size_t i = 0; i < request.got; ++i) {
        if (const auto byte = written_.find(request.address + i); byte != written_.end())
          request.into[i] = byte->second;
      }
    }
  }
  using StateView::read_memory;

  void set(const RegisterSet& registers) { registers_ = registers; }
  void write(std::uint64_t address, std::span<const std::uint8_t> bytes) {
    for (std::size_t i = 0; i < bytes.size(); ++i) written_[address + i] = bytes[i];
  }

 private:
  const StateView& below_;
  RegisterSet registers_;
  std::map<std::uint64_t, std::uint8_t> written_;
};

}  // namespace

std::optional<std::uint64_t> imagined_result(const StateView& view, std::uint64_t function, std::uint64_t most) {
  constexpr std::uint64_t kNowhere = 0x10;  // the return address: no code stands there
  constexpr std::uint64_t kRedZone = 128;   // bytes below the stack pointer that are in use (x86-64 ABI, 3.2.2)
  Overlay overlay(view);
  const std::uint64_t word = arch::machine_of(view.mode()).word;
  RegisterSet start = view.registers();
  start[Reg::rsp] = ((start[Reg::rsp] - kRedZone) & ~std::uint64_t(15)) - word;
  start[Reg::rip] = function;
  start[Reg::rflags] &= ~kTrapFlag;  // it would raise an exception after each instruction
  overlay.set(start);
  std::uint8_t back[8] = {};
  std::memcpy(back, &kNowhere, sizeof back);
  overlay.write(start[Reg::rsp], {back, word});
  std::uint16_t unknown_flags = 0;
  for (std::uint64_t i = 0; i < most; ++i) {
    std::uint8_t bytes[isa::kLongestInstruction] = {};
    const std::size_t size = overlay.read_memory(overlay.registers()[Reg::rip], bytes);
    const isa::Instruction instruction = isa::decode({bytes, size}, view.mode());
    if (!instruction) return std::nullopt;
    const isa::FlagUse flags = isa::effects_of(instruction).flags;
    if ((flags.read & unknown_flags) != 0) return std::nullopt;
    const Outcome outcome = execute(instruction, overlay);
    if (outcome.ending != Ending::done || outcome.undefined_registers != 0 || outcome.store.undefined)
      return std::nullopt;
    unknown_flags = static_cast<std::uint16_t>((unknown_flags & ~(flags.written | flags.cleared | flags.set)) |
                                               outcome.undefined_flags);
    if (outcome.store.size != 0) overlay.write(outcome.store.address, {outcome.store.bytes.data(), outcome.store.size});
    overlay.set(outcome.registers);
    if (outcome.registers[Reg::rip] == kNowhere)
      return word == 8 ? outcome.registers[Reg::rax] : outcome.registers[Reg::rax] & 0xffffffffU;
  }
  return std::nullopt;
}

}  // namespace deeptrace::state
