// What registers are known to hold at a place in straight code, worked out from the instructions before it: addresses
// that were taken, numbers that were loaded. Nothing is run; what is not certain is unknown.
//
// Certain here means: as long as the code keeps to the calling convention, by which a call leaves rbx, rbp, rsp and r12
// to r15 as they were (x86-64 ABI, 3.2.1; i386 ABI, 2.2.1).
#pragma once

#include <array>
#include <optional>
#include <vector>

#include "isa/effects.h"
#include "isa/operand.h"
#include "state/view.h"

namespace deeptrace::state {

/// What an instruction does with the general registers, as bits by number.
struct GeneralUse {
  std::uint32_t needed = 0;  ///< without which the result is not known: what is written in part keeps the rest
  std::uint32_t written = 0;
  bool needs_others = false;  ///< registers of other files, or flags
};
GeneralUse general_use(const isa::Effects& effects);

/// True for `xor eax, eax` and its like: they give 0 whatever was there.
bool clears(const isa::Instruction& instruction, const isa::Operands& operands);

class Known final : public StateView {
 public:
  /// `linked`: the targets of calls are final. In an object file they mean nothing yet; in a linked one a call of the
  /// next instruction is there to learn where it is.
  explicit Known(isa::Mode mode, bool linked = true) : mode_(mode), linked_(linked) {}

  /// Control may have come from anywhere.
  void forget();
  void set(isa::General number, std::uint64_t value);
  /// The value of a register or a part of it; nothing when it is unknown.
  [[nodiscard]] std::optional<std::uint64_t> value(isa::RegisterPart part) const;
  /// The address that an operand of an instruction at `address` has; nothing when it is unknown. With `any_index` what
  /// an unknown index adds is left out: an array's start and not the element.
  [[nodiscard]] std::optional<std::uint64_t> address_of(const isa::MemoryRecipe& recipe, std::uint64_t next,
                                                        bool any_index) const;
  /// Goes over an instruction at `address`.
  void step(const isa::Instruction& instruction, std::uint64_t address);
  /// What was pushed last and not popped again; nothing when it is unknown.
  [[nodiscard]] std::optional<std::uint64_t> last_pushed() const {
    return pushed_.empty() ? std::nullopt : pushed_.back();
  }
  /// The general registers, as bits by number, that the last step wrote; those that a call may change included.
  [[nodiscard]] std::uint32_t written() const { return written_; }

  [[nodiscard]] isa::Mode mode() const override { return mode_; }
  [[nodiscard]] const RegisterSet& registers() const override { return registers_; }
  void read_memory(std::span<MemoryRequest> requests, Provenance provenance) const override;

 private:
  void forget(unsigned number) {
    known_ &= ~(1U << number);
    written_ |= 1U << number;
  }
  void move_stack(std::int64_t bytes);
  void take(const isa::Instruction& instruction);
  bool push_or_pop(const isa::Instruction& instruction, const isa::Operands& operands, std::uint64_t address);

  [[nodiscard]] bool calls_next(const isa::Instruction& instruction, std::uint64_t address) const;

  isa::Mode mode_;
  bool linked_;
  RegisterSet registers_;
  std::uint32_t known_ = 0;  ///< general registers, bits by number
  std::uint32_t written_ = 0;
  std::vector<std::optional<std::uint64_t>> pushed_;  ///< what lies on the stack's top, the last on top
};

}  // namespace deeptrace::state
