// Changing a live thread's registers and the memory of its process.
#pragma once

#include "process/process.h"
#include "state/edit.h"

namespace deeptrace::process {

class LiveEdit final : public state::StateEdit {
 public:
  LiveEdit(Process& process, pid_t thread) : process_(process), thread_(thread) {}
  bool write_register(isa::RegisterPart part, std::span<const std::uint8_t> bytes) override;
  bool write_flags(std::uint64_t flags) override;
  bool write_memory(std::uint64_t address, std::span<const std::uint8_t> bytes) override;

 private:
  bool write_extended(isa::RegisterPart part, std::span<const std::uint8_t> bytes);

  Process& process_;
  pid_t thread_;
};

}  // namespace deeptrace::process
