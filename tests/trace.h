// An independent account of a program's whole run: every instruction's address and stack pointer, by bare single steps.
// Shares no code with the product.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace deeptrace::tests {

struct Moment {
  std::uint64_t address = 0, stack = 0;
  std::int64_t clock = 0;  ///< what the program counts of itself; told for own code only
  std::uint8_t opcode[3] = {};
  bool handler = false;  ///< a signal was delivered just before: this is its handler's first instruction

  [[nodiscard]] bool is_call() const {
    const int at = (opcode[0] & 0xf0) == 0x40 ? 1 : 0;  // after a REX prefix
    return opcode[at] == 0xe8 || (opcode[at] == 0xff && (opcode[at + 1] >> 3 & 7) == 2);
  }
  [[nodiscard]] bool is_return() const { return opcode[0] == 0xc3 || (opcode[0] == 0xf3 && opcode[1] == 0xc3); }
};

/// Steps the main thread of a program from `from` to its end; other threads run freely. `clock` is where its counter
/// lies in a thread, from the thread pointer on; `own_from..own_to` is its own code.
std::vector<Moment> trace_of(const std::string& program, std::uint64_t from, std::uint64_t own_from,
                             std::uint64_t own_to, std::int64_t clock);

}  // namespace deeptrace::tests
