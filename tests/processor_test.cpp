// The processor as the second judge of the instruction table: every row that a program may execute is run from random
// states, and only what the table calls written may have changed.
#include "isa/processor.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <array>
#include <map>
#include <random>
#include <set>

#include "isa/effects.h"
#include "isa/text.h"
#include "laboratory.h"
#include "state/touched.h"

namespace deeptrace::tests {
namespace {

/// Registers as the bits that the table lets change.
struct Allowed {
  std::array<std::uint64_t, state::kRegCount> general{};
  std::array<std::array<bool, 64>, 32> vector{};  ///< bytes that may change
  std::array<bool, 8> mask{}, tile{};
  bool mxcsr = false;
  std::uint64_t flags = 0;
};

Allowed allowed_by(const Instruction& instruction) {
  Allowed allowed;
  const isa::Effects effects = isa::effects_of(instruction);
  for (unsigned i = 0; i < effects.register_count; ++i) {
    const isa::RegisterEffect& effect = effects.registers[i];
    if (!isa::writes(effect.access)) continue;
    const isa::RegisterPart part = effect.part;
    switch (part.file) {
      case isa::RegisterFile::vector:
        for (unsigned byte = part.offset / 8U; byte < 64; ++byte) {
          const bool written = byte < (part.offset + part.width) / 8U;
          if (written || effect.rest == isa::Rest::zeroed) allowed.vector[part.index][byte] = true;
        }
        break;
      case isa::RegisterFile::mask: allowed.mask[part.index] = true; break;
      case isa::RegisterFile::tile: allowed.tile[part.index] = true; break;
      case isa::RegisterFile::mxcsr: allowed.mxcsr = true; break;
      case isa::RegisterFile::general: {
        const std::uint64_t bits = part.width >= 64 || effect.rest == isa::Rest::zeroed
                                       ? ~std::uint64_t(0)
                                       : ((std::uint64_t(1) << part.width) - 1) << part.offset;
        allowed.general[static_cast<std::size_t>(reg_of(part))] |= bits;
        break;
      }
      default: break;
    }
  }
  const std::uint32_t traits = isa::row_of(instruction).traits;
  for (auto& bytes : allowed.vector) {
    const std::size_t from = (traits & (isa::kVectorState | isa::kZeroAll)) != 0 ? 0 : 16;
    if ((traits & (isa::kVectorState | isa::kZeroAll | isa::kZeroUpper)) != 0)
      std::fill(bytes.begin() + from, bytes.end(), true);
  }
  allowed.mxcsr |= (traits & isa::kVectorState) != 0;
  const isa::FlagUse& flags = effects.flags;
  allowed.flags = flags.written | flags.undefined | flags.cleared | flags.set;
  return allowed;
}

/// The physical registers of the floating-point stack that the table lets change: what is pushed is the new top.
std::array<bool, 8> written_of_stack(const Instruction& instruction, const isa::Effects& effects, unsigned top) {
  std::array<bool, 8> written{};
  const bool pushes = effects.x87_pushes > 0;
  written[(top - 1) % 8] = pushes;
  for (unsigned i = 0; i < effects.register_count; ++i) {
    const auto& [part, access, rest] = effects.registers[i];
    if (!isa::writes(access)) continue;
    if (part.file == isa::RegisterFile::x87) written[(top + part.index) % 8] = true;
    if (part.file == isa::RegisterFile::mmx) written[part.index] = true;
  }
  if ((isa::row_of(instruction).traits & isa::kX87State) != 0) written.fill(true);
  return written;
}

/// The floating-point unit: nothing of it changes without a word of the table; its stack moves as the table says.
void expect_x87(const Instruction& instruction, Machine& before, Machine& after, const std::string& what) {
  const isa::Effects effects = isa::effects_of(instruction);
  const std::uint32_t traits = isa::row_of(instruction).traits;
  const std::array<bool, 8> written = written_of_stack(instruction, effects, before.extended.top());
  for (unsigned i = 0; i < 8; ++i) {
    for (unsigned k = 0; k < 10 && !written[i]; ++k)
      EXPECT_EQ(before.extended.x87((i - before.extended.top()) % 8, k),
                after.extended.x87((i - after.extended.top()) % 8, k))
          << what << " changed the floating-point unit's register " << i;
  }
  // Instructions with mmx registers change the unit's words even where they only read.
  const isa::Operands operands = isa::operands_of(instruction);
  const bool mmx =
      std::ranges::any_of(operands, [](const isa::Operand& o) { return o.reg.file == isa::RegisterFile::mmx; });
  const bool words = effects.touches_x87 || mmx;
  const bool control = (traits & isa::kX87State) != 0 || std::ranges::any_of(operands, [](const isa::Operand& o) {
                         return o.reg.file == isa::RegisterFile::x87_control && isa::writes(o.access);
                       });
  EXPECT_TRUE(control ||
              std::equal(before.extended.area.begin(), before.extended.area.begin() + 2, after.extended.area.begin()))
      << what << " changed the floating-point unit's control word";
  EXPECT_TRUE(words ||
              std::equal(before.extended.area.begin(), before.extended.area.begin() + 6, after.extended.area.begin()))
      << what << " changed the floating-point unit's words";
  const std::string_view name = isa::mnemonic_of(isa::row_of(instruction));
  static const std::set<std::string_view> kMoveTheTop = {"fincstp", "fdecstp", "fninit", "emms"};
  if (!words || mmx || (traits & isa::kX87State) != 0 || kMoveTheTop.count(name) != 0) return;
  const int top = (after.extended.area[3] >> 3) & 7;
  EXPECT_EQ(top, 4 - effects.x87_pushes) << what << " moved the stack otherwise";
}

void expect_extended(const Instruction& instruction, const Allowed& allowed, Machine before, Machine after,
                     const std::string& what) {
  const bool wide = Extended::has_avx512();
  for (unsigned i = 0; i < (wide ? 32U : 16U); ++i) {
    for (unsigned k = 0; k < (wide ? 64U : 32U); ++k) {
      if (allowed.vector[i][k] || before.extended.vector(i, k) == after.extended.vector(i, k)) continue;
      ADD_FAILURE() << what << " changed byte " << k << " of vector register " << i;
      return;
    }
  }
  for (unsigned i = 0; wide && i < 8; ++i) {
    for (unsigned k = 0; k < 8; ++k) {
      if (allowed.mask[i]) continue;
      EXPECT_EQ(before.extended.mask(i, k), after.extended.mask(i, k)) << what << " changed k" << i;
    }
  }
  for (unsigned i = 0; before.extended.has_tiles && i < 8; ++i) {
    if (allowed.tile[i]) continue;
    EXPECT_EQ(std::memcmp(&before.extended.tile(i, 0), &after.extended.tile(i, 0), 1024), 0)
        << what << " changed tmm" << i;
  }
  if (!allowed.mxcsr) {
    EXPECT_EQ(before.extended.mxcsr(), after.extended.mxcsr()) << what;
  }
  expect_x87(instruction, before, after, what);
}

void expect_only_allowed(const Instruction& instruction, const Machine& before, const Machine& after,
                         const std::string& what) {
  const Allowed allowed = allowed_by(instruction);
  for (std::size_t i = 0; i < 16; ++i) {
    const std::uint64_t changed = before.registers.values[i] ^ after.registers.values[i];
    EXPECT_EQ(changed & ~allowed.general[i], 0U) << what << " changed " << name_of(static_cast<Reg>(i));
  }
  const std::uint64_t flags = (before.registers[Reg::rflags] ^ after.registers[Reg::rflags]) & kStatusFlags;
  EXPECT_EQ(isa::flag_names(flags & ~allowed.flags), "") << what << " changed flags";
  const isa::FlagUse& use = isa::operation_of(instruction).flags;
  EXPECT_EQ(after.registers[Reg::rflags] & use.cleared, 0U) << what << " left flags that it clears";
  EXPECT_EQ(after.registers[Reg::rflags] & use.set, use.set & kStatusFlags) << what << " left flags that it sets";
  expect_extended(instruction, allowed, before, after, what);
  EXPECT_TRUE(isa::effects_of(instruction).writes_memory || before.data == after.data) << what << " wrote";
  std::vector<std::uint8_t> expected = after.data;
  const state::Touched touched = state::touched_by(instruction, before.registers);
  if (!touched.complete) return;
  for (const state::TouchedRange& range : touched) {
    if (!isa::writes(range.access)) continue;
    ASSERT_GE(range.address, kData) << what;
    ASSERT_LE(range.address + range.size, kData + kDataSize) << what;
    std::copy_n(before.data.begin() + static_cast<std::ptrdiff_t>(range.address - kData), range.size,
                expected.begin() + static_cast<std::ptrdiff_t>(range.address - kData));
  }
  EXPECT_TRUE(expected == before.data) << what << " wrote elsewhere";
}

/// Above what is surely written, a register that the table calls cleared there is 0.
void expect_cleared(const Instruction& instruction, Machine after, const std::string& what) {
  const isa::Effects effects = isa::effects_of(instruction);
  std::array<unsigned, 32> written{};  // bytes from the lowest on, by vector register
  for (unsigned i = 0; i < effects.register_count; ++i) {
    const isa::RegisterEffect& effect = effects.registers[i];
    if (isa::writes(effect.access) && effect.part.file == isa::RegisterFile::vector)
      written[effect.part.index] =
          std::max(written[effect.part.index], (effect.part.offset + effect.part.width + 7U) / 8U);
  }
  for (unsigned i = 0; i < effects.register_count; ++i) {
    const isa::RegisterEffect& effect = effects.registers[i];
    if (!isa::writes(effect.access) || isa::only_perhaps(effect.access) || effect.rest != isa::Rest::zeroed) continue;
    const isa::RegisterPart part = effect.part;
    if (part.file == isa::RegisterFile::vector) {
      for (unsigned k = written[part.index]; k < (Extended::has_avx512() ? 64U : 32U); ++k)
        ASSERT_EQ(after.extended.vector(part.index, k), 0) << what << " left byte " << k;
    } else if (part.file == isa::RegisterFile::general) {
      EXPECT_EQ(after.registers[reg_of(part)] >> 32, 0U) << what << " left the upper half";
    }
  }
}

/// Runs what can be run of every row; returns those of which something ran to its end.
std::set<std::uint16_t> rows_that_change_what_they_say(isa::Mode mode) {
  Laboratory laboratory;
  std::mt19937_64 random(11);
  std::set<std::uint16_t> proved;
  // Memory that can be arranged, and the shorter vectors, which more processors have.
  const unsigned address_size = mode == isa::Mode::bits64 ? 8 : 4;
  const auto runs = [&](const Instruction& in, const Code&) {
    return in.segment_override() < 0 && in.address_size == address_size && (in.modrm & 0xc7) != 5 &&
           ((in.prefixes & isa::kPrefixVex) == 0 || in.vector_bits() == 128);
  };
  for (const auto& [row, codes] : samples_of_all_rows(24, mode, runs)) {
    const isa::Row& entry = isa::rows()[row];
    const std::string name(isa::mnemonic_of(entry));
    // The segment bases are not part of the effects yet; popf can switch single-stepping itself off; the kernel
    // carries out the last five in the processor's place, without a stop after them (user-mode instruction
    // prevention); xtest does nothing on processors without transactions.
    static const std::set<std::string> kLeftOut = {"popf", "popfw", "wrfsbase", "wrgsbase", "sldt",   "str",
                                                   "sgdt", "sidt",  "smsw",     "xtest",    "vmgexit"};
    if ((entry.traits & isa::kPrivileged) != 0 || kLeftOut.count(name) != 0) continue;
    for (const Code& code : codes) {
      const Instruction instruction = isa::decode(code, mode);
      if (isa::flow_of(instruction) != isa::ControlFlow::next) continue;
      Machine before, after;
      before.extended = laboratory.initial();
      if (!prepare(instruction, random, before)) continue;
      if (!laboratory.execute(code, before, after)) {
        before.registers[Reg::rcx] = before.registers[Reg::rdx] = 0;  // some want zeros there
        if (!laboratory.execute(code, before, after)) continue;
      }
      // Repeated instructions, gathers and scatters may be interrupted on the way, and go on later.
      const bool goes_on = isa::is_repeated(instruction) || !state::touched_by(instruction, before.registers).complete;
      if (after.registers[Reg::rip] == before.registers[Reg::rip] && goes_on) continue;
      const std::string what = named(instruction);
      EXPECT_EQ(after.registers[Reg::rip] - kCode, instruction.length) << what;
      expect_only_allowed(instruction, before, after, what);
      expect_cleared(instruction, after, what);
      proved.insert(row);
    }
  }
  record(proved);
  return proved;
}

TEST(Processor, ChangesOnlyWhatTheTableCallsWritten) {
  const std::set<std::uint16_t> proved = rows_that_change_what_they_say(isa::Mode::bits64);
  std::map<std::string, std::pair<int, int>> features;  // rows, proved rows
  for (std::size_t row = 0; row < isa::rows().size(); ++row) {
    auto& [all, done] = features[std::string(isa::feature_of(isa::rows()[row]))];
    ++all;
    done += static_cast<int>(proved.count(static_cast<std::uint16_t>(row)));
  }
  const bool tiles = Laboratory().initial().may_have_tiles;
  if (!tiles) std::printf("no tiles: this processor or its kernel does not give them\n");
  std::string unproved;
  for (std::size_t row = 0; row < isa::rows().size(); ++row) {
    const isa::Row& entry = isa::rows()[row];
    if (!tiles && isa::feature_of(entry).starts_with("amx")) continue;
    const bool executed =
        isa::operation_of(entry).meaning != nullptr || proved.count(static_cast<std::uint16_t>(row)) != 0;
    if (!executed && (entry.modes & 2) != 0 && isa::why_not_provable(entry).empty())
      unproved += std::string(isa::mnemonic_of(entry)) + " (" + std::string(isa::encoding_of(entry)) + ", " +
                  std::string(isa::feature_of(entry)) + ")\n";
  }
  EXPECT_EQ(unproved, "") << "rows that `explain` calls proved (those of the integer core are, by execute_test.cpp)";
  for (const auto& [name, counts] : features) std::printf("%s %d/%d  ", name.c_str(), counts.second, counts.first);
  std::printf("\n%zu of %zu rows executed\n", proved.size(), isa::rows().size());
  EXPECT_GT(proved.size(), Extended::has_avx512() ? 1850U : 1000U);
}

TEST(Processor, ChangesOnlyWhatTheTableCallsWrittenIn32Bits) {
  EXPECT_GT(rows_that_change_what_they_say(isa::Mode::bits32).size(), Extended::has_avx512() ? 1700U : 900U);
}

/// Bytes at the end of a page tell how much the processor wants to see, and whether it refuses them.
TEST(Processor, AgreesOnLengthAndValidity) {
  Laboratory laboratory;
  std::mt19937 random(12);
  const auto opcodes = opcodes_of_maps();
  std::size_t compared = 0;
  std::map<std::string, int> wrong;
  const auto note = [&](const std::string& what, const Code& code, const Instruction& instruction) {
    std::string digits;
    for (const std::uint8_t byte : code) digits += fmt::format("{:02x}", byte);
    const std::string name =
        instruction ? std::string(isa::mnemonic_of(isa::row_of(instruction))) : digits.substr(0, 6);
    if (++wrong[what + " " + name] == 1 && wrong.size() < 40)
      ADD_FAILURE() << what << " " << digits << " "
                    << (instruction ? std::string(isa::text_of(instruction, 0, isa::Syntax::intel).view()) : "");
  };
  // The kernel carries these out in the processor's place.
  static const std::set<std::string_view> kEmulated = {"sgdt", "sidt", "sldt", "str", "smsw"};
  for (const Head& head : sample_heads(random, true)) {
    for (unsigned opcode = 0; opcode < 256; ++opcode) {
      if (head.map >= 13) continue;  // XOP: on processors without it, 8F is always `pop`
      // This processor tries some vector forms of 0F AE that no manual has.
      if ((head.map == 5 || head.map == 8) && opcode == 0xae) continue;
      if (head.map == 1 && (opcode == 0x1a || opcode == 0x1b)) continue;  // bounds: no-ops while they are off
      if (head.map >= 5 && random() % 4 != 0) continue;
      Code code = head.bytes;
      code.push_back(static_cast<std::uint8_t>(opcode));
      code.push_back(static_cast<std::uint8_t>(random()));
      while (code.size() < 32) code.push_back(static_cast<std::uint8_t>(random()));
      const Instruction instruction = isa::decode(code, isa::Mode::bits64);
      if (!instruction) {
        // Whatever the processor makes of it, it must not run it.
        code.resize(15);
        const unsigned seen = laboratory.fetch(code);
        if (seen == 1) note("runs what the table does not have:", code, instruction);
        ++compared;
        continue;
      }
      const isa::Row& row = isa::row_of(instruction);
      const std::string_view feature = isa::feature_of(row);
      // System calls and transfers to chance addresses are not tried, nor what a hypervisor answers.
      if (isa::flow_of(instruction) == isa::ControlFlow::system || feature == "svm" || feature == "seves" ||
          feature == "vmx" || feature == "rtm" || kEmulated.count(isa::mnemonic_of(row)) != 0)
        continue;
      code.resize(instruction.length);
      const unsigned whole = laboratory.fetch(code);
      if (whole == 0) {
        if (isa::why_not_provable(row).empty()) note("refused by the processor:", code, instruction);
        continue;
      }
      if (whole == 16) note("wants more bytes:", code, instruction);
      code.pop_back();
      if (!code.empty() && laboratory.fetch(code) != 16) note("wants fewer bytes:", code, instruction);
      ++compared;
    }
  }
  std::printf("%zu encodings compared\n", compared);
  EXPECT_GT(compared, 40000U);
}

TEST(Processor, AgreesOnConditions) {
  Laboratory laboratory;
  std::mt19937_64 random(13);
  for (int turn = 0; turn < 400; ++turn) {
    const auto code = static_cast<std::uint8_t>(turn % 16);
    Machine before, after;
    before.extended = laboratory.initial();
    before.data.resize(kDataSize);
    before.registers[Reg::rip] = kCode;
    before.registers[Reg::rflags] = 0x202 | (random() & kStatusFlags & ~kDirection);
    ASSERT_TRUE(laboratory.execute({0x0f, static_cast<std::uint8_t>(0x90 + code), 0xc0}, before, after));
    EXPECT_EQ(after.registers[Reg::rax] & 0xff, isa::condition_holds(code, before.registers[Reg::rflags]) ? 1U : 0U)
        << isa::conditions()[code].name << " with " << isa::flag_names(before.registers[Reg::rflags]);
  }
}

}  // namespace
}  // namespace deeptrace::tests
