#include "abi/dwarf_registers.h"

#include <array>

namespace deeptrace::abi {
namespace {

using isa::RegisterFile;
using isa::RegisterPart;

/// Numbers from `first` on, `count` of them, are one file's registers in order.
struct Run {
  unsigned first, count;
  RegisterFile file;
  std::uint16_t width;
};
constexpr std::array<Run, 8> kRuns64 = {{{8, 8, RegisterFile::general, 64},  // from r8 on: see below
                                         {17, 16, RegisterFile::vector, 128},
                                         {33, 8, RegisterFile::x87, 80},
                                         {41, 8, RegisterFile::mmx, 64},
                                         {50, 6, RegisterFile::segment, 16},
                                         {65, 1, RegisterFile::x87_control, 16},
                                         {67, 16, RegisterFile::vector, 128},
                                         {118, 8, RegisterFile::mask, 64}}};
constexpr std::array<Run, 6> kRuns32 = {{{0, 8, RegisterFile::general, 32},
                                         {8, 1, RegisterFile::instruction_pointer, 32},
                                         {11, 8, RegisterFile::x87, 80},
                                         {21, 8, RegisterFile::vector, 128},
                                         {29, 8, RegisterFile::mmx, 64},
                                         {40, 6, RegisterFile::segment, 16}}};
constexpr std::array<std::uint8_t, 8> kFirst64 = {isa::kRax, isa::kRdx, isa::kRcx, isa::kRbx,
                                                  isa::kRsi, isa::kRdi, isa::kRbp, isa::kRsp};

}  // namespace

std::optional<RegisterPart> dwarf_register(unsigned number, isa::Mode mode) {
  const bool wide = mode == isa::Mode::bits64;
  if (wide && number < kFirst64.size()) return RegisterPart{RegisterFile::general, kFirst64[number], 0, 64};
  const auto in = [&](const auto& runs) -> std::optional<RegisterPart> {
    for (const Run& run : runs) {
      if (number < run.first || number - run.first >= run.count) continue;
      unsigned index = number - run.first;
      if (wide && (run.first == 8 || run.first == 67)) index += run.first == 8 ? 8 : 16;
      return RegisterPart{run.file, static_cast<std::uint8_t>(index), 0, run.width};
    }
    return std::nullopt;
  };
  return wide ? in(kRuns64) : in(kRuns32);
}

std::optional<state::Reg> dwarf_integer_register(unsigned number, isa::Mode mode) {
  if (number == (mode == isa::Mode::bits64 ? 16U : 8U)) return state::Reg::rip;
  if (mode == isa::Mode::bits64 && (number == 58 || number == 59))
    return number == 58 ? state::Reg::fs_base : state::Reg::gs_base;
  const auto part = dwarf_register(number, mode);
  if (!part || part->file != RegisterFile::general) return std::nullopt;
  return state::reg_of(*part);
}

}  // namespace deeptrace::abi
