// What is shown at a stop: where, the code around, what the last motion changed, what comes next.
#pragma once

#include <cstdint>
#include <string>
#include <utility>
#include <vector>

#include "look/foresight.h"
#include "session/control.h"

namespace deeptrace::session {

struct CodeLine {
  std::uint64_t address = 0;
  std::vector<std::uint8_t> bytes;
  std::string text;    ///< the instruction in Intel syntax
  std::string target;  ///< what its target or fixed address refers to
  std::string place;   ///< "level_sum+0x12"
  std::string file;    ///< of its source line; empty when unknown
  std::uint32_t line = 0;
  bool next = false;  ///< the thread stands before it
  std::string halts;  ///< "h1 h3": stop points that stand here
};

/// Instructions around an address: `before` of them in front where the boundaries are known, and `after` from it on.
std::vector<CodeLine> code_around(Control& control, std::uint64_t address, std::size_t before, std::size_t after);

/// An expression that is shown at every stop.
struct Followed {
  std::string text;
  inspect::Value value;
  bool changed = false;  ///< since the stop before
};

struct Card {
  Stopped stopped;
  std::uint64_t address = 0;
  std::string place;
  std::string file;
  std::uint32_t line = 0;
  std::uint64_t thread = 1;
  std::size_t threads = 1;
  std::vector<CodeLine> code;
  state::Delta changes;  ///< registers, flags and memory; vectors of the low 128 bits
  std::vector<std::pair<std::string, inspect::Value>> results;  ///< of a function that returned: its name and result
  look::Foresight next;
};

/// Of the current thread: what comes next, be it an instruction or the end of a system call that it stands in.
look::Foresight what_comes(Control& control);

/// The program stands still.
Card card_of(Control& control, const Stopped& stopped);

}  // namespace deeptrace::session
