// What is shown at a stop: where, the code around, what the last motion changed, what comes next.
#pragma once

#include <cstdint>
#include <string>
#include <utility>
#include <vector>

#include "look/code_lines.h"
#include "look/foresight.h"
#include "session/control.h"

namespace deeptrace::session {

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
  std::vector<look::CodeLine> code;
  state::Delta changes;  ///< registers, flags and memory; vectors of the low 128 bits
  std::vector<std::pair<std::string, inspect::Value>> results;  ///< of a function that returned: its name and result
  look::Foresight next;
};

/// The program stands still.
Card card_of(Control& control, const Stopped& stopped);

}  // namespace deeptrace::session
