// What followed from memory follows from it again while the memory is the same: a loop makes the same call again and
// again, and its frames and arguments cost much more than a look at what they were made of.
//
//   ReadsKept view(thread);
//   …                                    // something is made of what is read through `view`
//   const KeptReads reads(view.reads());
//   if (reads.hold_in(thread)) …         // later: what was made still holds
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "state/view.h"

namespace deeptrace::session {

struct KeptRead {
  std::uint64_t address = 0;
  std::vector<std::uint8_t> bytes;
  bool whole = true;  ///< all that was asked for could be read
};

class KeptReads {
 public:
  /// None, which hold nowhere.
  KeptReads() = default;
  explicit KeptReads(std::vector<KeptRead> reads);

  /// True when the same is there now. False, too, for so many that another look would cost as much as what was made.
  [[nodiscard]] bool hold_in(const state::StateView& view) const;

 private:
  /// Memory that is read at once, and the pieces of it that matter.
  struct Stretch {
    std::uint64_t address = 0;
    std::size_t size = 0;  ///< bytes
    std::vector<KeptRead> pieces;
  };
  std::vector<Stretch> stretches_;  ///< by address
  bool usable_ = false;
};

/// A view that keeps what is read through it.
class ReadsKept final : public state::StateView {
 public:
  /// `view` must outlive this one.
  explicit ReadsKept(const state::StateView& view) : view_(view) {}

  [[nodiscard]] isa::Mode mode() const override { return view_.mode(); }
  [[nodiscard]] const state::RegisterSet& registers() const override { return view_.registers(); }
  [[nodiscard]] std::uint32_t known_registers() const override { return view_.known_registers(); }
  void read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const override;
  using state::StateView::read_memory;

  [[nodiscard]] const std::vector<KeptRead>& reads() const { return reads_; }

 private:
  const state::StateView& view_;
  mutable std::vector<KeptRead> reads_;
};

}  // namespace deeptrace::session
