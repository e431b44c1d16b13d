// A function called in imagination: carried out by the meaning of its instructions over somebody's state, with what it
// writes kept apart. The program is not touched, and nothing runs.
//
// It works for functions of the integer core that make no system calls, such as those by which a library chooses among
// several versions of a function (STT_GNU_IFUNC; GNU gABI extensions). Anything uncertain ends it without an answer.
#pragma once

#include <cstdint>
#include <optional>

#include "state/view.h"

namespace deeptrace::state {

/// What a function without parameters returns (rax or eax); nothing where it is not known, or after `most`
/// instructions.
std::optional<std::uint64_t> imagined_result(const StateView& view, std::uint64_t function, std::uint64_t most = 10000);

}  // namespace deeptrace::state
