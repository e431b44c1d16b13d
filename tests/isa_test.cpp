// The instruction table against the assembler: what every row prints must assemble to bytes that decode to the same.
#include <gtest/gtest.h>

#include <array>
#include <map>
#include <random>
#include <set>

#include "isa/effects.h"
#include "isa/instruction.h"
#include "isa/text.h"
#include "samples.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using isa::Instruction;
using isa::Mode;

std::string text_of(const Instruction& instruction) { return std::string(isa::intel_text(instruction, 0).view()); }

/// Forms that GNU as does not write, or writes only with a hint: far transfers with REX.W, 16-bit movsxd and bswap,
/// system returns without a size, register stores of 16-bit system values, software interrupt 3 and `nop reg`.
bool assembler_has_no_form(const Instruction& instruction, const std::string& text) {
  static const std::set<std::string> kWords = {"retf", "sysexit", "sysret", "iret", "sldt", "str", "smsw", "movabs"};
  const std::string word = text.substr(0, text.find(' '));
  if (kWords.count(word) != 0) return true;
  if (text.find("tbyte ptr") != std::string::npos) return true;
  // The assembler leaves out an override that names the segment in use anyway.
  if (text.find("ds:[") != std::string::npos || text.find("ss:[") != std::string::npos) return true;
  if ((word == "movsxd" || word == "bswap") && instruction.operand_size == 2) return true;
  if (word == "mov" && isa::operands_of(instruction)[0].reg.file == isa::RegisterFile::segment) return true;
  if (word == "mov" && isa::operands_of(instruction)[1].reg.file == isa::RegisterFile::segment) return true;
  // Exchanges with the accumulator have a shorter form, which names it second.
  if (word == "xchg" && text.find("ptr") == std::string::npos) return text.find("ax,") != std::string::npos;
  return text == "int 3";
}

TEST(InstructionTable, EveryRowAssemblesToItself) {
  const auto samples = samples_of_all_rows(12);
  std::string assembly = ".intel_syntax noprefix\n";
  std::vector<std::string> texts;
  std::vector<Instruction> originals;
  std::set<std::uint16_t> seen;
  for (const auto& [row, codes] : samples) {
    for (const Code& code : codes) {
      const Instruction instruction = isa::decode(code, Mode::bits64);
      std::string text = text_of(instruction);
      seen.insert(row);
      // Addresses of branches count from the section's start in the assembler; here only their presence matters.
      std::uint64_t target = 0;
      if (isa::direct_target(instruction, 0, target)) continue;
      if (assembler_has_no_form(instruction, text)) continue;
      assembly += text + "\n";
      texts.push_back(std::move(text));
      originals.push_back(instruction);
    }
  }
  // All rows of 64-bit mode must have come up.
  std::size_t unseen = 0;
  for (std::size_t row = 0; row < isa::rows().size(); ++row)
    unseen += seen.count(static_cast<std::uint16_t>(row)) == 0 ? 1 : 0;
  EXPECT_LE(unseen, 38U) << "rows that only 32-bit mode has";

  const TempFolder folder;
  write_file(folder / "all.s", assembly);
  const std::vector<Assembled> assembled = assemble_with_listing(folder / "all.s", folder / "all.o");
  ASSERT_EQ(assembled.size(), texts.size());
  for (std::size_t i = 0; i < texts.size(); ++i) {
    Code code;
    for (std::size_t k = 0; k + 1 < assembled[i].bytes.size(); k += 2)
      code.push_back(static_cast<std::uint8_t>(std::stoul(assembled[i].bytes.substr(k, 2), nullptr, 16)));
    const Instruction again = isa::decode(code, Mode::bits64);
    ASSERT_TRUE(again) << texts[i] << ": " << assembled[i].bytes;
    EXPECT_EQ(again.length, code.size()) << texts[i];
    EXPECT_EQ(text_of(again), texts[i]) << assembled[i].bytes;
    // With a memory operand there is one opcode for each order of operands, if not a shorter form.
    const Instruction& original = originals[i];
    const bool memory = original.modrm_at != 0 && original.modrm < 0xc0;
    if (memory && again.length >= original.length && !texts[i].starts_with("nop")) {
      EXPECT_EQ(again.opcode, original.opcode) << texts[i];
    }
  }
}

TEST(Decoder, TruncatedBytesGiveNoInstruction) {
  for (const auto& [row, codes] : samples_of_all_rows(3)) {
    for (const Code& code : codes) {
      for (std::size_t size = 0; size < code.size(); ++size) {
        // An exact copy, so that the sanitizers see a read behind it.
        const Code cut(code.begin(), code.begin() + static_cast<std::ptrdiff_t>(size));
        EXPECT_FALSE(isa::decode(cut, Mode::bits64)) << isa::mnemonic_of(isa::rows()[row]) << " cut to " << size;
      }
    }
  }
}

TEST(Decoder, RandomBytesStayInside) {
  std::mt19937_64 random(7);
  for (int i = 0; i < 300000; ++i) {
    Code code(random() % 18);
    for (std::uint8_t& byte : code) byte = static_cast<std::uint8_t>(random());
    for (const Mode mode : {Mode::bits64, Mode::bits32}) {
      const Instruction instruction = isa::decode(code, mode);
      ASSERT_LE(instruction.length, code.size());
      ASSERT_LE(instruction.length, isa::kLongestInstruction);
      if (!instruction) continue;
      ASSERT_FALSE(isa::intel_text(instruction, 0).view().empty());
      ASSERT_FALSE(isa::sentence(instruction, 0).empty());
    }
  }
}

TEST(Decoder, ThirtyTwoBitModeHasItsOwnRows) {
  EXPECT_EQ(text_of(isa::decode(Code{0x60}, Mode::bits32)), "pusha");
  EXPECT_EQ(text_of(isa::decode(Code{0x40}, Mode::bits32)), "inc eax");
  EXPECT_EQ(text_of(isa::decode(Code{0x67, 0x8b, 0x40, 0x10}, Mode::bits32)), "mov eax, dword ptr [bx+si*1+0x10]");
  EXPECT_FALSE(isa::decode(Code{0x60}, Mode::bits64));
}

TEST(Decoder, LockNeedsAMemoryDestination) {
  EXPECT_TRUE(isa::decode(Code{0xf0, 0x01, 0x08}, Mode::bits64));
  EXPECT_FALSE(isa::decode(Code{0xf0, 0x01, 0xc8}, Mode::bits64));
  EXPECT_FALSE(isa::decode(Code{0xf0, 0x8b, 0x08}, Mode::bits64));
}

TEST(Decoder, AddressingFormsReadAsTheyCompute) {
  const auto text = [](const Code& code) { return text_of(isa::decode(code, Mode::bits64)); };
  EXPECT_EQ(text({0x8b, 0x45, 0xf8}), "mov eax, dword ptr [rbp-8]");
  EXPECT_EQ(text({0x48, 0x8b, 0x05, 0x10, 0, 0, 0}), "mov rax, qword ptr [rip+0x10]");
  EXPECT_EQ(text({0x64, 0x48, 0x8b, 0x04, 0x25, 0x28, 0, 0, 0}), "mov rax, qword ptr fs:0x28");
  EXPECT_EQ(text({0x42, 0x8b, 0x04, 0xe0}), "mov eax, dword ptr [rax+r12*8]");
  EXPECT_EQ(text({0x83, 0xe4, 0xf0}), "and esp, -0x10");
  EXPECT_EQ(text({0x88, 0xe0}), "mov al, ah");
  EXPECT_EQ(text({0x40, 0x88, 0xe0}), "mov al, spl");
}

TEST(Effects, NamePartialAndImpliedRegisters) {
  const auto effects = [](const Code& code) { return isa::effects_of(isa::decode(code, Mode::bits64)); };
  // mov eax, ecx clears the upper half of rax; mov ax, cx and mov al, cl do not.
  EXPECT_EQ(effects({0x89, 0xc8}).registers[0].rest, isa::Rest::zeroed);
  EXPECT_EQ(effects({0x66, 0x89, 0xc8}).registers[0].rest, isa::Rest::kept);
  // div ecx reads and writes eax and edx, and may fault.
  const isa::Effects division = effects({0xf7, 0xf1});
  EXPECT_EQ(division.register_count, 3);
  EXPECT_TRUE(division.faults);
  EXPECT_EQ(isa::name_of(division.registers[2].part), "edx");
  EXPECT_EQ(division.registers[2].access, isa::Access::read_write);
  // push writes memory and moves rsp; lea touches no memory.
  EXPECT_TRUE(effects({0x50}).writes_memory);
  EXPECT_FALSE(effects({0x8d, 0x04, 0x24}).reads_memory);
}

TEST(Sentence, FillsInOperands) {
  EXPECT_EQ(isa::sentence(isa::decode(Code{0xf7, 0x7d, 0xf8}, Mode::bits64), 0),
            "signed: edx:eax divided by the 32-bit value at [rbp-8]: quotient to eax, remainder to edx");
}

}  // namespace
}  // namespace deeptrace::tests
