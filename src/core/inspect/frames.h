// Frames: the call stack, from the innermost out, each with the registers that its code will find again.
//
// A caller's state is worked out from the rules of the unwind tables; where there are none, from what the function's
// instructions do to the stack, which the caller of this module supplies in the same form; and only where neither is to
// be had by the chain of frame pointers, and then the frame says so.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "debuginfo/frame_rules.h"
#include "debuginfo/location.h"
#include "state/view.h"

namespace deeptrace::inspect {

struct Frame {
  enum class How : std::uint8_t {
    innermost,  ///< the thread's own registers
    table,      ///< unwind tables
    code,       ///< what the function's instructions do
    pointer,    ///< the chain of frame pointers, which may skip a function
  };
  How how = How::innermost;
  state::RegisterSet registers;
  std::uint32_t known = ~std::uint32_t(0);  ///< bits by state::Reg
  std::uint64_t cfa = 0;                    ///< where the stack pointer will be after the return; 0: not known
  bool at_call = false;                     ///< it stands after a call, and not where it was interrupted
  bool signal = false;                      ///< the kernel's frame of a signal handler

  [[nodiscard]] std::uint64_t address() const { return registers[state::Reg::rip]; }
  /// An address inside the instruction that it stands at: after a call the one before it.
  [[nodiscard]] std::uint64_t inside() const { return at_call ? address() - 1 : address(); }
};

/// The rule for an address, and how far its module was moved.
struct PlacedRule {
  debuginfo::FrameRule rule;
  std::uint64_t bias = 0;
  bool from_table = true;
  bool outermost = false;  ///< nobody called this function
};
using RuleFinder = std::function<std::optional<PlacedRule>(std::uint64_t address)>;

/// The thread's own frame. Its CFA is found too.
Frame innermost_frame(const state::StateView& view, const RuleFinder& rules);

/// The caller's frame; nothing at the outermost one, or where the way is lost: `lost`, if it is not null, gets the reason
/// then. `is_code` tells addresses that a return can lead to.
std::optional<Frame> caller_of(const Frame& frame, const state::StateView& view, const RuleFinder& rules,
                               const std::function<bool(std::uint64_t)>& is_code, std::string* lost = nullptr);

/// Where a frame keeps a register of its caller, by its number in unwind tables: an address on the stack. Nothing where
/// it is kept nowhere, or in another register.
std::optional<std::uint64_t> kept_at(const Frame& frame, const state::StateView& view, const PlacedRule& placed,
                                     unsigned number);

/// A frame's registers as a state of their own; memory is the thread's.
class FrameView final : public state::StateView {
 public:
  FrameView(const state::StateView& thread, const Frame& frame) : thread_(thread), frame_(frame) {}
  [[nodiscard]] isa::Mode mode() const override { return thread_.mode(); }
  [[nodiscard]] const state::RegisterSet& registers() const override { return frame_.registers; }
  [[nodiscard]] std::uint32_t known_registers() const override { return frame_.known; }
  [[nodiscard]] std::string_view why_unknown() const override {
    return frame_.how == Frame::How::innermost ? thread_.why_unknown() : state::StateView::why_unknown();
  }
  [[nodiscard]] std::optional<state::ExtendedSet> extended() const override {
    return frame_.how == Frame::How::innermost ? thread_.extended() : std::nullopt;
  }
  [[nodiscard]] std::optional<state::ExtendedSet> legacy() const override {
    return frame_.how == Frame::How::innermost ? thread_.legacy() : std::nullopt;
  }
  void read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const override {
    thread_.read_memory(requests, provenance);
  }
  [[nodiscard]] std::string_view why_unreadable(std::uint64_t address) const override {
    return thread_.why_unreadable(address);
  }
  using state::StateView::read_memory;

 private:
  const state::StateView& thread_;
  const Frame& frame_;
};

}  // namespace deeptrace::inspect
