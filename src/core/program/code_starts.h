// Where code begins: a function's body after its prologue, and instructions around an address.
#pragma once

#include <cstdint>

#include "program/program.h"

namespace deeptrace::program {

/// Where a function's prologue ends. It is skipped only where that is certain: where the debug information of a
/// compiled language says so, or where the code itself is the frame setup and nothing else. Hand-written code must set
/// up its frame pointer for that: what it pushes otherwise may be anything.
struct Prologue {
  enum class By : std::uint8_t {
    none,               ///< there is none, or nothing is certain
    debug_information,  ///< of a compiled language
    code,               ///< instructions that only set up a frame
  };
  std::uint64_t end = 0;  ///< the first instruction after it, an address in the file
  By by = By::none;
};
Prologue prologue_of(const Program& program, const Function& function);
/// Of the code after a label of hand-written code.
Prologue prologue_after(const Program& program, std::uint64_t label);

/// Where a stop after the prologue stands, an address in the file: its end, or, where a loop leads back there, the last
/// instruction before the loop, so that it is passed once a call.
std::uint64_t prologue_end_of(const Program& program, const Function& function);

/// Whether the debug information at an address of the file is that of an assembler's source (DWARF 5, 7.12:
/// DW_LANG_Mips_Assembler): it names functions, and nothing that they take.
bool is_assembly(const Program& program, std::uint64_t address);

/// The starts of the instructions around an address in the file: the one at or before it, and the next one. Both are
/// the address itself when an instruction starts there. Zero where no code is known.
struct Boundaries {
  std::uint64_t before = 0, after = 0;
};
Boundaries boundaries_around(const Program& program, std::uint64_t address);

}  // namespace deeptrace::program
