// What a processor and its System V ABI decide, as data: widths, the roles of registers, numberings. Nothing else knows
// these facts.
//
// A machine is chosen by a file's header or by a thread's mode, which may change inside one process: 64-bit programs
// can call 32-bit code and the other way round.
//
// Sources: System V ABI, AMD64 supplement (psABI): 3.2.1 (registers, figure 3.4), 3.2.2 (red zone), 3.2.3 (arguments),
// 3.6.2 (numbers in debug information, figure 3.36), A.2.1 (system calls); i386 supplement: 2.2.1 (table 2.3), 2.4.2
// (table 2.14); "ELF Handling for Thread-Local Storage", 4; Linux, asm/unistd_64.h and asm/unistd_32.h.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <string_view>

#include "arch/register.h"

namespace deeptrace::arch {

enum class Mode : std::uint8_t { bits32 = 0, bits64 = 1 };

/// The kernel's numberings of system calls: that of `syscall`, and that of `int 0x80` and `sysenter`.
enum class CallTable : std::uint8_t { x86_64, i386 };

struct Machine {
  Mode mode;
  std::string_view name;      ///< "x86-64"
  std::uint16_t elf_machine;  ///< e_machine in its files
  std::uint8_t word;          ///< bytes of an address, of a stack slot and of a general register

  // Roles in calls. Arguments that have no register here stand on the stack.
  General stack_pointer, frame_pointer;
  General result;
  std::span<const General> arguments;  ///< integers and addresses, in order
  std::uint8_t vector_arguments;       ///< vector registers that hold arguments
  std::uint16_t kept;                  ///< bits by General: a called function gives them back as they were
  std::uint8_t red_zone;               ///< bytes below the stack pointer that a leaf function may use

  // Thread-local variables.
  Segment thread_segment;      ///< its base is the thread pointer; the main program's block ends there (variant II)
  std::uint64_t unused_block;  ///< an address that no program uses: stands for the start of some thread's block
  std::uint8_t protector;      ///< bytes from the thread pointer to the C library's stack protector value

  // System calls.
  CallTable calls;
  std::span<const General> call_arguments;
  std::span<const std::uint64_t> final_calls;  ///< numbers of those that do not come back
  std::uint16_t changed_by_call_instruction;   ///< bits by General: of `syscall` itself

  // Numbers in debug information and unwind tables.
  std::span<const std::uint8_t> general_by_dwarf;  ///< the first general registers, by their numbers
  std::uint8_t dwarf_return_address;

  [[nodiscard]] bool is_wide() const { return mode == Mode::bits64; }
  /// Whether a called function gives a general register back as it was.
  [[nodiscard]] bool keeps(unsigned general) const { return (kept >> general & 1) != 0; }
  /// Bits by General: what a call may change.
  [[nodiscard]] std::uint16_t changed_by_call() const;
  [[nodiscard]] unsigned general_registers() const { return is_wide() ? 16 : 8; }
  /// The number of a general register in debug information.
  [[nodiscard]] unsigned dwarf_number(unsigned general) const;
};

const Machine& machine_of(Mode mode);

/// The instruction that a stop is made of: int3 (Intel SDM volume 2, INT n/INTO/INT3/INT1).
inline constexpr std::uint8_t kStopByte = 0xcc;

}  // namespace deeptrace::arch
