// Tail calls: a function that ends with a call may leave its frame first and jump. Its caller's call names it, and the
// frame that is there is another's.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "inspect/frames.h"
#include "look/modules.h"

namespace deeptrace::look {

struct TailCall {
  std::string function;               ///< that was called, and went on by a jump
  std::uint64_t target = 0;           ///< its first instruction
  std::optional<std::uint64_t> jump;  ///< the instruction that left it, where only one can have
};

/// True for a function itself, and for a part of it that a compiler put elsewhere as it is seldom run ("find.cold").
bool is_same_or_part(const program::Function& one, const program::Function& whole);

/// Of own code between a frame and its caller's, which has a call under way; nothing where the called function's frame
/// is the one that is there, or where that is not known.
std::optional<TailCall> tail_call(Modules& modules, const state::StateView& thread, const inspect::Frame& frame,
                                  const inspect::Frame& caller);

}  // namespace deeptrace::look
