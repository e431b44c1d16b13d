// The registers of one thread at one moment.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string_view>

#include "isa/instruction.h"

namespace deeptrace::state {

/// The integer registers as one array, so that two moments compare in one loop. The order is the order in which
/// they are shown.
enum class Reg : std::uint8_t {
  rax,
  rbx,
  rcx,
  rdx,
  rsi,
  rdi,
  rbp,
  rsp,
  r8,
  r9,
  r10,
  r11,
  r12,
  r13,
  r14,
  r15,
  rip,
  rflags,
  cs,
  ss,
  ds,
  es,
  fs,
  gs,
  fs_base,
  gs_base,
};
inline constexpr std::size_t kRegCount = 26;

// Bits of rflags that tracing leaves visible (Intel SDM volume 3, 2.3 and 17.3.1.1).
inline constexpr std::uint64_t kTrapFlag = 0x100;      ///< the processor traps after the next instruction
inline constexpr std::uint64_t kResumeFlag = 0x10000;  ///< a debug register lets the next instruction pass

struct RegisterSet {
  std::array<std::uint64_t, kRegCount> values{};

  std::uint64_t& operator[](Reg reg) { return values[static_cast<std::size_t>(reg)]; }
  std::uint64_t operator[](Reg reg) const { return values[static_cast<std::size_t>(reg)]; }
  friend bool operator==(const RegisterSet&, const RegisterSet&) = default;
};

std::string_view name_of(Reg reg);
/// The name in that mode: "eax", "eip", "eflags" in 32-bit code.
std::string_view name_of(Reg reg, isa::Mode mode);

/// The register that holds a part of a general or segment register or the instruction pointer.
Reg reg_of(isa::RegisterPart part);

/// A general register by its number in the processor's encoding order, and back; nothing for other registers.
Reg reg_numbered(unsigned general);
std::optional<unsigned> general_number(Reg reg);
/// The integer register of a number of debug information, the instruction pointer included (as which the return address
/// counts).
std::optional<Reg> reg_of_dwarf(unsigned number, isa::Mode mode);
/// Whether a called function gives the register back as it was.
bool kept_by_callee(Reg reg, isa::Mode mode);
/// The thread pointer: where thread-local variables are counted from.
std::uint64_t thread_pointer(const struct RegisterSet& registers, isa::Mode mode);

/// The mode that the code segment's selector stands for in Linux.
isa::Mode mode_of(const RegisterSet& registers);

/// The part's value out of a register set.
std::uint64_t value_of(const RegisterSet& registers, isa::RegisterPart part);

}  // namespace deeptrace::state
