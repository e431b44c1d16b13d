// The instruction table against the assembler: what every row prints must assemble to bytes that decode to the same.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/mman.h>

#include <array>
#include <cstring>
#include <map>
#include <memory>
#include <random>
#include <set>

#include "isa/assembler.h"
#include "isa/comparison.h"
#include "isa/forms.h"
#include "isa/instruction.h"
#include "isa/move.h"
#include "isa/text.h"
#include "isa/texts.h"
#include "samples.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using isa::Instruction;
using isa::Mode;

std::string text_of(const Instruction& instruction) {
  return std::string(isa::text_of(instruction, 0, isa::Syntax::intel).view());
}

std::string hex_of(const Code& code) {
  std::string digits;
  for (const std::uint8_t byte : code) digits += fmt::format("{:02x}", byte);
  return digits;
}

struct Round {
  Mode mode;
  isa::Syntax syntax;
};

class EveryRow : public testing::TestWithParam<Round> {};
class EveryMode : public testing::TestWithParam<Mode> {};

/// What every row's samples print must assemble to the very same bytes. Rows that only have aliases' forms are known by
/// the table.
TEST_P(EveryRow, AssemblesToItsOwnBytes) {
  const auto [mode, syntax] = GetParam();
  std::string source = syntax == isa::Syntax::intel ? ".intel_syntax noprefix\n" : ".att_syntax\n";
  std::vector<Code> expected;
  std::vector<std::string> texts;
  std::set<std::uint16_t> written;
  std::set<std::int8_t> late;
  const auto is_written = [syntax = syntax](const Instruction& instruction, const Code& code) {
    const isa::Form form = isa::assembler_text(instruction, code, 0, syntax, {}).form;
    return form != isa::Form::bytes && form != isa::Form::apart;
  };
  for (const auto& [row, codes] : samples_of_all_rows(16, mode, is_written)) {
    for (const Code& code : codes) {
      const Instruction instruction = isa::decode(code, mode);
      std::uint64_t target = 0;
      // Distances count from where the assembler puts the instruction.
      const bool relative = isa::direct_target(instruction, 0, target);
      const auto distance =
          mode == Mode::bits64 ? static_cast<std::int64_t>(target) : static_cast<std::int32_t>(target);
      const std::string name = relative ? ".+" + std::to_string(distance) : "";
      const isa::AssemblerText text = isa::assembler_text(instruction, code, 0, syntax, {name, {}, {}});
      if (text.form == isa::Form::bytes || text.form == isa::Form::apart) continue;
      written.insert(row);
      if (text.form == isa::Form::late_symbol) late.insert(text.late_value);
      source += std::string(text.text.view()) + "\n.balign 32, 0xcc\n";
      texts.emplace_back(text.text.view());
      expected.push_back(code);
    }
  }
  for (const std::int8_t value : late) {
    isa::Text name;
    isa::add_late_symbol_name(name, value);
    source += ".set " + std::string(name.view()) + ", " + std::to_string(value) + "\n";
  }
  std::string unwritten;
  for (std::size_t row = 0; row < isa::rows().size(); ++row) {
    const isa::Row& entry = isa::rows()[row];
    const bool mode_has_it = (entry.modes & (mode == Mode::bits64 ? 2 : 1)) != 0;
    if (mode_has_it && (entry.traits & isa::kAlias) == 0 && written.count(static_cast<std::uint16_t>(row)) == 0)
      unwritten += std::string(isa::mnemonic_of(entry)) + " ";
  }
  EXPECT_EQ(unwritten, "") << "rows of which no sample has a text";

  const Code assembled = assembled_text(source, mode == Mode::bits64 ? "--64" : "--32");
  ASSERT_EQ(assembled.size(), 32 * texts.size());
  std::string differing;
  for (std::size_t i = 0; i < texts.size(); ++i) {
    Code slot = expected[i];
    slot.resize(32, 0xcc);
    const Code got(assembled.begin() + static_cast<std::ptrdiff_t>(32 * i),
                   assembled.begin() + static_cast<std::ptrdiff_t>(32 * i + 32));
    if (got != slot) differing += texts[i] + "  " + hex_of(expected[i]) + "\n";
  }
  EXPECT_EQ(differing, "");
}

INSTANTIATE_TEST_SUITE_P(Table, EveryRow,
                         testing::Values(Round{Mode::bits64, isa::Syntax::intel}, Round{Mode::bits64, isa::Syntax::att},
                                         Round{Mode::bits32, isa::Syntax::intel},
                                         Round{Mode::bits32, isa::Syntax::att}),
                         [](const auto& round) {
                           return std::string(round.param.mode == Mode::bits64 ? "Bits64" : "Bits32") +
                                  (round.param.syntax == isa::Syntax::intel ? "Intel" : "Att");
                         });

/// Texts from patterns are those that the assembler has proved, whatever pattern was kept before: the same instructions
/// come with other displacements and immediates.
TEST_P(EveryRow, HasTheSameTextFromItsPattern) {
  const auto [mode, syntax] = GetParam();
  isa::Texts texts(syntax);
  std::mt19937_64 random(11);
  std::size_t compared = 0;
  for (const auto& [row, codes] : samples_of_all_rows(8, mode)) {
    for (Code code : codes) {
      for (int round = 0; round < 4; ++round) {
        const Instruction instruction = isa::decode(code, mode);
        if (!instruction) continue;
        const std::uint64_t address = random() >> random() % 64;
        ASSERT_EQ(texts.text_of(instruction, address), isa::text_of(instruction, address, syntax).view())
            << hex_of(code);
        ++compared;
        const unsigned numbers =
            instruction.displacement_size + instruction.immediate_size[0] + instruction.immediate_size[1];
        for (unsigned i = 1; i <= numbers; ++i)
          code[instruction.length - i] = static_cast<std::uint8_t>(random() % 4 == 0 ? 0 : random());
      }
    }
  }
  EXPECT_GT(compared, 50000U);
}

/// Operands and effects from forms are those worked out by themselves, whatever instruction the form was learnt from:
/// the same ones come with other bits anywhere.
TEST_P(EveryMode, HasTheSameOperandsAndEffectsFromItsForm) {
  const Mode mode = GetParam();
  const auto best = std::make_unique<isa::Forms>(), plain = std::make_unique<isa::Forms>(isa::Forms::Way::plain);
  std::mt19937_64 random(17);
  std::size_t compared = 0;
  const auto same = [](const auto& a, const auto& b, std::size_t count) {
    return std::memcmp(&a, &b, count * sizeof(a)) == 0;
  };
  for (const auto& [row, codes] : samples_of_all_rows(8, mode)) {
    for (Code code : codes) {
      for (int round = 0; round < 40; ++round) {
        Code other = code;
        if (round > 0) other[random() % code.size()] ^= static_cast<std::uint8_t>(1U << random() % 8);
        const Instruction instruction = isa::decode(other, mode);
        if (!instruction) continue;
        code = other;
        const isa::Operands operands = isa::operands_of(instruction);
        const isa::Effects effects = isa::effects_of(instruction, operands);
        for (isa::Forms* forms : {best.get(), plain.get()}) {
          isa::Usage usage;
          forms->look({&instruction, 1}, {&usage, 1});
          const auto& [kept, seen] = usage;
          const std::size_t count = std::max<std::size_t>(operands.count, isa::Operands::kUsual);
          const std::size_t registers = std::max<std::size_t>(effects.register_count, isa::Effects::kUsual);
          ASSERT_TRUE(kept.count == operands.count && kept.shown == operands.shown &&
                      same(kept.items[0], operands.items[0], count))
              << hex_of(code);
          ASSERT_TRUE(std::memcmp(&seen, &effects, offsetof(isa::Effects, registers)) == 0 &&
                      same(seen.registers[0], effects.registers[0], registers))
              << hex_of(code);
        }
        ++compared;
      }
    }
  }
  EXPECT_GT(compared, 500000U);
}

INSTANTIATE_TEST_SUITE_P(Modes, EveryMode, ::testing::Values(Mode::bits64, Mode::bits32));

TEST(Decoder, TruncatedBytesGiveNoInstruction) {
  for (const auto& [row, codes] : samples_of_all_rows(3)) {
    for (const Code& code : codes) {
      for (std::size_t size = 0; size < code.size(); ++size) {
        // An exact copy, so that the sanitizers see a read past it.
        const Code cut(code.begin(), code.begin() + static_cast<std::ptrdiff_t>(size));
        EXPECT_FALSE(isa::decode(cut, Mode::bits64)) << isa::mnemonic_of(isa::rows()[row]) << " cut to " << size;
      }
    }
  }
}

TEST(Decoder, ARunIsWhatOneAfterTheOtherGives) {
  std::mt19937_64 random(13);
  const auto all = samples_of_all_rows(2);
  for (int round = 0; round < 300; ++round) {
    Code code;
    while (code.size() < 200) {
      const auto& [row, codes] = *std::next(all.begin(), static_cast<std::ptrdiff_t>(random() % all.size()));
      code.insert(code.end(), codes[0].begin(), codes[0].end());
      if (random() % 64 == 0) code.push_back(static_cast<std::uint8_t>(random()));
    }
    code.resize(random() % code.size());
    code.shrink_to_fit();  // so that the sanitizers see a read past it
    const std::size_t extent = random() % (code.size() + 20);
    std::vector<Instruction> run(random() % 70);
    const std::size_t count = isa::decode_run(code, extent, Mode::bits64, run);
    std::size_t at = 0;
    for (std::size_t i = 0; i < count; ++i) {
      ASSERT_LT(at, extent);
      const Instruction one = isa::decode(std::span(code).subspan(at), Mode::bits64);
      ASSERT_EQ(std::memcmp(&one, &run[i], sizeof one), 0) << hex_of(code) << " at " << at;
      at += one.length;
    }
    const bool ended = count == run.size() || at >= std::min(extent, code.size());
    ASSERT_TRUE(ended || !isa::decode(std::span(code).subspan(at), Mode::bits64)) << hex_of(code) << " at " << at;
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
      ASSERT_FALSE(isa::text_of(instruction, 0, isa::Syntax::intel).view().empty());
      ASSERT_FALSE(isa::sentence(instruction, 0).empty());
    }
  }
}

TEST(Decoder, TheQuickWayLeadsToTheSame) {
  std::mt19937_64 random(9);
  // Prefixes, escapes and the ModRM bytes that bring more bytes come more often than by chance.
  constexpr std::array<std::uint8_t, 24> kOften = {0x66, 0x66, 0x2e, 0xf2, 0xf3, 0x64, 0x65, 0x48,
                                                   0x41, 0x4c, 0x0f, 0x0f, 0x0f, 0x04, 0x44, 0x84,
                                                   0x05, 0x25, 0xc0, 0xf6, 0xf7, 0x38, 0x90, 0x67};
  std::size_t decoded = 0;
  for (int i = 0; i < 3000000; ++i) {
    Code code(i % 8 == 0 ? random() % 18 : 40);
    for (std::size_t k = 0; k < std::min<std::size_t>(code.size(), 20); ++k) {
      const std::uint64_t chance = random();
      code[k] = chance % 2 == 0 ? kOften[(chance >> 8) % kOften.size()] : static_cast<std::uint8_t>(chance >> 16);
    }
    const Mode mode = i % 3 == 0 ? Mode::bits32 : Mode::bits64;
    const Instruction quick = isa::decode(code, mode), slow = isa::decode_the_long_way(code, mode);
    ASSERT_EQ(std::memcmp(&quick, &slow, sizeof quick), 0) << hex_of(code);
    decoded += quick ? 1 : 0;
  }
  EXPECT_GT(decoded, 1000000U);
}

/// After the bytes lies a page that cannot be read. As many prefixes as there can be bring the fields furthest out.
TEST(Decoder, ReadsNothingBehindTheBytes) {
  constexpr std::size_t kPage = 4096;
  void* const pages = ::mmap(nullptr, 2 * kPage, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  ASSERT_NE(pages, MAP_FAILED);
  auto* const edge = static_cast<std::uint8_t*>(pages) + kPage;
  ASSERT_EQ(::mprotect(edge, kPage, PROT_NONE), 0);
  const std::vector<Code> openings = {{0x62, 0xe2, 0x7d, 0x29, 0x93, 0xac},
                                      {0xc4, 0xe2, 0x7d, 0x93, 0xac},
                                      {0x0f, 0x38, 0xf0, 0x84},
                                      {0x48, 0xc7, 0x84, 0x25},
                                      {0x69, 0x84, 0x25},
                                      {0xc8}};
  for (const Mode mode : {Mode::bits64, Mode::bits32}) {
    for (const Code& opening : openings) {
      for (std::size_t prefixes = 0; prefixes < 16; ++prefixes) {
        for (std::size_t size = 1; size < 48; ++size) {
          Code code(size, 0x25);
          std::fill_n(code.begin(), std::min(prefixes, size), 0x2e);
          for (std::size_t i = 0; i < opening.size() && prefixes + i < size; ++i) code[prefixes + i] = opening[i];
          std::uint8_t* const at = edge - size;
          std::ranges::copy(code, at);
          Instruction one;
          const std::span<const std::uint8_t> bytes(at, size);
          EXPECT_LE(isa::decode(bytes, mode, one), size);
          EXPECT_EQ(isa::decode_run(bytes, 1, mode, {&one, 1}), one ? 1U : 0U);
        }
      }
    }
  }
  ::munmap(pages, 2 * kPage);
}

TEST(Decoder, ThirtyTwoBitModeHasItsOwnRows) {
  EXPECT_EQ(text_of(isa::decode(Code{0x60}, Mode::bits32)), "pusha");
  EXPECT_EQ(text_of(isa::decode(Code{0x40}, Mode::bits32)), "inc eax");
  EXPECT_EQ(text_of(isa::decode(Code{0x67, 0x8b, 0x40, 0x10}, Mode::bits32)), "mov eax, dword ptr [bx+si+0x10]");
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

/// Registers and memory of an instruction with what is done to them: "w xmm1:0-127, r xmm2:64-127".
std::string accesses_of(const Code& code) {
  constexpr const char* kAccesses[] = {"-", "r", "w", "rw", "?", "p", "c", "cr"};
  const Instruction instruction = isa::decode(code, Mode::bits64);
  std::string result;
  for (const isa::Operand& operand : isa::operands_of(instruction)) {
    const char* const access = kAccesses[static_cast<std::size_t>(operand.access)];
    if (!result.empty()) result += ", ";
    if (operand.kind == isa::Operand::Kind::memory) result += fmt::format("{} memory:{}", access, operand.width);
    if (operand.kind != isa::Operand::Kind::reg) continue;
    const isa::RegisterPart part = operand.reg;
    const isa::RegisterPart whole{part.file, part.index, 0, part.width};
    result += fmt::format("{} {}:{}-{}", access, isa::name_of(whole), part.offset, part.offset + part.width - 1);
  }
  return result;
}

/// What processors with SHA, AVX512-FP16 and AMX have refuted of the table once (reads_test.cpp, processor_test.cpp),
/// by the manual (Intel SDM volume 2); it needs no such processor.
TEST(Effects, OfYoungInstructionsAreTheManuals) {
  const std::string tiles = [] {
    std::string all;
    for (int i = 0; i < 8; ++i) all += fmt::format(", w tmm{}:0-8191", i);
    return all;
  }();
  const std::vector<std::pair<Code, std::string>> cases = {
      {{0x0f, 0x38, 0xc9, 0xca}, "rw xmm1:0-127, r xmm2:64-127"},               // sha1msg1
      {{0x0f, 0x38, 0xc9, 0x0f}, "rw xmm1:0-127, r memory:128"},                // the same from memory
      {{0x0f, 0x38, 0xca, 0xca}, "rw xmm1:0-127, r xmm2:0-95"},                 // sha1msg2
      {{0x0f, 0x38, 0xc8, 0xca}, "w xmm1:0-127, r xmm2:0-127, r xmm1:96-127"},  // sha1nexte
      {{0x0f, 0x38, 0xcc, 0xca}, "rw xmm1:0-127, r xmm2:0-31"},                 // sha256msg1
      {{0x0f, 0x38, 0xcd, 0xca}, "rw xmm1:0-127, r xmm2:64-127"},               // sha256msg2
      {{0x0f, 0x38, 0xcb, 0xca}, "rw xmm1:0-127, r xmm2:0-127, r xmm0:0-63"},   // sha256rnds2
      {{0x62, 0xf5, 0x7d, 0x08, 0x7e, 0xc9}, "w ecx:0-31, r xmm1:0-15"},        // vmovw
      {{0x62, 0xf5, 0x7d, 0x08, 0x7e, 0x0f}, "w memory:16, r xmm1:0-15"},       // the same to memory
      {{0x62, 0xf6, 0x6f, 0x08, 0x57, 0xcb}, "w xmm1:0-127, r xmm2:0-127, r xmm3:0-31, r xmm1:0-31"},  // vfcmaddcsh
      {{0x62, 0xf6, 0x6e, 0x09, 0x57, 0xcb},
       "w xmm1:0-127, r xmm2:0-127, r xmm3:0-31, r xmm1:0-31, p xmm1:0-31, r k1:0-0"},  // vfmaddcsh with a mask
      {{0xc4, 0xe2, 0x78, 0x49, 0x07}, "r memory:512" + tiles},                         // ldtilecfg
      {{0xc4, 0xe2, 0x79, 0x49, 0x07}, "w memory:512"},                                 // sttilecfg
      {{0xc4, 0xe2, 0x78, 0x49, 0xc0}, tiles.substr(2)},                                // tilerelease
  };
  for (const auto& [code, accesses] : cases)
    EXPECT_EQ(accesses_of(code), accesses) << text_of(isa::decode(code, Mode::bits64));
}

TEST(Effects, OfSeparateElementsAreReadsOrWrites) {
  std::size_t gathers = 0;
  for (const auto& [row, codes] : samples_of_all_rows(4)) {
    for (const Code& code : codes) {
      for (const isa::Operand& operand : isa::operands_of(isa::decode(code, Mode::bits64))) {
        if (operand.kind != isa::Operand::Kind::memory || !operand.recipe.has_vector_index()) continue;
        ++gathers;
        EXPECT_FALSE(isa::reads(operand.access) && isa::writes(operand.access)) << mnemonic_of(isa::rows()[row]);
        EXPECT_FALSE(operand.access == isa::Access::read || operand.access == isa::Access::write);
      }
    }
  }
  EXPECT_GT(gathers, 50U);
}

TEST(Sentence, FillsInOperands) {
  EXPECT_EQ(isa::sentence(isa::decode(Code{0xf7, 0x7d, 0xf8}, Mode::bits64), 0),
            "signed: edx:eax divided by the 32-bit value at [rbp-8]: quotient to eax, remainder to edx");
}

TEST(Sentence, ConditionsNameWhatWasCompared) {
  const auto after = [](const Code& setter, const Code& conditional) {
    return isa::sentence_after(isa::decode(conditional, Mode::bits64), 0x10, isa::decode(setter, Mode::bits64), 0);
  };
  const Code compare = {0x39, 0x45, 0xf4}, test = {0x85, 0xc0};
  EXPECT_EQ(after(compare, {0x7c, 0x10}), "goes to 0x22 if [rbp-0xc] was less than eax, signed (SF differs from OF)");
  EXPECT_EQ(after(compare, {0x72, 0x10}), "goes to 0x22 if [rbp-0xc] was below eax, unsigned (CF is 1)");
  EXPECT_EQ(after(test, {0x0f, 0x9f, 0xc1}),
            "the byte cl becomes 1 if eax was greater than 0, signed (ZF is 0 and SF equals OF), else 0");
  EXPECT_EQ(after({0x83, 0xe8, 1}, {0x75, 0xf0}), "goes to 2 if the result in eax was not 0 (ZF is 0)");
  EXPECT_EQ(after({0x66, 0x0f, 0x2e, 0xc1}, {0x7a, 0}), "goes to 0x12 if xmm0 or xmm1 was not a number (PF is 1)");
}

TEST(Move, KeepsTargetsOrSaysWhyNot) {
  const auto moved = [](const Code& code, std::uint64_t from, std::uint64_t to) {
    return isa::move_instruction(isa::decode(code, Mode::bits64), code, from, to);
  };
  // Every row: what it refers to is the same at the new place, all other bytes stay.
  std::size_t referring = 0;
  for (const auto& [row, codes] : samples_of_all_rows(4)) {
    for (const Code& code : codes) {
      const Instruction before = isa::decode(code, Mode::bits64);
      const isa::MovedInstruction result = isa::move_instruction(before, code, 0x401000, 0x401050);
      if (result.outcome != isa::MoveOutcome::moved) continue;
      const Instruction after = isa::decode(std::span(result.bytes).first(code.size()), Mode::bits64);
      ASSERT_EQ(after.row, before.row);
      std::uint64_t was = 0, is = 0;
      const bool target = isa::direct_target(before, 0x401000, was) && isa::direct_target(after, 0x401050, is);
      if (!target) {
        (void)isa::fixed_memory_address(before, 0x401000, was);
        (void)isa::fixed_memory_address(after, 0x401050, is);
      }
      EXPECT_EQ(is, was) << text_of(before);
      referring += was != 0 ? 1 : 0;
    }
  }
  EXPECT_GT(referring, 100U);
  EXPECT_EQ(moved({0xeb, 0x10}, 0, 0x1000).outcome, isa::MoveOutcome::out_of_reach);
  EXPECT_EQ(moved({0x48, 0x8b, 5, 0, 0, 0, 0}, 0, std::uint64_t(1) << 40).outcome, isa::MoveOutcome::out_of_reach);
  EXPECT_EQ(moved({0xe8, 0, 0, 0, 0}, 0, 0x1000).outcome, isa::MoveOutcome::pushes_place);
  EXPECT_EQ(moved({0xeb, 0x10}, 0x100, 0xf0).bytes[1], 0x20);
}

}  // namespace
}  // namespace deeptrace::tests
