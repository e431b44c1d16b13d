// What a processor and its ABI decide, against the assembler and the compiler, which know it too.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <set>

#include "arch/dwarf_registers.h"
#include "arch/machine.h"
#include "arch/relocations.h"
#include "binary/elf.h"
#include "isa/effects.h"
#include "isa/text.h"
#include "isa/walk.h"
#include "state/registers.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using arch::Machine;
using arch::Mode;

constexpr Mode kModes[] = {Mode::bits64, Mode::bits32};

std::string width_option(Mode mode) { return mode == Mode::bits64 ? "--64" : "--32"; }

binary::Elf assembled(const TempFolder& folder, const std::string& text, Mode mode) {
  write_file(folder / "a.s", text);
  EXPECT_EQ(run({"as", width_option(mode), "-o", folder / "a.o", folder / "a.s"}).status, 0);
  auto elf = binary::Elf::open(folder / "a.o");
  EXPECT_TRUE(elf);
  return std::move(*elf);
}

/// DW_CFA_offset has the number in its low six bits (DWARF 5, 6.4.2.3): the assembler's own for each name.
TEST(Arch, RegistersHaveTheAssemblersNumbersInUnwindTables) {
  for (const Mode mode : kModes) {
    const Machine& machine = arch::machine_of(mode);
    for (unsigned general = 0; general < machine.general_registers(); ++general) {
      const TempFolder folder;
      const auto width = static_cast<std::uint16_t>(8 * machine.word);
      const std::string name(isa::name_of({arch::RegisterFile::general, static_cast<std::uint8_t>(general), 0, width}));
      const binary::Elf elf = assembled(folder,
                                        ".cfi_startproc\nnop\n.cfi_offset %" + name + ", -" +
                                            std::to_string(7 * machine.word) + "\nnop\n.cfi_endproc\n",
                                        mode);
      const Bytes bytes = elf.bytes_of(*elf.section_named(".eh_frame"));
      const std::vector<std::uint8_t> wanted = {static_cast<std::uint8_t>(0x80 | machine.dwarf_number(general)), 7};
      EXPECT_NE(std::search(bytes.begin(), bytes.end(), wanted.begin(), wanted.end()), bytes.end()) << name;
      EXPECT_EQ(arch::dwarf_register(machine.dwarf_number(general), mode)->index, general) << name;
    }
  }
}

/// Which registers a compiler saves before it uses them, and which it just uses: those are what a called function gives
/// back, and what it need not.
TEST(Arch, ACompilerSavesWhatACalledFunctionGivesBack) {
  for (const Mode mode : kModes) {
    const Machine& machine = arch::machine_of(mode);
    for (unsigned general = 0; general < machine.general_registers(); ++general) {
      if (general == machine.stack_pointer) continue;
      const auto width = static_cast<std::uint16_t>(8 * machine.word);
      const std::string name(isa::name_of({arch::RegisterFile::general, static_cast<std::uint8_t>(general), 0, width}));
      const TempFolder folder;
      write_file(folder / "a.c", "void use(void) { __asm__ volatile(\"nop\" : : : \"" + name + "\"); }\n");
      ASSERT_EQ(run({"gcc", mode == Mode::bits64 ? "-m64" : "-m32", "-O2", "-fomit-frame-pointer",
                     "-fcf-protection=none", "-c", "-o", folder / "a.o", folder / "a.c"})
                    .status,
                0)
          << name;
      const auto elf = binary::Elf::open(folder / "a.o");
      ASSERT_TRUE(elf);
      const isa::Instruction first = isa::decode(elf->bytes_of(*elf->section_named(".text")), mode);
      EXPECT_EQ(isa::mnemonic_of(isa::row_of(first)) == "push", machine.keeps(general)) << name;
      EXPECT_EQ(state::kept_by_callee(state::reg_numbered(general), mode), machine.keeps(general)) << name;
    }
  }
}

/// The registers in which a compiler looks for a function's arguments.
TEST(Arch, ArgumentsAreWhereTheCompilerLooksForThem) {
  const TempFolder folder;
  std::string source;
  for (int i = 0; i < 7; ++i)
    source += fmt::format("long f{}(long a, long b, long c, long d, long e, long f, long g) {{ return {}; }}\n", i,
                          "abcdefg"[i]);
  write_file(folder / "a.c", source);
  ASSERT_EQ(
      run({"gcc", "-O2", "-fcf-protection=none", "-ffunction-sections", "-c", "-o", folder / "a.o", folder / "a.c"})
          .status,
      0);
  const auto elf = binary::Elf::open(folder / "a.o");
  ASSERT_TRUE(elf);
  const Machine& machine = arch::machine_of(Mode::bits64);
  ASSERT_EQ(machine.arguments.size(), 6U);
  for (std::size_t i = 0; i < 7; ++i) {
    const isa::Instruction move =
        isa::decode(elf->bytes_of(*elf->section_named(fmt::format(".text.f{}", i))), Mode::bits64);
    const isa::Operands operands = isa::operands_of(move);
    EXPECT_EQ(operands[0].reg.index, machine.result);
    const bool in_register = operands[1].kind == isa::Operand::Kind::reg;
    EXPECT_EQ(in_register, i < machine.arguments.size());
    if (!in_register) continue;
    EXPECT_EQ(operands[1].reg.index, machine.arguments[i]) << i;
  }
}

/// What relocations mean, by what the assembler makes of each way to name a symbol.
TEST(Arch, RelocationsMeanWhatTheAssemblerWasAskedFor) {
  using K = arch::RelocationKind;
  struct Case {
    Mode mode;
    const char* text;
    unsigned means;
  };
  constexpr Case kCases[] = {
      {Mode::bits64, ".quad away", K::kAbsolute},
      {Mode::bits64, "call away", K::kFromEnd},
      {Mode::bits64, "lea away(%rip), %rax", K::kFromEnd},
      {Mode::bits64, "mov away@GOTPCREL(%rip), %rax", K::kFromEnd | K::kTableSlot},
      {Mode::bits64, "mov away@gottpoff(%rip), %rax", K::kFromEnd | K::kThreadAddress},
      {Mode::bits64, "lea away@tlsgd(%rip), %rdi", K::kFromEnd | K::kThreadAddress},
      {Mode::bits64, "mov $away, %eax", K::kAbsolute},
      {Mode::bits32, ".long away", K::kAbsolute},
      {Mode::bits32, "call away", K::kFromEnd},
      {Mode::bits32, "mov away@GOT(%ebx), %eax", K::kTableSlot},
      {Mode::bits32, "mov away@gotntpoff(%ebx), %eax", K::kThreadAddress},
      {Mode::bits32, "lea away@tlsgd(,%ebx,1), %eax", K::kThreadAddress},
      {Mode::bits32, "add $_GLOBAL_OFFSET_TABLE_, %ebx", K::kFromStart},
  };
  for (const Case& one : kCases) {
    const TempFolder folder;
    const binary::Elf elf = assembled(folder, std::string("\t") + one.text + "\n", one.mode);
    const auto relocations = elf.relocations();
    ASSERT_EQ(relocations.size(), 1U) << one.text;
    const K* kind = arch::relocation_kind(relocations[0].type, one.mode);
    ASSERT_NE(kind, nullptr) << one.text;
    EXPECT_EQ(kind->means, one.means) << one.text << " " << kind->name;
  }
}

TEST(Arch, FilesSayTheirMachine) {
  for (const Mode mode : kModes) {
    const TempFolder folder;
    const binary::Elf elf = assembled(folder, "nop\n", mode);
    EXPECT_EQ(elf.machine().mode, mode);
  }
  EXPECT_NE(arch::machine_of(Mode::bits64).elf_machine, arch::machine_of(Mode::bits32).elf_machine);
}

/// Every byte belongs to one piece, and what starts no instruction is a byte by itself.
TEST(Walk, PassesOverEveryByteOnce) {
  const std::vector<std::uint8_t> code = {0x90, 0x06, 0x48,
                                          0x89, 0xe5, 0x0f};  // nop, (none in 64-bit mode), mov, (cut off)
  std::vector<std::pair<std::size_t, unsigned>> pieces;
  for (const auto& [at, instruction] : isa::instructions_of(code, Mode::bits64))
    pieces.emplace_back(at, instruction.length);
  EXPECT_EQ(pieces, (std::vector<std::pair<std::size_t, unsigned>>{{0, 1}, {1, 0}, {2, 3}, {5, 0}}));
  for ([[maybe_unused]] const auto& piece : isa::instructions_of({}, Mode::bits64)) ADD_FAILURE();
}

}  // namespace
}  // namespace deeptrace::tests
