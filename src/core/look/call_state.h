// What registers held where a caller made its call: the frame that is found again has those that calls keep; the others
// are worked out from the caller's instructions before the call, over the memory as it is now.
//
// Certain as far as nobody wrote, during the call, what those instructions read. What cannot be worked out is unknown.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <optional>
#include <vector>

#include "inspect/frames.h"
#include "look/modules.h"
#include "state/execute.h"

namespace deeptrace::look {

/// The state before an instruction of a function, worked out over the straight way that leads to it.
class CallState final : public state::StateView {
 public:
  /// Where a register got what it holds. A copy from another register counts as what that one got.
  struct Origin {
    std::uint64_t address = 0;  ///< of the instruction that wrote it; 0: nothing on the way did
    bool by_call = false;       ///< it is the result of a call there
    std::uint8_t entry = 0;     ///< where nothing on the way did: the register that held it where the way begins
    std::uint32_t number = 0;   ///< values that were written, counted: two registers with one number hold the same
    friend bool operator==(const Origin&, const Origin&) = default;
  };

  /// Before the call that `caller` has under way.
  static std::optional<CallState> before_call(Modules& modules, const state::StateView& thread,
                                              const inspect::Frame& caller);
  /// Before a jump by which a function that `caller` called left its frame (a tail call); `frame` is the one that is
  /// there.
  static std::optional<CallState> before_tail_call(Modules& modules, const state::StateView& thread,
                                                   const inspect::Frame& frame, const inspect::Frame& caller,
                                                   std::uint64_t jump);
  /// Before the instruction that the innermost frame stands at: for where its registers come from.
  static std::optional<CallState> before_instruction(Modules& modules, const state::StateView& thread,
                                                     const inspect::Frame& innermost);

  /// Of the call, or of the instruction.
  [[nodiscard]] std::uint64_t address() const { return address_; }
  [[nodiscard]] const isa::Instruction& instruction() const { return instruction_; }
  [[nodiscard]] std::optional<std::uint64_t> value(isa::RegisterPart part) const;
  [[nodiscard]] Origin origin(unsigned general) const { return origins_[general]; }
  /// True when the straight way begins where the function does: a register without an origin is as it was passed.
  [[nodiscard]] bool from_entry() const { return from_entry_; }

  [[nodiscard]] isa::Mode mode() const override { return thread_->mode(); }
  [[nodiscard]] const state::RegisterSet& registers() const override { return registers_; }
  [[nodiscard]] std::uint32_t known_registers() const override;
  void read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const override;
  using state::StateView::read_memory;

 private:
  struct Code {
    std::uint64_t address = 0;
    isa::Instruction instruction;
  };
  explicit CallState(const state::StateView& thread) : thread_(&thread) {}
  static std::optional<CallState> before(Modules& modules, const state::StateView& thread, const inspect::Frame& end,
                                         bool call);
  bool find_way(Modules& modules, std::uint64_t inside);
  void run(std::uint32_t known, std::optional<std::uint64_t> stack);
  void step(const Code& code);
  void push_own_address(std::uint64_t address);
  void carry_out(const Code& code);
  void keep_store(const isa::Instruction& instruction, const state::Outcome* outcome);
  [[nodiscard]] std::uint32_t written_on_way() const;
  [[nodiscard]] bool knows(unsigned general) const { return (known_ >> general & 1) != 0; }

  const state::StateView* thread_;
  std::vector<Code> way_;
  std::uint64_t address_ = 0;
  isa::Instruction instruction_;
  bool from_entry_ = false;
  state::RegisterSet registers_;
  std::uint32_t known_ = 0;  ///< general registers, bits by number
  std::array<Origin, 16> origins_{};
  std::uint32_t values_ = 0;                      ///< that were written on the way
  std::map<std::uint64_t, std::uint8_t> stored_;  ///< bytes that the way wrote
};

}  // namespace deeptrace::look
