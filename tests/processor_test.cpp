// The processor as the second judge of the instruction table: every row that a program may execute is run from random
// states, and only what the table calls written may have changed.
#include <cpuid.h>
#include <elf.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/mman.h>
#include <sys/ptrace.h>
#include <sys/uio.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <csignal>
#include <cstring>
#include <map>
#include <random>
#include <set>

#include "isa/effects.h"
#include "isa/text.h"
#include "samples.h"
#include "state/touched.h"

namespace deeptrace::tests {
namespace {

using isa::Instruction;
using state::Reg;
using state::reg_of;
using state::RegisterSet;
using state::value_of;

constexpr std::uint64_t kCode = 0x10000000, kData = 0x20000000, kDataSize = 0x10000, kMiddle = kData + kDataSize / 2;
constexpr std::uint64_t kStatusFlags = 0xcd5;  // OF DF SF ZF AF PF CF
constexpr std::uint64_t kDirection = 0x400;

/// The extended state as the processor saves it in its standard form (Intel SDM volume 1, 13.4): the areas of x87, SSE,
/// AVX and AVX-512 at the offsets that the processor itself tells.
struct Extended {
  std::vector<std::uint8_t> area;

  /// Offset of a component's area (Intel SDM volume 2, CPUID leaf 0dh); 0 when the processor has none.
  static std::size_t offset_of(unsigned component) {
    if (component < 2) return component == 0 ? 32 : 160;
    unsigned a = 0, offset = 0, c = 0, d = 0;
    __cpuid_count(0xd, component, a, offset, c, d);
    return a == 0 ? 0 : offset;
  }
  static bool has_avx512() { return offset_of(5) != 0 && offset_of(7) != 0; }

  /// Byte `k` of a vector register; the register's bytes lie in up to three areas.
  std::uint8_t& vector(unsigned index, unsigned k) {
    static const std::array<std::size_t, 3> kOffsets = {offset_of(2), offset_of(6), offset_of(7)};
    if (index >= 16) return area[kOffsets[2] + 64 * (index - 16) + k];
    if (k < 16) return area[160 + 16 * index + k];
    if (k < 32) return area[kOffsets[0] + 16 * index + k - 16];
    return area[kOffsets[1] + 32 * index + k - 32];
  }
  std::uint8_t& mask(unsigned index, unsigned k) {
    static const std::size_t kOffset = offset_of(5);
    return area[kOffset + 8 * index + k];
  }
  std::uint8_t& x87(unsigned index, unsigned k) { return area[32 + 16 * index + k]; }
  std::uint32_t& mxcsr() { return *reinterpret_cast<std::uint32_t*>(area.data() + 24); }
};

struct Machine {
  RegisterSet registers;
  Extended extended;
  std::vector<std::uint8_t> data;
};

/// A child process that executes one instruction at a time in any state.
class Laboratory {
 public:
  Laboratory() : child_(::fork()) {
    if (child_ == 0) {
      const int access = PROT_READ | PROT_WRITE;
      ::mmap(reinterpret_cast<void*>(kCode), 8192, access | PROT_EXEC, MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED, -1, 0);
      ::mprotect(reinterpret_cast<void*>(kCode + 4096), 4096, PROT_NONE);
      ::mmap(reinterpret_cast<void*>(kData), kDataSize, access, MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED, -1, 0);
      ::ptrace(PTRACE_TRACEME, 0, nullptr, nullptr);
      ::raise(SIGSTOP);
      ::_exit(0);
    }
    int status = 0;
    ::waitpid(child_, &status, 0);
    ::ptrace(PTRACE_SETOPTIONS, child_, nullptr, PTRACE_O_EXITKILL);
    ::ptrace(PTRACE_GETREGS, child_, nullptr, &raw_);
    extended_.area.resize(4096);
    iovec vector{extended_.area.data(), extended_.area.size()};
    ::ptrace(PTRACE_GETREGSET, child_, NT_X86_XSTATE, &vector);
    extended_.area.resize(vector.iov_len);
  }
  ~Laboratory() {
    ::kill(child_, SIGKILL);
    int status = 0;
    ::waitpid(child_, &status, 0);
  }
  Laboratory(const Laboratory&) = delete;
  Laboratory& operator=(const Laboratory&) = delete;

  [[nodiscard]] const Extended& initial() const { return extended_; }

  /// False when the instruction faulted: this processor does not have it, or the state does not suit it.
  bool execute(const Code& code, const Machine& before, Machine& after) {
    put(kCode, code);
    put(kData, before.data);
    load(before);
    Extended extended = before.extended;
    // All components are there to be loaded.
    const std::uint64_t components = Extended::has_avx512() ? 0xe7 : 7;
    std::memcpy(extended.area.data() + 512, &components, 8);
    iovec vector{extended.area.data(), extended.area.size()};
    ::ptrace(PTRACE_SETREGSET, child_, NT_X86_XSTATE, &vector);
    if (step() != SIGTRAP) return false;
    user_regs_struct r{};
    ::ptrace(PTRACE_GETREGS, child_, nullptr, &r);
    after.registers.values = {r.rax, r.rbx, r.rcx, r.rdx, r.rsi, r.rdi, r.rbp,     r.rsp,    r.r8,
                              r.r9,  r.r10, r.r11, r.r12, r.r13, r.r14, r.r15,     r.rip,    r.eflags,
                              r.cs,  r.ss,  r.ds,  r.es,  r.fs,  r.gs,  r.fs_base, r.gs_base};
    after.extended = extended;
    vector = {after.extended.area.data(), after.extended.area.size()};
    ::ptrace(PTRACE_GETREGSET, child_, NT_X86_XSTATE, &vector);
    after.data.resize(kDataSize);
    iovec local{after.data.data(), kDataSize}, remote{reinterpret_cast<void*>(kData), kDataSize};
    return ::process_vm_readv(child_, &local, 1, &remote, 1, 0) == static_cast<ssize_t>(kDataSize);
  }

  /// What the processor makes of bytes at the very end of a page that no other follows: their length, 0 when it
  /// refuses them, or more than there are when it wants to see the next byte.
  unsigned fetch(std::span<const std::uint8_t> bytes) {
    const std::uint64_t start = kCode + 4096 - bytes.size();
    put(start, {bytes.begin(), bytes.end()});
    RegisterSet registers;
    for (std::size_t i = 0; i < 16; ++i) registers.values[i] = kMiddle;
    registers[Reg::rip] = start;
    registers[Reg::rflags] = 0x202;
    load({registers, {}, {}});
    const int signal = step();
    siginfo_t info{};
    ::ptrace(PTRACE_GETSIGINFO, child_, nullptr, &info);
    if (signal == SIGSEGV && info.si_addr == reinterpret_cast<void*>(kCode + 4096)) return 16;
    return signal == SIGILL ? 0 : 1;
  }

 private:
  void load(const Machine& machine) {
    user_regs_struct r = raw_;
    const RegisterSet& from = machine.registers;
    r.rax = from[Reg::rax], r.rbx = from[Reg::rbx], r.rcx = from[Reg::rcx], r.rdx = from[Reg::rdx];
    r.rsi = from[Reg::rsi], r.rdi = from[Reg::rdi], r.rbp = from[Reg::rbp], r.rsp = from[Reg::rsp];
    r.r8 = from[Reg::r8], r.r9 = from[Reg::r9], r.r10 = from[Reg::r10], r.r11 = from[Reg::r11];
    r.r12 = from[Reg::r12], r.r13 = from[Reg::r13], r.r14 = from[Reg::r14], r.r15 = from[Reg::r15];
    r.rip = from[Reg::rip], r.eflags = from[Reg::rflags], r.orig_rax = ~0ULL;
    ::ptrace(PTRACE_SETREGS, child_, nullptr, &r);
  }

  /// The signal that the step ended with.
  int step() {
    ::ptrace(PTRACE_SINGLESTEP, child_, nullptr, nullptr);
    int status = 0;
    ::waitpid(child_, &status, 0);
    return WIFSTOPPED(status) ? WSTOPSIG(status) : 0;
  }

  void put(std::uint64_t address, const std::vector<std::uint8_t>& bytes) {
    iovec local{const_cast<std::uint8_t*>(bytes.data()), bytes.size()},
        remote{reinterpret_cast<void*>(address), bytes.size()};
    (void)!::process_vm_writev(child_, &local, 1, &remote, 1, 0);
  }

  pid_t child_;
  user_regs_struct raw_{};
  Extended extended_;
};

void fill_extended(std::mt19937_64& random, Extended& extended) {
  const bool wide = Extended::has_avx512();
  for (unsigned i = 0; i < (wide ? 32U : 16U); ++i) {
    for (unsigned k = 0; k < (wide ? 64U : 32U); ++k) extended.vector(i, k) = static_cast<std::uint8_t>(random());
  }
  for (unsigned i = 0; i < 8; ++i) {
    for (unsigned k = 0; wide && k < 8; ++k) extended.mask(i, k) = static_cast<std::uint8_t>(random());
    // Numbers of moderate size, and few on the stack, so that pushes and pops succeed.
    for (unsigned k = 0; k < 8; ++k) extended.x87(i, k) = static_cast<std::uint8_t>(random());
    extended.x87(i, 7) |= 0x80;
    extended.x87(i, 8) = static_cast<std::uint8_t>(0xf8 + random() % 7);
    extended.x87(i, 9) = 0x3f;
  }
  extended.area[0] = 0x7f;  // control word: all exceptions masked, full precision
  extended.area[1] = 3;
  extended.area[2] = 0;  // status word: the top is register 4
  extended.area[3] = 4 << 3;
  extended.area[4] = 0xf0;  // registers 4 to 7 hold something
  extended.mxcsr() = 0x1f80;
}

/// Small indices for a gather or scatter.
bool place_elements(const isa::MemoryRecipe& recipe, std::mt19937_64& random, Machine& machine) {
  for (unsigned k = 0; k < recipe.index.width / 8U; ++k)
    machine.extended.vector(recipe.index.index, k) = k % 4 == 0 ? static_cast<std::uint8_t>(random()) : 0;
  machine.registers[reg_of(recipe.base)] = kMiddle - static_cast<std::uint64_t>(recipe.displacement);
  return true;
}

/// A random state in which the instruction's memory lies in the data region; false when that cannot be arranged.
bool prepare(const Instruction& instruction, std::mt19937_64& random, Machine& machine) {
  for (std::size_t i = 0; i < 16; ++i) machine.registers.values[i] = random() >> (random() % 64);
  machine.registers[Reg::rip] = kCode;
  machine.registers[Reg::rflags] = 0x202 | (random() & kStatusFlags & ~kDirection);
  machine.registers[Reg::rsp] = kMiddle;
  fill_extended(random, machine.extended);
  machine.data.resize(kDataSize);
  for (std::size_t i = 0; i < kDataSize; i += 8) {
    const std::uint64_t word = random();
    std::memcpy(machine.data.data() + i, &word, 8);
  }
  if (isa::is_repeated(instruction)) machine.registers[Reg::rcx] = random() % 20;
  for (const isa::Operand& operand : isa::operands_of(instruction)) {
    if (operand.kind != isa::Operand::Kind::memory) continue;
    const isa::MemoryRecipe& recipe = operand.memory;
    if (!recipe.base || recipe.is_ip_relative() || recipe.address_size != 8) return false;
    if (recipe.index.file == isa::RegisterFile::vector) return place_elements(recipe, random, machine);
    if (recipe.segment.index == isa::kFs || recipe.segment.index == isa::kGs) return false;
    const Reg base = reg_of(recipe.base);
    if (recipe.bit_number) machine.registers[reg_of(recipe.bit_number)] = random() % 2000 - 1000;
    if (recipe.index && (reg_of(recipe.index) == base || recipe.index.width == 64)) {
      if (reg_of(recipe.index) == base) return false;
      machine.registers[reg_of(recipe.index)] = random() % 1000;
    }
    if (recipe.bit_number && reg_of(recipe.bit_number) == base) return false;
    const std::uint64_t index = recipe.index ? value_of(machine.registers, recipe.index) * recipe.scale : 0;
    machine.registers[base] = kMiddle - index - static_cast<std::uint64_t>(recipe.displacement);
    if (base == Reg::rsp && machine.registers[base] % 16 != 0) return false;
  }
  return true;
}

/// Registers as the bits that the table lets change.
struct Allowed {
  std::array<std::uint64_t, state::kRegCount> general{};
  std::array<std::array<bool, 64>, 32> vector{};  ///< bytes that may change
  std::array<bool, 8> mask{};
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

/// The floating-point unit: nothing of it changes without a word of the table; its stack moves as the table says.
void expect_x87(const Instruction& instruction, Machine& before, Machine& after, const std::string& what) {
  const isa::Effects effects = isa::effects_of(instruction);
  const std::uint32_t traits = isa::row_of(instruction).traits;
  // Instructions with mmx registers change the unit's words even where they only read.
  const isa::Operands operands = isa::operands_of(instruction);
  const bool mmx = std::any_of(operands.begin(), operands.end(),
                               [](const isa::Operand& o) { return o.reg.file == isa::RegisterFile::mmx; });
  if (!effects.touches_x87 && !mmx) {
    EXPECT_TRUE(std::equal(before.extended.area.begin(), before.extended.area.begin() + 6, after.extended.area.begin()))
        << what << " changed the floating-point unit's words";
    for (unsigned i = 0; i < 8; ++i) {
      for (unsigned k = 0; k < 10; ++k)
        EXPECT_EQ(before.extended.x87(i, k), after.extended.x87(i, k)) << what << " st" << i;
    }
    return;
  }
  const std::string_view name = isa::mnemonic_of(isa::row_of(instruction));
  static const std::set<std::string_view> kMoveTheTop = {"fincstp", "fdecstp", "fninit", "emms"};
  if (mmx || (traits & isa::kX87State) != 0 || kMoveTheTop.count(name) != 0) return;
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
  const isa::FlagUse& use = isa::operation_of(isa::row_of(instruction)).flags;
  EXPECT_EQ(after.registers[Reg::rflags] & use.cleared, 0U) << what << " left flags that it clears";
  EXPECT_EQ(after.registers[Reg::rflags] & use.set, use.set & kStatusFlags) << what << " left flags that it sets";
  expect_extended(instruction, allowed, before, after, what);
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

TEST(Processor, ChangesOnlyWhatTheTableCallsWritten) {
  Laboratory laboratory;
  std::mt19937_64 random(11);
  std::set<std::uint16_t> proved;
  std::map<std::string, std::pair<int, int>> features;  // rows, proved rows
  for (const auto& [row, codes] : samples_of_all_rows(12)) {
    const isa::Row& entry = isa::rows()[row];
    const std::string name(isa::mnemonic_of(entry));
    // The segment bases are not part of the effects yet; popf can switch single-stepping itself off; the kernel
    // carries out the last five in the processor's place, without a stop behind them (user-mode instruction
    // prevention); xtest does nothing on processors without transactions.
    static const std::set<std::string> kLeftOut = {"popf", "popfw", "wrfsbase", "wrgsbase", "sldt",   "str",
                                                   "sgdt", "sidt",  "smsw",     "xtest",    "vmgexit"};
    if ((entry.traits & isa::kPrivileged) != 0 || kLeftOut.count(name) != 0) continue;
    for (const Code& code : codes) {
      const Instruction instruction = isa::decode(code, isa::Mode::bits64);
      if (isa::flow_of(instruction) != isa::ControlFlow::next) continue;
      Machine before, after;
      before.extended = laboratory.initial();
      if (!prepare(instruction, random, before) || !laboratory.execute(code, before, after)) continue;
      // Repeated instructions, gathers and scatters may be interrupted on the way, and go on later.
      const bool goes_on = isa::is_repeated(instruction) || !state::touched_by(instruction, before.registers).complete;
      if (after.registers[Reg::rip] == before.registers[Reg::rip] && goes_on) continue;
      const isa::Text text = isa::text_of(instruction, 0, isa::Syntax::intel);
      EXPECT_EQ(after.registers[Reg::rip] - kCode, instruction.length) << text.view();
      expect_only_allowed(instruction, before, after, std::string(text.view()));
      proved.insert(row);
    }
  }
  for (std::size_t row = 0; row < isa::rows().size(); ++row) {
    auto& [all, done] = features[std::string(isa::feature_of(isa::rows()[row]))];
    ++all;
    done += static_cast<int>(proved.count(static_cast<std::uint16_t>(row)));
  }
  for (const auto& [name, counts] : features) std::printf("%s %d/%d  ", name.c_str(), counts.second, counts.first);
  std::printf("\n%zu of %zu rows executed\n", proved.size(), isa::rows().size());
  EXPECT_GT(proved.size(), Extended::has_avx512() ? 1850U : 1000U);
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
      if (whole == 0) continue;  // not on this processor
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
