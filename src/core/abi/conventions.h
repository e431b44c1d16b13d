// The conventions by which functions, and the kernel, are called: registers, stack and who tidies up, as a table.
// Where the arguments of a certain type travel in those of System V is worked out by abi/passing.h.
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <string_view>
#include <vector>

#include "arch/machine.h"

namespace deeptrace::abi {

struct Convention {
  std::string_view name;
  std::string_view also;   ///< other names, with blanks between
  std::string_view title;  ///< whose it is, in words
  arch::Mode mode = arch::Mode::bits64;
  // Registers by name, in order, with blanks between:
  std::string_view number{};    ///< what is asked for, of the kernel
  std::string_view integers{};  ///< arguments that are integers or addresses; those beyond are on the stack
  std::string_view floats{};    ///< floating-point arguments, likewise
  std::string_view result{}, float_result{};
  std::string_view vectors{};      ///< of variadic calls: where the number of vector registers used is passed
  std::string_view kept{};         ///< that the callee gives back as they were, beside the stack pointer
  bool by_position = false;        ///< an argument uses up the registers of its position in both lists
  bool spread = false;             ///< a value of several words lies in several registers, where so many are left
  bool variadic_on_stack = false;  ///< functions with a variable number of arguments take all of them on the stack
  bool stack = true;               ///< arguments beyond the registers are on the stack
  bool callee_cleans = false;      ///< the callee takes the arguments off the stack
  std::uint8_t alignment = 16;     ///< of the stack pointer at the call, bytes
  std::uint8_t red_zone = 0;       ///< bytes below the stack pointer that a leaf function may use
  std::uint8_t home = 0;           ///< bytes that the caller leaves free above the return address
  std::uint8_t code = 0;           ///< DW_AT_calling_convention of functions that were declared to follow it, as clang
                                   ///< writes it; 0: it writes none
  std::array<std::string_view, 4> remarks{};
  std::string_view source;  ///< what says so
};

std::span<const Convention> conventions();
/// Of one of its names, in any case; null: there is none.
const Convention* convention_named(std::string_view name);
/// The one that debug information means by a code; null: there is none.
const Convention* convention_of_code(std::uint64_t code, arch::Mode mode);
/// The parts of a list of names.
std::vector<std::string_view> names_in(std::string_view list);

}  // namespace deeptrace::abi
