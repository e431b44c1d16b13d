#include "state/registers.h"

#include "arch/dwarf_registers.h"

namespace deeptrace::state {

std::string_view name_of(Reg reg) {
  constexpr std::array<std::string_view, kRegCount> kNames = {
      "rax", "rbx", "rcx", "rdx", "rsi",    "rdi", "rbp", "rsp", "r8", "r9", "r10", "r11",     "r12",
      "r13", "r14", "r15", "rip", "rflags", "cs",  "ss",  "ds",  "es", "fs", "gs",  "fs_base", "gs_base"};
  return kNames[static_cast<std::size_t>(reg)];
}

std::string_view name_of(Reg reg, isa::Mode mode) {
  constexpr std::array<std::string_view, 8> kNames = {"eax", "ebx", "ecx", "edx", "esi", "edi", "ebp", "esp"};
  if (mode == isa::Mode::bits64) return name_of(reg);
  if (reg == Reg::rip) return "eip";
  if (reg == Reg::rflags) return "eflags";
  return reg <= Reg::rsp ? kNames[static_cast<std::size_t>(reg)] : name_of(reg);
}

Reg reg_of(isa::RegisterPart part) {
  constexpr std::array<Reg, 16> kGeneral = {Reg::rax, Reg::rcx, Reg::rdx, Reg::rbx, Reg::rsp, Reg::rbp,
                                            Reg::rsi, Reg::rdi, Reg::r8,  Reg::r9,  Reg::r10, Reg::r11,
                                            Reg::r12, Reg::r13, Reg::r14, Reg::r15};
  constexpr std::array<Reg, 6> kSegments = {Reg::es, Reg::cs, Reg::ss, Reg::ds, Reg::fs, Reg::gs};
  if (part.file == isa::RegisterFile::general) return kGeneral[part.index & 15];
  if (part.file == isa::RegisterFile::segment && part.index < kSegments.size()) return kSegments[part.index];
  return Reg::rip;
}

Reg reg_numbered(unsigned general) {
  return reg_of({isa::RegisterFile::general, static_cast<std::uint8_t>(general), 0, 64});
}

std::optional<unsigned> general_number(Reg reg) {
  for (unsigned general = 0; general < 16; ++general) {
    if (reg_numbered(general) == reg) return general;
  }
  return std::nullopt;
}

std::optional<Reg> reg_of_dwarf(unsigned number, isa::Mode mode) {
  const arch::Machine& machine = arch::machine_of(mode);
  if (number == machine.dwarf_return_address) return Reg::rip;
  constexpr unsigned kFsBase = 58, kGsBase = 59;
  if (machine.is_wide() && (number == kFsBase || number == kGsBase))
    return number == kFsBase ? Reg::fs_base : Reg::gs_base;
  const auto part = arch::dwarf_register(number, mode);
  if (!part || part->file != isa::RegisterFile::general) return std::nullopt;
  return reg_of(*part);
}

bool kept_by_callee(Reg reg, isa::Mode mode) {
  const auto general = general_number(reg);
  return !general || arch::machine_of(mode).keeps(*general);
}

std::uint64_t thread_pointer(const RegisterSet& registers, isa::Mode mode) {
  return registers[arch::machine_of(mode).thread_segment == isa::kFs ? Reg::fs_base : Reg::gs_base];
}

isa::Mode mode_of(const RegisterSet& registers) {
  constexpr std::uint64_t kCode32 = 0x23;  // <asm/segment.h>: __USER32_CS
  return registers[Reg::cs] == kCode32 ? isa::Mode::bits32 : isa::Mode::bits64;
}

std::uint64_t value_of(const RegisterSet& registers, isa::RegisterPart part) {
  const std::uint64_t value = registers[reg_of(part)] >> part.offset;
  return part.width >= 64 ? value : value & ((std::uint64_t(1) << part.width) - 1);
}

}  // namespace deeptrace::state
