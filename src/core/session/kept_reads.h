// What followed from memory follows from it again while the memory is the same: a loop makes the same call again and
// again, and its frames and arguments cost much more than a look at what they were made of.
//
//   KeptReads reads;
//   …
//   ReadRecorder view(thread);
//   view.record_for(reads);
//   if (reads.hold_in(view)) …     // what was made last still holds
//   …                              // else it is made anew through `view`, which has most of it at hand already
//   reads.renew(view);
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <vector>

#include "state/view.h"

namespace deeptrace::session {

class ReadRecorder;

class KeptReads {
 public:
  KeptReads() = default;

  /// True when the same is there now. False before the first `renew`, and for so many that another look would cost as
  /// much as what was made. What `view` has at hand is not read again; where it has nothing, it has these afterwards.
  [[nodiscard]] bool hold_in(ReadRecorder& view) const;

  /// After something was made anew through `view`, which records for these reads: keeps what is there now, and what
  /// else was read. Nothing where a part could not be read.
  void renew(const ReadRecorder& view);

 private:
  friend class ReadRecorder;
  static constexpr std::size_t kMostBytes = 4096;  ///< of all stretches
  static constexpr std::size_t kMostStretches = 16;

  struct Piece {
    std::uint64_t address = 0;
    std::vector<std::uint8_t> bytes;
  };
  /// Memory that is read at once, and the pieces of it that matter.
  struct Stretch {
    std::uint64_t address = 0;
    std::size_t size = 0;  ///< bytes
    std::vector<Piece> pieces;
  };
  explicit KeptReads(std::vector<Piece> pieces);
  static bool join(Piece& to, const Piece& more);
  std::vector<Stretch> stretches_;  ///< by address
  bool usable_ = false;
};

/// A view that records what is read through it, and gives what it has at hand without reading it again: to ask the
/// kernel for several pieces of memory at once takes little longer than to ask for one. It is for one position: memory
/// must not change while it is used.
class ReadRecorder final : public state::StateView {
 public:
  /// `view` must outlive it.
  explicit ReadRecorder(const state::StateView& view) : view_(view), registers_(view.registers()), mode_(view.mode()) {}
  ReadRecorder(const ReadRecorder&) = delete;
  ReadRecorder& operator=(const ReadRecorder&) = delete;
  /// It records for `renews`, which must outlive it, what those do not keep already. Before that it records nothing.
  void record_for(const KeptReads& renews) { renews_ = &renews; }

  [[nodiscard]] isa::Mode mode() const override { return mode_; }
  [[nodiscard]] const state::RegisterSet& registers() const override { return registers_; }
  [[nodiscard]] std::uint32_t known_registers() const override { return view_.known_registers(); }
  void read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const override;
  using state::StateView::read_memory;

  /// Memory that will be read: it is read together with what KeptReads look at, if nothing is at hand by then.
  void expect(std::uint64_t address, std::size_t size);

 private:
  friend class KeptReads;
  static constexpr std::size_t kMostExpected = 4, kMostExpectedBytes = 256;

  /// Reads the stretches at once; from then on they are at hand.
  void fetch(const KeptReads& reads);
  struct Found {
    const std::uint8_t* bytes = nullptr;  ///< null where they are not at hand
    std::size_t stretch = 0;              ///< of `fetched_`, where they are
  };
  [[nodiscard]] Found at_hand(std::uint64_t address, std::size_t size) const;
  /// True of bytes in a stretch of `fetched_` that are kept anyway (KeptReads::renew).
  [[nodiscard]] bool is_kept(std::size_t stretch, std::uint64_t address, std::size_t size) const;
  void record(std::uint64_t address, std::span<const std::uint8_t> bytes) const;

  const state::StateView& view_;
  const state::RegisterSet& registers_;
  isa::Mode mode_;
  const KeptReads* renews_ = nullptr;
  const KeptReads* fetched_ = nullptr;  ///< whose stretches are at hand
  std::size_t stretch_count_ = 0;
  /// Those, as they were read, and what was expected.
  std::array<state::MemoryRequest, KeptReads::kMostStretches + kMostExpected> stretches_;
  std::array<std::uint8_t, KeptReads::kMostBytes + kMostExpectedBytes>
      room_;  ///< their bytes, as soon as they are read
  struct Expected {
    std::uint64_t address;
    std::size_t size;
  };
  std::array<Expected, kMostExpected> expected_;
  std::size_t expected_count_ = 0, expected_bytes_ = 0;
  mutable std::vector<KeptReads::Piece> recorded_;
  mutable bool whole_ = true;  ///< all that was asked for could be read
};

}  // namespace deeptrace::session
