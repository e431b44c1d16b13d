// Instructions around an address, as they stand in memory.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

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

/// What stands at addresses, "h1 h3": names of stop points that belong beside an instruction.
using StopNames = std::map<std::uint64_t, std::string>;

/// Instructions around an address: `before` of them in front where the boundaries are known, and `after` from it on.
std::vector<CodeLine> code_around(Modules& modules, const state::StateView& view, std::uint64_t address,
                                  std::size_t before, std::size_t after, const StopNames& stops = {});

}  // namespace deeptrace::look
