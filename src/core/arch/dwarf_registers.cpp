#include "arch/dwarf_registers.h"

#include <array>
#include <span>

namespace deeptrace::arch {
namespace {

/// Numbers from `first` on, `count` of them, are one file's registers in order, from `index` on.
struct Run {
  unsigned first, count, index;
  RegisterFile file;
  std::uint16_t width;
};
constexpr Run kRuns64[] = {{17, 16, 0, RegisterFile::vector, 128},    {33, 8, 0, RegisterFile::x87, 80},
                           {41, 8, 0, RegisterFile::mmx, 64},         {50, 6, 0, RegisterFile::segment, 16},
                           {65, 1, 0, RegisterFile::x87_control, 16}, {67, 16, 16, RegisterFile::vector, 128},
                           {118, 8, 0, RegisterFile::mask, 64}};
constexpr Run kRuns32[] = {{8, 1, 0, RegisterFile::instruction_pointer, 32},
                           {11, 8, 0, RegisterFile::x87, 80},
                           {21, 8, 0, RegisterFile::vector, 128},
                           {29, 8, 0, RegisterFile::mmx, 64},
                           {40, 6, 0, RegisterFile::segment, 16}};

}  // namespace

std::optional<RegisterPart> dwarf_register(unsigned number, Mode mode) {
  const Machine& machine = machine_of(mode);
  if (number < machine.general_by_dwarf.size())
    return RegisterPart{RegisterFile::general, machine.general_by_dwarf[number], 0,
                        static_cast<std::uint16_t>(8 * machine.word)};
  for (const Run& run : machine.is_wide() ? std::span<const Run>(kRuns64) : std::span<const Run>(kRuns32)) {
    if (number < run.first || number - run.first >= run.count) continue;
    return RegisterPart{run.file, static_cast<std::uint8_t>(number - run.first + run.index), 0, run.width};
  }
  return std::nullopt;
}

}  // namespace deeptrace::arch
