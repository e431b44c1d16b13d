// The system calls of Linux on x86-64 and for 32-bit programs, from the tables linux_x86_64.calls and linux_i386.calls.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>

#include "isa/instruction.h"
#include "state/registers.h"

namespace deeptrace::abi {

/// Memory that the kernel writes for a call.
struct KernelOutput {
  std::uint8_t argument = 0;  ///< 1 to 6: the argument that holds the address
  std::uint32_t size = 0;     ///< bytes; 0: as many as the call returns
};

struct SystemCall {
  std::uint16_t number = 0;
  std::string_view name;
  bool outputs_known = false;  ///< false: the call may write anywhere
  std::uint8_t output_count = 0;
  KernelOutput outputs[2];
};

using arch::CallTable;

/// The call of a number or a name, or null.
const SystemCall* system_call(std::uint64_t number, CallTable table = CallTable::x86_64);
const SystemCall* system_call(std::string_view name, CallTable table);
/// Its name; of one that is not known its number.
std::string call_name(std::uint64_t number, CallTable table);
/// The numbering that code of a mode uses. (A 64-bit program may use `int 0x80` too; that is not decided here.)
inline CallTable call_table(isa::Mode mode) { return arch::machine_of(mode).calls; }
/// All, by number.
std::span<const SystemCall> system_calls(CallTable table);

/// Argument 1 to 6 where code of that mode asks the kernel.
inline constexpr unsigned kMostArguments = 6;
std::uint64_t argument(const state::RegisterSet& registers, unsigned index, isa::Mode mode = isa::Mode::bits64);

}  // namespace deeptrace::abi
