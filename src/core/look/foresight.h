// What the next instruction is about to do, with today's values.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "abi/system_calls.h"
#include "look/address_name.h"
#include "look/call_decoder.h"
#include "look/modules.h"
#include "state/target.h"

namespace deeptrace::look {

struct Foresight {
  std::string sentence;  ///< what the instruction does
  /// An operand and what it holds now.
  struct Operand {
    std::string text;                      ///< as the instruction has it
    std::optional<std::uint64_t> address;  ///< of memory
    std::optional<std::uint64_t> value;    ///< nothing: it cannot be read
    unsigned bits = 0;                     ///< of the value; beyond 64 there is none
    std::string name;                      ///< what lies at the address of memory
    AddressName points_to;                 ///< what the value refers to
  };
  std::vector<Operand> operands;
  /// A register or memory that will hold something else.
  struct Result {
    std::string text;
    std::uint64_t value = 0;
    unsigned bits = 64;
    AddressName points_to;
  };
  std::vector<Result> results;
  std::optional<DecodedCall> call;  ///< the system call that is about to be made, or is under way
  std::string verdict;  ///< "the jump to … will be taken: …", "calls level_sum", "will fault: …"; may be empty
};

Foresight foresee(Modules& modules, const state::StateView& view);
/// What comes next of a thread, be it an instruction or the end of a system call that it stands in.
Foresight what_comes(const state::Target& target, state::ThreadId thread, Modules& modules);

/// The numbering of the system call that a thread stands in or has just left: those of int 0x80 are the 32-bit ones in
/// 64-bit code as well.
abi::CallTable table_of_call(const state::StateView& view);

/// What the instruction at an address that has just run does, in a sentence.
std::string sentence_at(const state::StateView& view, std::uint64_t address);

}  // namespace deeptrace::look
