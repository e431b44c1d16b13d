// Where code begins: a function's body after its prologue, and instructions around an address.
#pragma once

#include <cstdint>

#include "program/program.h"

namespace deeptrace::program {

/// The first instruction after a function's prologue, by the line table where it tells, else by the instructions
/// that set up a frame. An address in the file.
std::uint64_t prologue_end_of(const Program& program, const Function& function);

/// The starts of the instructions around an address in the file: the one at or before it, and the next one. Both are
/// the address itself when an instruction starts there. Zero where no code is known.
struct Boundaries {
  std::uint64_t before = 0, after = 0;
};
Boundaries boundaries_around(const Program& program, std::uint64_t address);

}  // namespace deeptrace::program
