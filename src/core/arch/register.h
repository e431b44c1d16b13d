// Registers of the processor: their files, their numbers, and parts of them as bit ranges.
//
// `al`, `ah`, `ax`, `eax` and `rax` are five views of one 64-bit cell; writing them as {file, index, offset,
// width} lets one piece of code say which bits an instruction reads and writes (Intel SDM volume 1, 3.4.1).
#pragma once

#include <cstdint>

namespace deeptrace::arch {

enum class RegisterFile : std::uint8_t {
  none,
  general,
  segment,
  control,
  debug,
  vector,
  mxcsr,
  instruction_pointer,
  mask,  ///< k0 to k7
  mmx,   ///< the low 64 bits of the floating-point registers
  x87,   ///< counted from the top of the stack
  x87_control,
  x87_status,
  tile,
  bound,
};

/// Numbers of the general registers, in the processor's encoding order.
enum General : std::uint8_t {
  kRax,
  kRcx,
  kRdx,
  kRbx,
  kRsp,
  kRbp,
  kRsi,
  kRdi,
  kR8,
  kR9,
  kR10,
  kR11,
  kR12,
  kR13,
  kR14,
  kR15
};
/// Numbers of the segment registers, in the processor's encoding order.
enum Segment : std::uint8_t { kEs, kCs, kSs, kDs, kFs, kGs };

struct RegisterPart {
  RegisterFile file = RegisterFile::none;
  std::uint8_t index = 0;
  std::uint16_t offset = 0;  ///< bits above the register's lowest
  std::uint16_t width = 0;   ///< bits

  explicit operator bool() const { return file != RegisterFile::none; }
  friend bool operator==(const RegisterPart&, const RegisterPart&) = default;
};

}  // namespace deeptrace::arch
