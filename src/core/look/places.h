// Where a stop point stands: a location turned into the addresses of the instructions before which a program is to be
// held.
//
//   function          every instance of it: out of line and in clones after the prologue, where parameters have their
//                     places; of inlined copies where control comes to them
//   label             of hand-written code: there, or after a prologue that is one for certain (program/code_starts.h)
//   function+0        its first instruction
//   file.c:31         wherever control comes to the line (program/line_entries.h), in every copy: inlined calls,
//                     instances of templates, unrolled loops
//   0x401136          that instruction; an address inside an instruction is refused
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "look/level.h"
#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

struct StopPlace {
  std::uint64_t address = 0;
  std::optional<Level> level;  ///< nothing: the innermost
};

struct StopPlaces {
  std::vector<StopPlace> places;  ///< by address
  std::string found;              ///< "1 function, 2 clones, 3 inlined copies"; empty where that goes without saying
  std::vector<std::uint64_t> starts;  ///< of a function's name: the first instructions of functions and clones
  std::size_t inlined = 0;            ///< and the number of inlined copies
  bool is_short = false;              ///< the location's name was short for that of a function
  bool waiting = false;               ///< the location names a module that is not loaded; there are no places then
};

/// The places in one module's file. Errors as in program/location.h.
Result<StopPlaces> stop_places(const Module& module, std::string_view location);

/// The places in the process, as its thread `view` sees it. A function that is chosen among several when the program
/// starts is the one that is chosen. Errors (Fault::usage): nothing goes by that name; it is not known which is chosen
/// (their names are given); a module that is not loaded, unless `may_wait`.
Result<StopPlaces> stop_places(Modules& modules, const state::StateView& view, std::string_view location,
                               bool may_wait = false);

/// The name by which the main program calls a library's function of another name, as headers make it: `__isoc99_scanf`
/// for scanf, `__printf_chk` for printf, `open64` for open. Empty where it calls the function itself, or none of these.
std::string called_as(const Modules& modules, std::string_view name);

/// Where a stop point stands that was asked for by a name alone and skips a prologue: "refill+0xa, after the prologue;
/// refill+0 is the first instruction"; empty for others.
std::string after_prologue(Modules& modules, std::uint64_t address, std::string_view location);

/// An error where an address of the process lies in known code but begins no instruction.
std::optional<Error> no_instruction(const Modules& modules, std::uint64_t address, std::string_view location);

}  // namespace deeptrace::look
