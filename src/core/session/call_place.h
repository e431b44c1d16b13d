// Where a system call comes from, known again: a loop makes the same call again and again, and frames cost much more
// than a look at what they followed from.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "look/level.h"
#include "state/view.h"

namespace deeptrace::session {

/// A view that keeps what was read through it.
class ReadsKept final : public state::StateView {
 public:
  struct Read {
    std::uint64_t address = 0;
    std::vector<std::uint8_t> bytes;
  };
  /// `view` must outlive this one.
  explicit ReadsKept(const state::StateView& view) : view_(view) {}

  [[nodiscard]] isa::Mode mode() const override { return view_.mode(); }
  [[nodiscard]] const state::RegisterSet& registers() const override { return view_.registers(); }
  [[nodiscard]] std::uint32_t known_registers() const override { return view_.known_registers(); }
  void read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const override;
  using state::StateView::read_memory;
  /// Memory to be read at once, and the pieces of it that matter.
  struct Stretch {
    std::uint64_t address = 0;
    std::size_t size = 0;  ///< bytes
    std::vector<Read> pieces;
  };
  /// What was read, by address.
  [[nodiscard]] std::vector<Stretch> stretches() const;

 private:
  const state::StateView& view_;
  mutable std::vector<Read> reads_;
};

/// Frames follow from the registers here and from the words that were read for them; while these are the same, so is
/// the place.
struct CallPlace {
  std::uint64_t stack_pointer = 0, frame_pointer = 0;
  std::vector<ReadsKept::Stretch> stretches;
  std::string made_by;      ///< the place of the instruction that made the call; empty: nothing is known yet
  bool raw = false;         ///< own code has that instruction
  look::Where own;          ///< the developer's own place that led to it; empty: there is none
  std::uint64_t after = 0;  ///< where control comes back to that

  /// Of a thread that stands at the same instruction.
  [[nodiscard]] bool holds_in(const state::StateView& view) const;
};

}  // namespace deeptrace::session
