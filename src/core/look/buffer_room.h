// How much room there is where a buffer lies: up to the end of the variable that it lies in.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

struct BufferRoom {
  std::string name;         ///< of the variable
  std::uint64_t bytes = 0;  ///< from the address to its end
  bool inferred = false;    ///< its end is where the next label stands
};

/// Of a variable of the developer's own, in a section of data or on the stack; nothing where none is known there.
std::optional<BufferRoom> room_at(Modules& modules, const state::StateView& view, std::uint64_t address);

}  // namespace deeptrace::look
