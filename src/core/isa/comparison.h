// What a condition stands for after the instruction that set the flags: "if [rbp-8] was less than eax, signed".
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "isa/instruction.h"

namespace deeptrace::isa {

/// The code (see conditions()) of a conditional jump, set or move; nothing for other instructions.
std::optional<unsigned> condition_of(const Instruction& instruction);

/// True for instructions that write flags which conditions ask for.
bool sets_condition_flags(const Instruction& instruction);

/// The condition in words, with the operands that were compared or tested, or whose result it was. Empty when only the
/// flags themselves can be named.
std::string comparison_words(unsigned code, const Instruction& setter, std::uint64_t setter_address);

/// The sentence of a conditional instruction, its condition worded by the instruction that set the flags.
std::string sentence_after(const Instruction& instruction, std::uint64_t address, const Instruction& setter,
                           std::uint64_t setter_address);

}  // namespace deeptrace::isa
