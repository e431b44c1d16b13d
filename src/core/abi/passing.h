// Where the arguments of a call and its result travel, by their types.
//
// x86-64: System V psABI, 3.2.3 (classes of eightbytes, registers, stack). i386: System V psABI, 2.2.3 and 2.2.4, as
// Linux has it: arguments on the stack, structures returned in memory. C++ (both): Itanium C++ ABI, 3.1 (classes with
// copy or destruction of their own are passed by their address).
#pragma once

#include <cstdint>
#include <span>
#include <string_view>
#include <vector>

#include "arch/machine.h"
#include "debuginfo/types.h"

namespace deeptrace::abi {

/// A part of a value, and where it travels.
struct Piece {
  arch::RegisterPart part;   ///< none: on the stack
  std::uint64_t stack = 0;   ///< there: bytes from the first argument's place, which is where the stack pointer stands
                             ///< before the call
  std::uint64_t offset = 0;  ///< bytes, in the value
  std::uint64_t size = 0;    ///< bytes of the value
  friend bool operator==(const Piece&, const Piece&) = default;
};

struct Passed {
  std::vector<Piece> pieces;  ///< none: a value without bytes, such as an empty class
  bool by_address = false;    ///< the one piece is the address of the value in memory
};

struct CallLayout {
  std::vector<Passed> arguments;
  Passed result;               ///< at the return; by address: what the called function gives back
  bool hidden_result = false;  ///< the caller passes the address of memory for the result, in front of the arguments
  std::uint64_t stack = 0;     ///< bytes of the arguments on the stack
  bool known = true;  ///< false: the function was declared to follow a convention that is not known here, and nothing
                      ///< is said of places
};

/// Why there are no places then, as the end of "unknown: ...".
inline constexpr std::string_view kConventionUnknown =
    "the function was declared to follow a calling convention that is not known here";

/// Compilers differ from each other, and from the ABIs.
struct Compiler {
  bool clang = false;  ///< i386: nothing is passed for an empty class, and on the stack vectors alone are aligned; with
                       ///< gcc an empty class takes a word, and structures that hold vectors are aligned too
  unsigned version = 0;  ///< the first number of its version; clang before 18: 128-bit integers are two words
  /// DW_AT_calling_convention of a function that was declared to follow another one (clang says that, gcc does not; the
  /// codes are in abi/conventions.h); 0: it was not.
  std::uint64_t declared = 0;
};
/// From what a unit's debug information says (DW_AT_producer).
Compiler compiler_of(std::string_view producer);
/// The same of a function, by its entry.
Compiler compiler_of(const debuginfo::Entry& function);

/// By the convention of C functions, or by that which the function was declared to follow. An argument of a type that
/// is not known (kVoid) is taken for a word.
CallLayout layout_of_call(arch::Mode mode, Compiler compiler, debuginfo::Types& types,
                          std::span<const debuginfo::TypeId> arguments, debuginfo::TypeId result);

/// What a convention of 32-bit functions puts into registers; System V's has none of it but the vectors.
struct WordRegisters {
  std::vector<arch::RegisterPart> words;  ///< for arguments of whole words, in their order
  bool numbers_alone = false;  ///< only numbers and addresses of one word are passed in them; for anything else that
                               ///< would fit they stay unused, and it is on the stack
  unsigned vectors = 3;        ///< xmm0 and so on
  bool reals = false;  ///< these are for floating-point numbers too, and for structures of up to four of one kind,
                       ///< after those by themselves; where none is left an address is passed
};
/// By gcc's rules for the attributes regparm, fastcall and thiscall, and clang's for vectorcall, but long double.
CallLayout layout_in_words(const WordRegisters& registers, Compiler compiler, debuginfo::Types& types,
                           std::span<const debuginfo::TypeId> arguments, debuginfo::TypeId result);

}  // namespace deeptrace::abi
