// Where a stop point stands: a location turned into the addresses of the instructions before which a program is to be
// held.
//
//   function          behind its entry code, where its parameters have their places
//   function+0        its first instruction
//   file.c:31         the line's first instruction, in every copy: inlined calls, instances of templates
//   0x401136          that instruction; an address inside an instruction is refused
#pragma once

#include <cstdint>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "session/modules.h"
#include "state/view.h"

namespace deeptrace::session {

/// The first instruction behind a function's entry code, by the line table where it tells, else by the instructions
/// that set up a frame. An address in the file.
std::uint64_t prologue_end_of(const program::Program& program, const program::Function& function);

/// The starts of the instructions around an address in the file: the one at or before it, and the next one. Both are
/// the address itself when an instruction starts there. Zero where no code is known.
struct Boundaries {
  std::uint64_t before = 0, after = 0;
};
Boundaries boundaries_around(const program::Program& program, std::uint64_t address);

/// The addresses in one module's file. Errors as in program/location.h.
Result<std::vector<std::uint64_t>> stop_places(const Module& module, std::string_view location);

/// The addresses in the process, as its thread `view` sees it. `waiting`, where it is not null, is set when the
/// location names a module that is not loaded; the result is empty then. A function that is chosen among several when
/// the program starts is the one that is chosen. Errors (Fault::usage): nothing goes by that name; it cannot be told
/// which is chosen (their names are told).
Result<std::vector<std::uint64_t>> stop_places(Modules& modules, const state::StateView& view,
                                               std::string_view location, bool* waiting);

}  // namespace deeptrace::session
