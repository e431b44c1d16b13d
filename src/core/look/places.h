// Where a stop point stands: a location turned into the addresses of the instructions before which a program is to be
// held.
//
//   function          after its prologue, where its parameters have their places
//   label             of hand-written code: there, or after a prologue that is one for certain (program/code_starts.h)
//   function+0        its first instruction
//   file.c:31         the line's first instruction, in every copy: inlined calls, instances of templates
//   0x401136          that instruction; an address inside an instruction is refused
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

/// The addresses in one module's file. Errors as in program/location.h.
Result<std::vector<std::uint64_t>> stop_places(const Module& module, std::string_view location);

/// The addresses in the process, as its thread `view` sees it. `waiting`, where it is not null, is set when the
/// location names a module that is not loaded; the result is empty then. A function that is chosen among several when
/// the program starts is the one that is chosen. Errors (Fault::usage): nothing goes by that name; it is not known
/// which is chosen (their names are given).
Result<std::vector<std::uint64_t>> stop_places(Modules& modules, const state::StateView& view,
                                               std::string_view location, bool* waiting);

/// The name by which the main program calls a library's function of another name, as headers make it: `__isoc99_scanf`
/// for scanf, `__printf_chk` for printf, `open64` for open. Empty where it calls the function itself, or none of these.
std::string called_as(const Modules& modules, std::string_view name);

/// Where a stop point stands that was asked for by a name alone and skips a prologue: "refill+0xa, after the prologue;
/// refill+0 is the first instruction"; empty for others.
std::string after_prologue(Modules& modules, std::uint64_t address, std::string_view location);

/// An error where an address of the process lies in known code but begins no instruction.
std::optional<Error> no_instruction(const Modules& modules, std::uint64_t address, std::string_view location);

}  // namespace deeptrace::look
