// The processor as a judge: a child process in which one instruction at a time runs from any state, in 64-bit and in
// 32-bit mode.
#pragma once

#include <cpuid.h>
#include <elf.h>
#include <gtest/gtest.h>
#include <sys/mman.h>
#include <sys/ptrace.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <csignal>
#include <cstring>
#include <random>
#include <set>
#include <string>
#include <vector>

#include "isa/operand.h"
#include "isa/text.h"
#include "samples.h"
#include "state/touched.h"

namespace deeptrace::tests {

using isa::Instruction;
using state::Reg;
using state::reg_of;
using state::RegisterSet;
using state::value_of;

constexpr std::uint64_t kCode = 0x10000000, kData = 0x20000000, kDataSize = 0x4000, kMiddle = kData + kDataSize / 2;
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

  bool may_have_tiles = false;  ///< the kernel lets the laboratory use them
  bool has_tiles = false;       ///< they are to be loaded; 0 else

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
  /// Palette and shapes of the tiles (Intel SDM volume 1, 18.3), and byte `k` of a tile.
  std::uint8_t& tile_shapes(unsigned k) {
    static const std::size_t kOffset = offset_of(17);
    return area[kOffset + k];
  }
  std::uint8_t& tile(unsigned index, unsigned k) {
    static const std::size_t kOffset = offset_of(18);
    return area[kOffset + 1024 * index + k];
  }
  std::uint8_t& x87(unsigned index, unsigned k) { return area[32 + 16 * index + k]; }
  /// Which physical register is st(0) (Intel SDM volume 1, 8.1.2); those of mmx have its numbers.
  [[nodiscard]] unsigned top() const { return area[3] >> 3 & 7; }
  std::uint32_t& mxcsr() { return *reinterpret_cast<std::uint32_t*>(area.data() + 24); }
};

struct Machine {
  RegisterSet registers;
  Extended extended;
  std::vector<std::uint8_t> data;
  isa::Mode mode = isa::Mode::bits64;
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
      use_tiles();
      ::ptrace(PTRACE_TRACEME, 0, nullptr, nullptr);
      ::raise(SIGSTOP);
      ::_exit(0);
    }
    int status = 0;
    ::waitpid(child_, &status, 0);
    ::ptrace(PTRACE_SETOPTIONS, child_, nullptr, PTRACE_O_EXITKILL);
    ::ptrace(PTRACE_GETREGS, child_, nullptr, &raw_);
    extended_.area.resize(std::size_t(1) << 16);  // as much as the kernel has: 11,008 bytes with AMX
    iovec vector{extended_.area.data(), extended_.area.size()};
    ::ptrace(PTRACE_GETREGSET, child_, NT_X86_XSTATE, &vector);
    extended_.area.resize(vector.iov_len);
    extended_.may_have_tiles = Extended::offset_of(18) != 0 && load(extended_, kTileComponents);
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
    load(extended, before.extended.has_tiles ? kTileComponents : 0);
    signal_ = step();
    if (signal_ != SIGTRAP) return false;
    user_regs_struct r{};
    ::ptrace(PTRACE_GETREGS, child_, nullptr, &r);
    after.registers.values = {r.rax, r.rbx, r.rcx, r.rdx, r.rsi, r.rdi, r.rbp,     r.rsp,    r.r8,
                              r.r9,  r.r10, r.r11, r.r12, r.r13, r.r14, r.r15,     r.rip,    r.eflags,
                              r.cs,  r.ss,  r.ds,  r.es,  r.fs,  r.gs,  r.fs_base, r.gs_base};
    after.mode = before.mode;
    after.extended = extended;
    iovec vector{after.extended.area.data(), after.extended.area.size()};
    ::ptrace(PTRACE_GETREGSET, child_, NT_X86_XSTATE, &vector);
    after.data.resize(kDataSize);
    iovec local{after.data.data(), kDataSize}, remote{reinterpret_cast<void*>(kData), kDataSize};
    return ::process_vm_readv(child_, &local, 1, &remote, 1, 0) == static_cast<ssize_t>(kDataSize);
  }

  /// The signal that the last instruction ended with; SIGILL also for those that this processor does not have.
  [[nodiscard]] int signal() const { return signal_; }

  /// What the processor makes of bytes at the very end of a page that no other follows: their length, 0 when it
  /// refuses them, or more than there are when it wants to see the next byte.
  unsigned fetch(std::span<const std::uint8_t> bytes, isa::Mode mode = isa::Mode::bits64) {
    const std::uint64_t start = kCode + 4096 - bytes.size();
    put(start, {bytes.begin(), bytes.end()});
    RegisterSet registers;
    for (std::size_t i = 0; i < 16; ++i) registers.values[i] = kMiddle;
    registers[Reg::rip] = start;
    registers[Reg::rflags] = 0x202;
    load({registers, {}, {}, mode});
    const int signal = step();
    siginfo_t info{};
    ::ptrace(PTRACE_GETSIGINFO, child_, nullptr, &info);
    if (signal == SIGSEGV && info.si_addr == reinterpret_cast<void*>(kCode + 4096)) return 16;
    return signal == SIGILL ? 0 : 1;
  }

 private:
  static constexpr std::uint64_t kTileComponents = 0x60000;

  /// In the child: asks the kernel for the tiles (Documentation/arch/x86/xstate.rst), and touches them, which gives the
  /// child the room to keep them.
  static void use_tiles() {
    constexpr long kRequestPermission = 0x1023, kTileData = 18;
    if (Extended::offset_of(18) == 0 || ::syscall(SYS_arch_prctl, kRequestPermission, kTileData) != 0) return;
    alignas(64) static std::uint8_t shapes[64] = {1};  // palette 1
    shapes[16] = 64;                                   // tmm0: bytes of a row
    shapes[48] = 16;                                   // and rows
    // ldtilecfg [rax]; tilezero tmm0; tilerelease
    __asm__ volatile(
        ".byte 0xc4, 0xe2, 0x78, 0x49, 0x00, 0xc4, 0xe2, 0x7b, 0x49, 0xc0, 0xc4, 0xe2, 0x78, 0x49, 0xc0" ::"a"(shapes)
        : "memory");
  }

  /// Loads the extended state; the components that every processor of its kind has, and others.
  bool load(Extended& extended, std::uint64_t others) {
    const std::uint64_t components = (Extended::has_avx512() ? 0xe7 : 7) | others;
    std::memcpy(extended.area.data() + 512, &components, 8);
    iovec vector{extended.area.data(), extended.area.size()};
    return ::ptrace(PTRACE_SETREGSET, child_, NT_X86_XSTATE, &vector) == 0;
  }

  void load(const Machine& machine) {
    user_regs_struct r = raw_;
    const RegisterSet& from = machine.registers;
    r.rax = from[Reg::rax], r.rbx = from[Reg::rbx], r.rcx = from[Reg::rcx], r.rdx = from[Reg::rdx];
    r.rsi = from[Reg::rsi], r.rdi = from[Reg::rdi], r.rbp = from[Reg::rbp], r.rsp = from[Reg::rsp];
    r.r8 = from[Reg::r8], r.r9 = from[Reg::r9], r.r10 = from[Reg::r10], r.r11 = from[Reg::r11];
    r.r12 = from[Reg::r12], r.r13 = from[Reg::r13], r.r14 = from[Reg::r14], r.r15 = from[Reg::r15];
    r.rip = from[Reg::rip], r.eflags = from[Reg::rflags], r.orig_rax = ~0ULL;
    // The code segment decides the mode; the selectors are those that Linux gives its programs.
    r.cs = machine.mode == isa::Mode::bits64 ? 0x33 : 0x23;
    r.ss = r.ds = r.es = 0x2b;
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
  int signal_ = 0;
  user_regs_struct raw_{};
  Extended extended_;
};

inline void fill_extended(std::mt19937_64& random, Extended& extended) {
  const bool wide = Extended::has_avx512();
  for (unsigned i = 0; i < (wide ? 32U : 16U); ++i) {
    for (unsigned k = 0; k < (wide ? 64U : 32U); ++k) extended.vector(i, k) = static_cast<std::uint8_t>(random());
  }
  for (unsigned i = 0; i < 8; ++i) {
    for (unsigned k = 0; wide && k < 8; ++k) extended.mask(i, k) = static_cast<std::uint8_t>(random());
    // Numbers of moderate size, and few on the stack, so that pushes and pops succeed.
    for (unsigned k = 0; k < 8; ++k) extended.x87(i, k) = static_cast<std::uint8_t>(random());
    extended.x87(i, 7) |= 0x80;
    const auto exponent = static_cast<unsigned>(0x3ff8 + random() % 12 + (random() % 2 << 15));
    extended.x87(i, 8) = static_cast<std::uint8_t>(exponent);
    extended.x87(i, 9) = static_cast<std::uint8_t>(exponent >> 8);
  }
  extended.area[0] = 0x7f;  // control word: all exceptions masked, full precision
  extended.area[1] = 3;
  extended.area[2] = 0;  // status word: the top is register 4
  extended.area[3] = 4 << 3;
  extended.area[4] = 0xf0;  // registers 4 to 7 hold something
  extended.mxcsr() = 0x1f80;
}

/// Random shapes and contents of all tiles. Bytes beyond the shapes are 0, as the processor has it.
inline void fill_tiles(std::mt19937_64& random, Extended& extended) {
  extended.has_tiles = true;
  for (unsigned k = 0; k < 64; ++k) extended.tile_shapes(k) = 0;
  extended.tile_shapes(0) = 1;
  const unsigned rows = random() % 4 != 0 ? 16 : 1 + static_cast<unsigned>(random() % 16);  // products want them to fit
  for (unsigned i = 0; i < 8; ++i) {
    extended.tile_shapes(16 + 2 * i) = 64;  // bytes of a row
    extended.tile_shapes(48 + i) = static_cast<std::uint8_t>(rows);
    for (unsigned k = 0; k < 1024; k += 8) {
      const std::uint64_t word = k / 64 < extended.tile_shapes(48 + i) ? random() & 0x3f3f3f3f3f3f3f3f : 0;
      std::memcpy(&extended.tile(i, k), &word, 8);
    }
  }
}

/// An instruction as complaints name it: by its row, which corrupt_effects.py looks for, and its text.
inline std::string named(const Instruction& instruction) {
  return "row " + std::to_string(instruction.row) + ": " +
         std::string(isa::text_of(instruction, 0, isa::Syntax::intel).view());
}

/// Leaves the rows that a test tried in its report.
inline void record(const std::set<std::uint16_t>& rows) {
  std::string numbers;
  for (const std::uint16_t row : rows) numbers += std::to_string(row) + " ";
  ::testing::Test::RecordProperty("rows_tried", numbers);
}

/// Small indices of 32 or of 64 bits for a gather or scatter.
inline bool place_elements(const isa::MemoryRecipe& recipe, std::mt19937_64& random, Machine& machine) {
  for (unsigned k = 0; k < recipe.index.width / 8U; ++k)
    machine.extended.vector(recipe.index.index, k) = k % 8 == 0 ? static_cast<std::uint8_t>(random()) : 0;
  machine.registers[reg_of(recipe.base)] = kMiddle - static_cast<std::uint64_t>(recipe.displacement);
  return true;
}

/// The registers as far as the mode has them.
inline std::uint64_t in_mode(std::uint64_t value, isa::Mode mode) {
  return mode == isa::Mode::bits64 ? value : value & 0xffffffff;
}

/// A random state in which the instruction's memory lies in the data region; false when that cannot be arranged.
inline bool prepare(const Instruction& instruction, std::mt19937_64& random, Machine& machine) {
  machine.mode = instruction.mode();
  for (std::size_t i = 0; i < 16; ++i) machine.registers.values[i] = in_mode(random() >> (random() % 64), machine.mode);
  machine.registers[Reg::rip] = kCode;
  machine.registers[Reg::rflags] = 0x202 | (random() & kStatusFlags & ~kDirection);
  machine.registers[Reg::rsp] = kMiddle;
  machine.registers[Reg::ds] = machine.registers[Reg::es] = machine.registers[Reg::ss] = 0x2b;
  machine.registers[Reg::cs] = machine.mode == isa::Mode::bits64 ? 0x33 : 0x23;
  fill_extended(random, machine.extended);
  const bool tiles = isa::feature_of(isa::row_of(instruction)).starts_with("amx");
  machine.extended.has_tiles = false;
  if (tiles && !machine.extended.may_have_tiles) return false;
  if (tiles) fill_tiles(random, machine.extended);
  machine.data.resize(kDataSize);
  for (std::size_t i = 0; i < kDataSize; i += 8) {
    const std::uint64_t word = random() >> (random() % 4 * 16);
    std::memcpy(machine.data.data() + i, &word, 8);
  }
  if (isa::is_repeated(instruction)) machine.registers[Reg::rcx] = random() % 20;
  std::set<Reg> placed;
  for (const isa::Operand& operand : isa::operands_of(instruction)) {
    if (operand.kind != isa::Operand::Kind::memory) continue;
    const isa::MemoryRecipe recipe = operand.memory();
    if (!recipe.base || recipe.is_ip_relative() || recipe.address_size == 2) return false;
    if (recipe.index.file == isa::RegisterFile::vector) {
      if (recipe.address_size != 8) return false;
      return place_elements(recipe, random, machine);
    }
    if (recipe.segment.index == isa::kFs || recipe.segment.index == isa::kGs) return false;
    const Reg base = reg_of(recipe.base);
    if (recipe.bit_number) machine.registers[reg_of(recipe.bit_number)] = in_mode(random() % 2000 - 1000, machine.mode);
    if (recipe.index && (reg_of(recipe.index) == base || recipe.index.width >= 32)) {
      if (reg_of(recipe.index) == base) return false;
      machine.registers[reg_of(recipe.index)] = random() % (tiles ? 64 : 1000);  // of tiles, from row to row
    }
    if (recipe.bit_number && reg_of(recipe.bit_number) == base) return false;
    const std::uint64_t index = recipe.index ? value_of(machine.registers, recipe.index) * recipe.scale : 0;
    // The frame pointer's slots lie apart from those of the stack pointer, a string's source from its destination, and
    // what a register points to from the memory that ModRM tells.
    const bool slots = operand.stack_slot && base == Reg::rbp, source = base == Reg::rsi && instruction.modrm_at == 0;
    const bool pointed = operand.hidden && !operand.stack_slot && instruction.modrm_at != 0 && base != Reg::rsp;
    const std::uint64_t apart = slots || source || pointed ? 0x1000 : 0;
    if (pointed && !placed.insert(base).second) return false;
    if (!operand.stack_slot) placed.insert(base);
    const std::uint64_t at = kMiddle + apart - index - static_cast<std::uint64_t>(recipe.displacement);
    machine.registers[base] = recipe.base.width == 32 ? at & 0xffffffff : at;
    if (base == Reg::rsp && machine.registers[base] % 16 != 0) return false;
  }
  // Most chance bytes are no shapes of tiles.
  if (isa::mnemonic_of(isa::row_of(instruction)) == "ldtilecfg")
    std::memcpy(&machine.data[kMiddle - kData], &machine.extended.tile_shapes(0), 64);
  return true;
}

}  // namespace deeptrace::tests
