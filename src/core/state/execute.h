// What an instruction will do: its results computed from a state, without running it.
//
//   const Outcome outcome = execute(instruction, view);
//   if (outcome.ending == Ending::done) …   // outcome.registers are those after it, outcome.store what it writes
//
// The integer core is computed (operations with `does` in the .isa files), and what copies a vector register to memory
// or to a general one, where the view has vector registers; for anything else the answer is Ending::unknown, never a
// guess. One call is what one single step does: a repeated string instruction is carried out once and may stay where it
// is.
#pragma once

#include <optional>

#include "isa/instruction.h"
#include "state/view.h"

namespace deeptrace::state {

enum class Ending : std::uint8_t {
  done,
  exception,   ///< the processor raises Outcome::exception instead
  unreadable,  ///< it reads memory at Outcome::address that the view does not have
  unknown,     ///< not computed here
};

/// The one piece of memory that an instruction writes.
struct Store {
  std::uint64_t address = 0;
  std::uint16_t size = 0;  ///< bytes; 0: none
  bool undefined = false;  ///< no manual tells what is stored
  isa::Block bytes;        ///< the first `size` of them, in memory order
};

struct Outcome {
  Ending ending = Ending::unknown;
  isa::Exception exception = isa::Exception::none;
  std::uint16_t undefined_flags = 0;      ///< rflags bits that no manual tells; their old values stand in `registers`
  std::uint16_t undefined_registers = 0;  ///< bits by general register number, likewise
  std::uint64_t address = 0;              ///< where reading failed
  RegisterSet registers;                  ///< afterwards, rip included
  Store store;

  /// Nothing that it leaves is in doubt.
  [[nodiscard]] bool is_certain() const {
    return ending == Ending::done && undefined_flags == 0 && undefined_registers == 0 && !store.undefined;
  }
};

/// Carries out the instruction at `view.registers()[rip]`. Whether the store would succeed is not asked.
Outcome execute(const isa::Instruction& instruction, const StateView& view);

/// The same for an instruction that touches no memory; of one that reads some, the answer is Ending::unreadable.
Outcome execute(const isa::Instruction& instruction, const RegisterSet& registers);

/// False for instructions that `execute` leaves to the processor whatever the state: those it does not know, those that
/// leave something undefined, and repeated ones, of which it does one repetition.
bool is_computed(const isa::Instruction& instruction);

/// Whether a conditional jump is taken, a conditional move moves, a conditional set sets 1; nothing for instructions
/// that nothing decides. Counting jumps (`loop`) are decided by their counter.
std::optional<bool> condition_holds(const isa::Instruction& instruction, const RegisterSet& registers);

}  // namespace deeptrace::state
