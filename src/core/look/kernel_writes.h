// What a system call writes into memory, by the table of calls.
//
//   const auto writes = KernelWrites::before(call, view, 4096);
//   …                                          // the call is made
//   writes.add_changes(view, result, delta);
#pragma once

#include <cstdint>
#include <vector>

#include "abi/system_calls.h"
#include "state/delta.h"
#include "state/view.h"

namespace deeptrace::look {

class KernelWrites {
 public:
  KernelWrites() = default;
  /// Keeps what stands where the call that a thread is about to make may write. Places of more than `most` bytes are
  /// left out.
  static KernelWrites before(const abi::SystemCall& call, const state::StateView& view, std::uint64_t most);
  /// Adds what it has written: as much as the call returned, or a place of a fixed size in which anything changed.
  /// Nothing when the result is an error.
  void add_changes(const state::StateView& view, std::uint64_t result, state::Delta& delta) const;

 private:
  struct Place {
    std::uint64_t address = 0;
    bool by_result = false;  ///< the call returns how many bytes it wrote
    bool known = false;      ///< what stood there could be read
    std::vector<std::uint8_t> bytes;
  };
  std::vector<Place> places_;
};

}  // namespace deeptrace::look
