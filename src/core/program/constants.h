// Floating-point constants that instructions read: compilers keep them in memory that never changes, without a name.
#pragma once

#include <cstdint>
#include <string>

#include "isa/instruction.h"
#include "program/program.h"

namespace deeptrace::program {

/// "2.5", of several "[2.5, 2.5]": what an instruction at `address` reads as floating-point numbers at a fixed place in
/// memory that is not written. Empty for all others.
std::string floating_constant(const Program& program, const isa::Instruction& instruction, std::uint64_t address);

/// How a place with a constant is called: by its value, and by its name where it has one of its own ("limit = 2.5").
std::string constant_words(std::string_view name, std::string_view constant);

}  // namespace deeptrace::program
