// The rows of `steps` on their way to the sink.
//
// A step's switches between processes leave our caches cold, so that a row of a plain instruction only notes registers
// and addresses. Up to 256 of them wait; then their memory is read back in one call to the kernel, and they are made
// and sent in a batch.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "control/followed_thread.h"
#include "session/shadow.h"
#include "session/step_code.h"
#include "session/steps.h"
#include "state/delta.h"

namespace deeptrace::session {

/// A row with the storage that it points into.
struct Recorded {
  StepRow row;
  state::Delta delta;
  std::string text;  ///< of a row that is no instruction's
  std::string note;
  const Code* code = nullptr;  ///< set while the row still has to be made of the registers below
  state::RegisterSet before, after;
  std::optional<std::uint64_t> compared;  ///< see StepRow
  std::vector<look::StackWord> stack;     ///< see StepRow
  std::optional<look::KernelCall> call;   ///< see StepRow
  bool memory_waits = false;              ///< what its instruction left in memory has not been read yet
};

/// Puts where an instruction stands, and what it is, into a row.
void put_place(StepRow& row, const Code& code);
/// A far transfer to a code segment of the other width says so.
void name_mode(StepRow& row, const Code& code, const state::RegisterSet& after);

class StepRows {
 public:
  StepRows(control::FollowedThread& followed, StepsSink& sink)
      : followed_(followed), sink_(sink), shadow_(followed.process()) {}

  /// Room for the next row; those before it may still wait for their memory.
  Recorded& open();
  /// The same, begun where the followed thread stands.
  Recorded& open(StepRow::Kind kind);
  void start(Recorded& recorded, StepRow::Kind kind);
  /// Finds what stands where the instruction of the open row is about to write.
  void prepare(state::Delta& delta);
  /// Keeps what an instruction that compares is about to find in memory.
  void keep_compared(Recorded& recorded, std::uint64_t address, std::size_t size);
  /// Says with the next row that is closed what else happened.
  void note(std::string text) { note_ = std::move(text); }
  /// Queues a finished row.
  void close(Recorded& recorded);
  /// Queues the open row of a plain instruction, to be made later.
  void close_plain(Recorded& recorded, const Code& code, const state::RegisterSet& before);
  /// Sends the waiting rows, in order.
  void settle();
  /// Somebody else than the stepped instructions is about to write memory, or has.
  void forget_memory() { shadow_.forget(); }

  [[nodiscard]] std::uint64_t count() const { return count_; }
  [[nodiscard]] std::uint64_t instructions() const { return instructions_; }

 private:
  /// A memory change that waits to be read back.
  struct Written {
    state::Delta* delta = nullptr;
    state::MemoryChange* change = nullptr;
    std::size_t piece = 0;  ///< of the batched read
    std::size_t at = 0;     ///< place in the bytes that were read
  };

  void read_back();
  void request_pieces();
  void finish_plain(Recorded& recorded);
  [[nodiscard]] bool overlaps_unread(const state::Delta& delta) const;

  control::FollowedThread& followed_;
  StepsSink& sink_;
  Shadow shadow_;
  static constexpr std::size_t kQueue = 256;
  std::array<Recorded, kQueue> rows_;  ///< waiting rows in order, then the open one
  std::size_t waiting_ = 0;
  std::size_t unread_ = 0;  ///< the first of them whose memory has not been read back
  std::uint64_t sent_ = 0;  ///< rows given to the sink
  std::uint64_t count_ = 0, instructions_ = 0;
  std::string note_;
  std::vector<Written> written_;
  std::vector<state::MemoryRequest> requests_;
  std::vector<std::uint8_t> read_;
};

}  // namespace deeptrace::session
