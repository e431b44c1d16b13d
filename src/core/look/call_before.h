// The call that stands right before an address, and where calls, jumps and returns lead.
#pragma once

#include <cstdint>
#include <optional>

#include "isa/instruction.h"
#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

struct PlacedCall {
  std::uint64_t address = 0;  ///< of the instruction
  isa::Instruction instruction;
};

/// The call whose return address this is; nothing where the function around has no call that ends there.
std::optional<PlacedCall> call_before(Modules& modules, std::uint64_t return_address);

/// The same by the bytes before the address alone: what ends there and reads as a call.
std::optional<PlacedCall> likely_call_before(Modules& modules, std::uint64_t return_address);

/// Where an instruction leads from a state that stands at it; nothing where that cannot be worked out.
std::optional<std::uint64_t> flow_target(const isa::Instruction& instruction, const state::StateView& view);

}  // namespace deeptrace::look
