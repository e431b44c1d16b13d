// What becomes of a call's result: whether anything reads it before it is overwritten.
#pragma once

#include <cstdint>
#include <optional>

#include "isa/instruction.h"
#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

struct Overwritten {
  std::uint64_t address = 0;
  isa::Instruction instruction;
};

/// The instruction that overwrites the result's register while nothing has read it, from `address` on, to which control
/// comes after the call. Nothing where it is read, and where instructions that follow in straight line do not tell.
std::optional<Overwritten> overwritten_result(Modules& modules, const state::StateView& view, std::uint64_t address);

}  // namespace deeptrace::look
