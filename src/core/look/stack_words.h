// The words of a stack, from the stack pointer up, and what each of them is.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "look/address_name.h"
#include "look/scope.h"
#include "state/delta.h"

namespace deeptrace::look {

struct StackWord {
  enum class Kind : std::uint8_t {
    unknown,         ///< nothing says what it is: what is left of calls before, room that is not used, temporaries
    return_address,  ///< that a call has left
    kept,            ///< a register of the caller, which the function gives back
    variable,
    argument,   ///< of the frame's function, on its caller's stack
    outgoing,   ///< an argument of the call that the frame has under way
    padding,    ///< room that the frame's function does not use
    protector,  ///< the value that guards the return address (x86-64: fs:0x28, i386: gs:0x14)
  };
  std::uint64_t address = 0, value = 0;
  bool known = true;  ///< false: it cannot be read
  Kind kind = Kind::unknown;
  bool top = false;       ///< the stack pointer points here
  bool below = false;     ///< below the stack pointer, where functions that call nothing may keep variables (red zone)
  bool changed = false;   ///< by the last motion
  std::size_t frame = 0;  ///< that it belongs to: an index of the frames; past the last one where that is not known
  std::string function;   ///< of that frame; empty when unknown
  std::string meaning;    ///< "return address: main+0x9c  tidelog.c:34", "sum", "rbp of main"; empty when unknown
  AddressName points_to;  ///< what the value points to
};

/// From the red zone or the stack pointer of the innermost frame up, `most` words. `changed` is what the last motion
/// wrote; null: not known.
std::vector<StackWord> stack_words(Modules& modules, const state::StateView& view,
                                   const std::vector<inspect::Frame>& frames, std::size_t most,
                                   const state::Delta* changed = nullptr);

/// The words of the innermost frame alone, with its return address and the arguments that it was given on the stack; so
/// many at most.
std::vector<StackWord> innermost_words(Modules& modules, const state::StateView& view, std::size_t most,
                                       const state::Delta* changed);

}  // namespace deeptrace::look
