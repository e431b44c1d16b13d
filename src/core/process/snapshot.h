// All writable memory of a process at one moment, to find out afterwards what somebody else (the kernel) wrote.
#pragma once

#include <cstdint>
#include <vector>

#include "base/byte_reader.h"
#include "process/process.h"
#include "state/delta.h"

namespace deeptrace::process {

class Snapshot {
 public:
  /// Copies all readable, writable private and anonymous mappings. Beyond `most` bytes nothing is copied.
  static Snapshot take(const Process& process, std::uint64_t most = std::uint64_t(256) << 20);

  /// False when there was too much to copy.
  [[nodiscard]] bool complete() const { return complete_; }
  /// Adds every range whose bytes differ now to `delta`; differences less than 8 bytes apart are one range. A stack
  /// that grew since is compared with zeros, which is what its new pages held.
  void add_changes(const Process& process, state::Delta& delta) const;

 private:
  struct Piece {
    std::uint64_t address = 0;
    std::vector<std::uint8_t> bytes;
  };
  void compare(const Process& process, std::uint64_t address, Bytes before, state::Delta& delta) const;

  std::vector<Piece> pieces_;
  bool complete_ = true;
};

}  // namespace deeptrace::process
