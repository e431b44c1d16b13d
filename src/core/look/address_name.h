// What an address is shown with: what lies there, one hop and no more.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

struct AddressName {
  std::string name;    ///< of code or a variable: "level_sum+0x12"
  std::string text;    ///< the readable string there, raw
  std::string region;  ///< where nothing has a name: "stack, rsp+8", "heap", "libtide.so"

  [[nodiscard]] bool known() const { return !name.empty() || !text.empty() || !region.empty(); }
};

/// Nothing for what is no address of the program's memory: that is a number. Of the stack the distance from
/// `stack_pointer` is given.
AddressName address_name(Modules& modules, const state::StateView& view, std::uint64_t value,
                         std::uint64_t stack_pointer);

/// "total", "heads[1]", "log.count": the variable with a fixed place that holds `size` bytes at an address; empty when
/// none does.
std::string memory_name(Modules& modules, std::uint64_t address, std::uint64_t size);

}  // namespace deeptrace::look
