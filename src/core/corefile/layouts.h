// Where the fields of the structures lie that the kernel writes into the notes of core files, for who reads and who
// writes them (<linux/elfcore.h>, <asm/user_64.h>, <asm/user_32.h>, siginfo_t of sigaction(2)).
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>

#include "state/registers.h"

namespace deeptrace::corefile {

/// Where the fields of the structures lie, in bytes, in files of 32 and 64 bits.
struct Offsets {
  std::size_t thread, registers;  ///< of elf_prstatus
  std::size_t process, name;      ///< of elf_prpsinfo
  std::size_t fault_address;      ///< of siginfo_t
};
inline constexpr Offsets kOffsets[] = {{24, 72, 12, 28, 12}, {32, 112, 24, 40, 16}};

/// The registers in the kernel's order; the number of a system call stands for none of ours.
inline constexpr state::Reg kNoRegister = static_cast<state::Reg>(0xff);
inline constexpr state::Reg kOrder64[] = {
    state::Reg::r15,    state::Reg::r14, state::Reg::r13, state::Reg::r12,     state::Reg::rbp,     state::Reg::rbx,
    state::Reg::r11,    state::Reg::r10, state::Reg::r9,  state::Reg::r8,      state::Reg::rax,     state::Reg::rcx,
    state::Reg::rdx,    state::Reg::rsi, state::Reg::rdi, kNoRegister,         state::Reg::rip,     state::Reg::cs,
    state::Reg::rflags, state::Reg::rsp, state::Reg::ss,  state::Reg::fs_base, state::Reg::gs_base, state::Reg::ds,
    state::Reg::es,     state::Reg::fs,  state::Reg::gs};
inline constexpr state::Reg kOrder32[] = {
    state::Reg::rbx, state::Reg::rcx, state::Reg::rdx,    state::Reg::rsi, state::Reg::rdi, state::Reg::rbp,
    state::Reg::rax, state::Reg::ds,  state::Reg::es,     state::Reg::fs,  state::Reg::gs,  kNoRegister,
    state::Reg::rip, state::Reg::cs,  state::Reg::rflags, state::Reg::rsp, state::Reg::ss};

/// For files of 64 or 32 bits.
inline std::span<const state::Reg> order_of(bool wide) {
  return wide ? std::span<const state::Reg>(kOrder64) : std::span<const state::Reg>(kOrder32);
}

inline constexpr std::size_t kNameSize = 16, kArgumentsSize = 80;  ///< of elf_prpsinfo, bytes
inline constexpr std::size_t kSignalSize = 128;                    ///< of siginfo_t
inline constexpr std::uint32_t kLayoutNote = 0x205;  ///< NT_X86_XSAVE_LAYOUT: where the components of the area lie

}  // namespace deeptrace::corefile
