// The executable meaning of the integer core, with the processor as its judge.
#include "state/execute.h"

#include <gtest/gtest.h>

#include "isa/liveness.h"
#include "isa/text.h"
#include "laboratory.h"

namespace deeptrace::tests {
namespace {

using state::Ending;

constexpr unsigned kVectors = 16, kXmm = 16;  // registers, and bytes of what all processors have of them

class MachineView final : public state::StateView {
 public:
  explicit MachineView(const Machine& machine) : machine_(machine) {}
  [[nodiscard]] isa::Mode mode() const override { return machine_.mode; }
  [[nodiscard]] const RegisterSet& registers() const override { return machine_.registers; }
  [[nodiscard]] std::optional<state::ExtendedSet> extended() const override {
    state::ExtendedSet set;
    Extended saved = machine_.extended;
    for (unsigned i = 0; i < kVectors; ++i) {
      for (unsigned k = 0; k < kXmm; ++k) set.vectors[i][k] = saved.vector(i, k);
    }
    return set;
  }
  void read_memory(std::span<state::MemoryRequest> requests, state::Provenance) const override {
    for (state::MemoryRequest& request : requests) {
      request.got = 0;
      if (request.address < kData || request.address >= kData + kDataSize) continue;
      const std::size_t at = request.address - kData;
      request.got = std::min(request.into.size(), kDataSize - at);
      std::copy_n(machine_.data.begin() + static_cast<std::ptrdiff_t>(at), request.got, request.into.begin());
    }
  }

 private:
  const Machine& machine_;
};

/// True when the processor must fault although the instruction itself is fine: control goes where no code can be, or
/// the stack ends outside of the data.
bool leaves_the_machine(const state::Outcome& outcome) {
  const std::uint64_t rip = outcome.registers[Reg::rip];
  const std::uint64_t low = outcome.registers[Reg::rsp] - kData;
  const std::uint64_t at = outcome.store.address - kData;
  return (rip >> 47) != 0 || low > kDataSize || (outcome.store.size != 0 && at > kDataSize);
}

void expect_equal(const state::Outcome& outcome, const Machine& before, const Machine& after, const Instruction& in,
                  const std::string& what) {
  for (std::size_t i = 0; i < 16; ++i) {
    const auto reg = static_cast<Reg>(i);
    bool undefined = false;
    for (unsigned k = 0; k < 16; ++k)
      undefined |= ((outcome.undefined_registers >> k) & 1) != 0 &&
                   reg_of({isa::RegisterFile::general, static_cast<std::uint8_t>(k), 0, 64}) == reg;
    if (!undefined) {
      EXPECT_EQ(in_mode(outcome.registers[reg], before.mode), in_mode(after.registers[reg], before.mode))
          << what << " " << name_of(reg) << " was " << before.registers[reg];
    }
  }
  EXPECT_EQ(outcome.registers[Reg::rip], after.registers[Reg::rip]) << what << " rip";
  const std::uint64_t flags = kStatusFlags & ~std::uint64_t(outcome.undefined_flags);
  EXPECT_EQ(isa::flag_names(outcome.registers[Reg::rflags] & flags),
            isa::flag_names(after.registers[Reg::rflags] & flags))
      << what;
  std::vector<std::uint8_t> data = before.data;
  if (outcome.store.undefined) return;
  if (outcome.store.size != 0) {
    const auto at = static_cast<std::ptrdiff_t>(outcome.store.address - kData);
    std::copy_n(outcome.store.bytes.begin(), outcome.store.size, data.begin() + at);
    // The stepped thread pushes its trap flag too.
    if ((isa::row_of(in).traits & isa::kFlagImage) != 0) data[static_cast<std::size_t>(at) + 1] |= 1;
  }
  EXPECT_TRUE(data == after.data) << what << " memory";
}

/// That is left to the processor.
bool writes_vector(const Instruction& instruction) {
  return std::ranges::any_of(isa::operands_of(instruction), [](const isa::Operand& one) {
    return one.kind == isa::Operand::Kind::reg && one.reg.file == isa::RegisterFile::vector && isa::writes(one.access);
  });
}

void compare_all(isa::Mode mode) {
  Laboratory laboratory;
  std::mt19937_64 random(21);
  std::set<std::uint16_t> meant, proved;
  for (const auto& [row, codes] : samples_of_all_rows(24, mode)) {
    if (isa::operation_of(isa::rows()[row]).meaning == nullptr) continue;
    if ((isa::rows()[row].traits & isa::kPrivileged) != 0) continue;
    for (const Code& code : codes) {
      const Instruction instruction = isa::decode(code, mode);
      const std::string what(isa::text_of(instruction, kCode, isa::Syntax::intel).view());
      if (writes_vector(instruction)) {
        Machine machine;
        machine.extended = laboratory.initial();
        if (!prepare(instruction, random, machine)) continue;
        EXPECT_EQ(state::execute(instruction, MachineView(machine)).ending, Ending::unknown) << what;
        continue;
      }
      meant.insert(row);
      for (int turn = 0; turn < 3; ++turn) {
        Machine before, after;
        before.extended = laboratory.initial();
        for (unsigned i = 0; i < kVectors; ++i) {
          for (unsigned k = 0; k < kXmm; ++k) before.extended.vector(i, k) = static_cast<std::uint8_t>(random());
        }
        if (!prepare(instruction, random, before)) break;
        // The flags that popf takes must not switch the stepping off.
        if (what.find("popf") != std::string::npos) before.data[kDataSize / 2 + 1] &= 0xfe;
        const state::Outcome outcome = state::execute(instruction, MachineView(before));
        ASSERT_NE(outcome.ending, Ending::unknown) << what;
        if (outcome.ending == Ending::unreadable) break;
        const bool ran = laboratory.execute(code, before, after);
        if (outcome.ending == Ending::done && !ran && leaves_the_machine(outcome)) continue;
        if (laboratory.signal() == SIGILL && outcome.exception != isa::Exception::invalid) break;
        EXPECT_EQ(ran, outcome.ending == Ending::done) << what;
        if (ran && outcome.ending == Ending::done) expect_equal(outcome, before, after, instruction, what);
        proved.insert(row);
      }
    }
  }
  std::string unproved;
  for (const std::uint16_t row : meant) {
    const isa::Row& entry = isa::rows()[row];
    // Absolute addresses lie outside of the data; movdiri is younger than many processors.
    const bool absolute = entry.map == isa::kOneByte && entry.opcode >= 0xa0 && entry.opcode <= 0xa3;
    if (proved.count(row) == 0 && !absolute && isa::feature_of(entry) != "movdiri")
      unproved += std::string(isa::mnemonic_of(entry)) + " ";
  }
  EXPECT_EQ(unproved, "");
  EXPECT_GT(proved.size(), 380U);
}

TEST(Execute, ComputesWhatTheProcessorDoes) { compare_all(isa::Mode::bits64); }
TEST(Execute, ComputesWhatTheProcessorDoesIn32Bits) { compare_all(isa::Mode::bits32); }

/// What is not live before a block of instructions can be changed: the processor ends the block in the same state, as
/// far as that is live.
TEST(Liveness, WhatIsDeadDoesNotMatter) {
  Laboratory laboratory;
  std::mt19937_64 random(41);
  std::vector<Code> pool;
  for (const auto& [row, codes] : samples_of_all_rows(12)) {
    for (const Code& code : codes) {
      const Instruction in = isa::decode(code, isa::Mode::bits64);
      const isa::Row& entry = isa::rows()[row];
      const auto operands = isa::operands_of(in);
      const bool memory = std::ranges::any_of(operands, [](auto& o) { return o.kind == isa::Operand::Kind::memory; });
      const bool vector =
          std::ranges::any_of(operands, [](auto& o) { return o.reg.file == isa::RegisterFile::vector; });
      if (isa::operation_of(entry).meaning != nullptr && isa::flow_of(in) == isa::ControlFlow::next && !memory &&
          !vector && (entry.traits & (isa::kPrivileged | isa::kFaults)) == 0)
        pool.push_back(code);
    }
  }
  std::size_t dead_bits = 0, compared = 0;
  for (int turn = 0; turn < 3000; ++turn) {
    std::vector<Code> block;
    std::string what;
    for (int i = 0; i < 6; ++i) block.push_back(pool[random() % pool.size()]);
    for (const Code& code : block)
      what += std::string(isa::text_of(isa::decode(code, isa::Mode::bits64), 0, isa::Syntax::intel).view()) + "; ";
    isa::Live after = isa::Live::everything();
    after.flags &= static_cast<std::uint32_t>(random());
    after.general[random() % 8] = 0;
    isa::Live live = after;
    for (std::size_t i = block.size(); i-- > 0;) live.step_back(isa::decode(block[i], isa::Mode::bits64));
    Machine one;
    one.extended = laboratory.initial();
    if (!prepare(isa::decode(block[0], isa::Mode::bits64), random, one)) continue;
    Machine other = one;
    for (unsigned i = 0; i < 16; ++i) {
      if (i == isa::kRsp) continue;
      const Reg reg = reg_of({isa::RegisterFile::general, static_cast<std::uint8_t>(i), 0, 64});
      other.registers[reg] ^= random() & ~live.general[i];
      dead_bits += static_cast<std::size_t>(__builtin_popcountll(~live.general[i]));
    }
    other.registers[Reg::rflags] ^= random() & kStatusFlags & ~kDirection & ~std::uint64_t(live.flags);
    bool ran = true;
    for (const Code& code : block) {
      for (Machine* machine : {&one, &other}) {
        Machine ended;
        machine->registers[Reg::rip] = kCode;
        ran = ran && laboratory.execute(code, *machine, ended);
        if (ran) *machine = ended;
      }
    }
    if (!ran) continue;
    ++compared;
    for (unsigned i = 0; i < 16; ++i) {
      const Reg reg = reg_of({isa::RegisterFile::general, static_cast<std::uint8_t>(i), 0, 64});
      ASSERT_EQ((one.registers[reg] ^ other.registers[reg]) & after.general[i], 0U) << what << name_of(reg);
    }
    ASSERT_EQ((one.registers[Reg::rflags] ^ other.registers[Reg::rflags]) & kStatusFlags & after.flags, 0U) << what;
  }
  EXPECT_GT(compared, 1000U);
  EXPECT_GT(dead_bits, 100000U);
}

}  // namespace
}  // namespace deeptrace::tests
