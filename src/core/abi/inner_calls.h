// Calls of 32-bit programs that are asked for through another one: those of sockets through socketcall(2), semaphores,
// messages and shared memory of System V through ipc(2) (linux/net.h, linux/ipc.h).
#pragma once

#include <cstdint>
#include <span>
#include <string_view>

namespace deeptrace::abi {

struct InnerCall {
  std::string_view outer;     ///< "ipc"
  std::string_view constant;  ///< "SEMOP": its first argument, in the low 16 bits
  std::string_view call;      ///< "semop"
  /// Where its arguments are, in order: registers and words of memory, as in "ecx [edi+4]".
  std::string_view places;
  std::string_view
      later{};  ///< the same where the first argument has a version in its upper bits; empty: no difference
};

/// Null: `outer` is no such call, or no call has the number.
const InnerCall* inner_call(std::string_view outer, std::uint64_t first_argument);
std::span<const InnerCall> inner_calls();

}  // namespace deeptrace::abi
