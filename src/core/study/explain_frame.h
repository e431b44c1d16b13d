// What `explain frame` tells: how the code of a function builds its stack frame and takes it down again, and what lies
// where in it. Read from the instructions alone; names come from the debug information where there is some.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "isa/text.h"
#include "program/frame.h"
#include "program/program.h"

namespace deeptrace::study {

/// An instruction of a prologue or epilogue.
struct FrameStep {
  enum class Role : std::uint8_t {
    saves,               ///< puts a register of the caller's on the stack
    sets_frame_pointer,  ///< from here on the frame pointer marks the frame
    reserves,            ///< takes room
    enters,              ///< `enter`: saves the frame pointer, sets it and takes room
    reserves_unknown,    ///< takes room by an amount known at run time only
    aligns,              ///< rounds the stack pointer down to a multiple of `bytes`
    touches,             ///< a page that was taken, so that an overflow of the stack is noticed there
    notes_stack,         ///< keeps in a register where the arguments begin, before the stack pointer is rounded down
    copies_return,       ///< puts the return address a second time where the frame pointer's chain has it
    puts_protector,      ///< the value that guards the return address (x86-64: fs:0x28, i386: gs:0x14)
    checks_protector,    ///< that it is what it was
    keeps_argument,      ///< puts an argument from its register into the frame
    restores,            ///< gives a register back to the caller
    sets_stack,          ///< the stack pointer is what another register says
    releases,            ///< gives room back
    leaves,              ///< `leave`: gives back all room, and the caller's frame pointer
    returns,
    jumps_on,  ///< to a function that returns in its place (tail call)
  };
  std::uint64_t address = 0;
  std::uint32_t line = 0;  ///< 0 when unknown
  std::string text;        ///< the instruction
  Role role = Role::saves;
  std::string subject;                 ///< the register; of an argument its name, too; where a jump leads
  std::uint64_t bytes = 0;             ///< taken, given back, rounded to; of `returns`: arguments that it takes off
  std::uint64_t in_all = 0;            ///< taken by a loop around the instruction; 0: there is none
  std::optional<std::uint64_t> taken;  ///< bytes below the return address after it, as far as that is known
};

/// A way out of the function: what takes the frame down there.
struct FrameExit {
  std::vector<FrameStep> steps;        ///< the return or jump last
  std::vector<std::uint64_t> similar;  ///< other places that do the same
};

/// A part of the stack, while the body of the function runs.
struct FrameSlot {
  enum class Kind : std::uint8_t { argument, return_address, saved, protector, variable, unnamed, unused };
  std::int64_t offset = 0;  ///< bytes from where the stack pointer stood before the call up to it: negative below
  std::uint64_t size = 0;   ///< bytes
  Kind kind = Kind::unused;
  std::string name;  ///< of an argument or variable, its type too; the register; empty: not known
};

struct ExplainedFrame {
  std::string function;
  std::uint64_t address = 0;
  std::string file;  ///< empty when unknown
  std::uint32_t line = 0;
  isa::Mode mode = isa::Mode::bits64;
  program::FrameShape shape;
  std::vector<FrameStep> building;   ///< by address
  std::vector<FrameExit> exits;      ///< by address
  std::uint64_t built = 0;           ///< bytes below the return address while the body runs
  std::optional<std::int64_t> mark;  ///< where the frame pointer points, counted as the slots' offsets are
  std::vector<FrameSlot> slots;      ///< from above; empty where code gives none away
  bool only_on_some_ways = false;    ///< the function returns on some way before it builds its frame
};

ExplainedFrame explain_frame(const program::Program& program, const program::Function& function, isa::Syntax syntax);
/// Errors: the file cannot be used; no such function (Fault::usage).
Result<ExplainedFrame> explain_frame(const std::string& file, std::string_view function, isa::Syntax syntax);

std::string_view name_of(FrameStep::Role role);
std::string_view name_of(FrameSlot::Kind kind);

}  // namespace deeptrace::study
