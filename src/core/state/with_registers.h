// A thread with other registers: as it stood at another moment, or at another instruction. Memory is as it is now.
#pragma once

#include "state/view.h"

namespace deeptrace::state {

class WithRegisters final : public StateView {
 public:
  /// `thread` must outlive the view.
  WithRegisters(const StateView& thread, const RegisterSet& registers) : thread_(thread), registers_(registers) {}

  [[nodiscard]] isa::Mode mode() const override { return mode_of(registers_); }
  [[nodiscard]] const RegisterSet& registers() const override { return registers_; }
  void read_memory(std::span<MemoryRequest> requests, Provenance provenance) const override {
    thread_.read_memory(requests, provenance);
  }
  using StateView::read_memory;

 private:
  const StateView& thread_;
  RegisterSet registers_;
};

}  // namespace deeptrace::state
