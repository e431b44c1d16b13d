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

/// The two values that an instruction compared or tested, or the result that it left.
struct Compared {
  std::uint64_t first = 0, second = 0;  ///< operands of cmp and test
  std::uint64_t result = 0;             ///< of arithmetic: what its first operand holds afterwards
};

/// What was found, with values: "3 is less than 6, signed" where the condition `code` holds, its opposite where it does
/// not. Empty where comparison_words() has no words.
std::string decision_words(unsigned code, bool holds, const Instruction& setter, const Compared& values);

/// The sentence of a conditional instruction, its condition worded by the instruction that set the flags.
std::string sentence_after(const Instruction& instruction, std::uint64_t address, const Instruction& setter,
                           std::uint64_t setter_address);

}  // namespace deeptrace::isa
