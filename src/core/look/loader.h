// Where the dynamic linker reports that it has loaded or unloaded a library.
//
// Facts: System V ABI, "Dynamic Section" (DT_DEBUG), and <link.h> (r_debug): the table that the entry leads to has the
// address of a function that does nothing but be called, as its third word, and the state of the list as its fourth.
#pragma once

#include <cstdint>
#include <optional>

#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

struct Loader {
  std::uint64_t function = 0;  ///< is called before and after each change
  std::uint64_t state = 0;     ///< address of 4 bytes that are 0 while the list is consistent
};

/// Nothing for static programs, and before the dynamic linker has filled in the table.
std::optional<Loader> loader_of(const Module& main, const state::StateView& view);
/// True when no change is under way.
bool is_consistent(const Loader& loader, const state::StateView& view);

}  // namespace deeptrace::look
