// Why a program died, or is about to: the instruction, the operand, the address; the developer's own line that led
// there and the call that it made; what was wrong, in words and with evidence.
//
// Sources: sigaction(2) (si_code); Intel SDM volume 3, chapter 6 (what raises which exception).
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "look/address_name.h"
#include "look/argument.h"
#include "look/rows.h"
#include "state/target.h"

namespace deeptrace::look {

/// The operand of the instruction that came to the address.
struct FaultOperand {
  std::string text;           ///< as the instruction has it
  std::string access;         ///< "reads", "writes", "executes"
  std::uint64_t address = 0;  ///< that it came to
  std::uint64_t size = 0;     ///< bytes
  struct Part {
    std::string name;
    std::uint64_t value = 0;
    AddressName points_to;
  };
  std::vector<Part> registers;  ///< that the address is made of
};

struct FaultReport {
  state::PendingSignal signal;
  std::string code;  ///< what the kernel said of it, in words; empty where that says nothing

  // Where it happened.
  std::uint64_t address = 0;  ///< of the instruction
  std::string place, file;
  std::uint32_t line = 0;
  std::string instruction;  ///< its text; empty where none can be read
  isa::Mode mode = isa::Mode::bits64;
  using Operand = FaultOperand;
  std::optional<Operand> operand;

  std::vector<FrameRow> frames;  ///< the innermost and outermost ones where there are very many
  std::size_t all_frames = 0;
  std::size_t after_gap = 0;            ///< index of the first row after those that are left out; 0: none are
  std::size_t left_out = 0;             ///< how many those are
  std::optional<std::size_t> last_own;  ///< index of the outermost one of own code; after it comes start-up code
  std::string lost;                     ///< why the frames end before the outermost function; empty where they do not

  /// The innermost frame of the developer's own code.
  struct Own {
    std::size_t frame = 0;  ///< index in `frames`
    std::string function, file;
    std::uint32_t line = 0;
    std::optional<CallMade> call;  ///< that it has under way
  };
  std::optional<Own> own;
  std::vector<Finding> findings;  ///< the cause first

  /// The value that is wrong, for going back to where it was made.
  struct Bad {
    std::uint64_t at = 0;                   ///< the instruction that used it or passed it on
    std::optional<isa::RegisterPart> part;  ///< nothing: it lies in memory
    std::uint64_t memory = 0, size = 0;     ///< there: address and bytes
  };
  std::optional<Bad> bad;
};

/// What is wrong, without the rest: nothing for signals that no mistake of the program brings about.
std::vector<Finding> fault_findings(const state::Target& target, Modules& modules, state::ThreadId thread);

/// Of a thread that stands where a signal is about to end the program, or has.
FaultReport explain_fault(const state::Target& target, Modules& modules, state::ThreadId thread,
                          const state::PendingSignal& signal);

}  // namespace deeptrace::look
