// What is said of the next instruction before it is executed: made-up threads, values by hand and by the manual.
#include "look/foresight.h"

#include <gtest/gtest.h>

#include "fake_state.h"
#include "isa/comparison.h"
#include "look/kernel_writes.h"
#include "program/program.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using isa::Mode;
using state::Reg;

/// A thread that stands at code of its own, in a program that is mapped elsewhere.
class Thread {
 public:
  explicit Thread(Mode mode = Mode::bits64) : target_(mode), modules_(modules_of(target_, mode)) {
    set(Reg::rip, 0x9000).set(Reg::rsp, 0x7000).set(Reg::rflags, 0x202);
    target_.thread.put(0x7000, std::vector<std::uint8_t>(64));
    target_.thread.put(0x6fc0, std::vector<std::uint8_t>(64));
    target_.thread.put(0x8000, {0xfb, 0xff, 0xff, 0xff, 1, 2, 3, 4, 0, 0, 0, 0, 0, 0, 0, 0});
  }
  Thread& set(Reg reg, std::uint64_t value) {
    target_.thread.set[reg] = value;
    return *this;
  }
  look::Foresight at(const std::vector<std::uint8_t>& code) {
    target_.thread.put(0x9000, code);
    return look::what_comes(target_, 1, modules_);
  }
  /// "rax=5 [0x7ff8]=7"
  std::string results(const std::vector<std::uint8_t>& code) {
    std::string text;
    for (const auto& one : at(code).results) {
      char value[40];
      std::snprintf(value, sizeof value, "=%llx", static_cast<unsigned long long>(one.value));
      text += (text.empty() ? "" : " ") + one.text + value;
    }
    return text;
  }

 private:
  static look::Modules modules_of(FakeTarget& target, Mode mode) {
    const std::string path = demo(mode == Mode::bits64 ? "tidelog" : "gauge32");
    auto program = program::Program::open(path, {});
    const std::uint64_t bias = program->elf().kind() == binary::Kind::executable ? 0 : 0x100000;
    const std::uint64_t entry = program->elf().entry() + bias;
    target.auxiliaries[state::Auxiliary::entry] = entry;
    target.mapped = {{.from = entry & ~0xfffULL, .to = (entry & ~0xfffULL) + 0x1000, .executable = true, .path = path}};
    return {target, std::move(*program), {}};
  }

  FakeTarget target_;
  look::Modules modules_;
};

TEST(Foresight, SaysWhatRegistersAndMemoryWillHold) {
  Thread thread;
  thread.set(Reg::rax, 0xfffffffffffffffe).set(Reg::rcx, 3).set(Reg::rbx, 0x8000);
  struct Case {
    std::vector<std::uint8_t> code;
    const char* results;
  };
  for (const Case& one : {
           Case{{0x48, 0x01, 0xc8}, "rax=1"},                   // add rax, rcx
           {{0x01, 0xc8}, "eax=1"},                             // add eax, ecx: clears the upper half
           {{0xb0, 0x07}, "al=7"},                              // mov al, 7: keeps the rest
           {{0x48, 0x63, 0x03}, "rax=fffffffffffffffb"},        // movsxd rax, dword ptr [rbx]
           {{0x8b, 0x03}, "eax=fffffffb"},                      // mov eax, dword ptr [rbx]
           {{0x0f, 0xb7, 0x43, 0x04}, "eax=201"},               // movzx eax, word ptr [rbx+4]
           {{0x48, 0x8d, 0x44, 0x8b, 0x10}, "rax=801c"},        // lea rax, [rbx+rcx*4+16]
           {{0x51}, "rsp=6ff8 [0x6ff8]=3"},                     // push rcx
           {{0x58}, "rax=0 rsp=7008"},                          // pop rax
           {{0x89, 0x4b, 0x08}, "[0x8008]=3"},                  // mov dword ptr [rbx+8], ecx
           {{0x48, 0x87, 0xc1}, "rax=3 rcx=fffffffffffffffe"},  // xchg rcx, rax
           {{0x48, 0xf7, 0xd8}, "rax=2"},                       // neg rax
           {{0x48, 0xd1, 0xf8}, "rax=ffffffffffffffff"},        // sar rax, 1
           {{0x48, 0x0f, 0xaf, 0xc1}, "rax=fffffffffffffffa"},  // imul rax, rcx
           {{0x90}, ""},                                        // nop
           {{0x48, 0x89, 0xc0}, ""},                            // mov rax, rax: it holds that already
       }) {
    EXPECT_EQ(thread.results(one.code), one.results) << thread.at(one.code).sentence;
  }
}

TEST(Foresight, Has32BitNamesIn32BitCode) {
  Thread thread(Mode::bits32);
  thread.set(Reg::rax, 0xffffffff).set(Reg::rbx, 0x8000);
  EXPECT_EQ(thread.results({0x40}), "eax=0");                   // inc eax
  EXPECT_EQ(thread.results({0x53}), "esp=6ffc [0x6ffc]=8000");  // push ebx
  EXPECT_EQ(thread.results({0x8b, 0x03}), "eax=fffffffb");      // mov eax, dword ptr [ebx]
  const look::Foresight gate = thread.set(Reg::rax, 4).at({0xcd, 0x80});
  EXPECT_EQ(gate.verdict, "asks the kernel for write");
}

TEST(Foresight, SaysWhereControlGoes) {
  Thread thread;
  thread.set(Reg::rax, 0x101234);
  EXPECT_EQ(thread.at({0xe8, 0xfb, 0x0f, 0x00, 0x00}).verdict, "calls 0xa000, where no memory is: it will fault");
  EXPECT_EQ(thread.at({0xeb, 0x00, 0x90}).verdict, "goes to 0x9002");
  EXPECT_TRUE(thread.at({0xc3}).verdict.starts_with("returns to ")) << thread.at({0xc3}).verdict;
  EXPECT_TRUE(thread.at({0xff, 0xd0}).verdict.starts_with("calls ")) << thread.at({0xff, 0xd0}).verdict;
  EXPECT_EQ(thread.set(Reg::rax, 39).at({0x0f, 0x05}).verdict, "asks the kernel for getpid");
  EXPECT_EQ(thread.set(Reg::rax, 99999).at({0x0f, 0x05}).verdict,
            "asks the kernel for system call 99999, which is not known");
}

/// Each condition with its flags set and clear (Intel SDM volume 1, appendix B).
TEST(Foresight, SaysWhetherAJumpWillBeTakenAndWhy) {
  struct Case {
    std::uint8_t code;
    std::uint64_t flags;
    bool taken;
    const char* why;
  };
  for (const Case& one : {
           Case{0x74, 0x40, true, "ZF is set"},
           {0x74, 0, false, "ZF is clear"},
           {0x75, 0x40, false, "ZF is set"},
           {0x72, 1, true, "CF is set"},
           {0x77, 0, true, "CF is clear, ZF is clear"},
           {0x77, 0x40, false, "CF is clear, ZF is set"},
           {0x7c, 0x80, true, "SF is set, OF is clear"},
           {0x7c, 0x880, false, "SF is set, OF is set"},
           {0x7f, 0, true, "ZF is clear, SF is clear, OF is clear"},
           {0x7e, 0x40, true, "ZF is set"},
           {0x78, 0x80, true, "SF is set"},
           {0x70, 0x800, true, "OF is set"},
           {0x7b, 4, false, "PF is set"},
       }) {
    Thread thread;
    thread.set(Reg::rflags, 0x202 | one.flags);
    const std::string verdict = thread.at({one.code, 0x10}).verdict;
    EXPECT_NE(verdict.find(one.taken ? "the jump to 0x9012 will be taken" : "the jump to 0x9012 will not be taken"),
              std::string::npos)
        << verdict;
    EXPECT_NE(verdict.find(one.why), std::string::npos) << verdict;
  }
}

/// A comparison says how it comes out, and what the jump after it will do.
TEST(Foresight, ReadsAComparisonWithTheJumpAfterIt) {
  Thread thread;
  thread.set(Reg::rax, 2).set(Reg::rcx, 0xfffffffb);
  // cmp eax, 5; jl +4
  EXPECT_NE(thread.at({0x83, 0xf8, 0x05, 0x7c, 0x04}).verdict.find("2 is less than 5, signed, so"), std::string::npos);
  EXPECT_TRUE(thread.at({0x83, 0xf8, 0x05, 0x7c, 0x04}).verdict.ends_with("the jump to 0x9009 will be taken"));
  // cmp ecx, eax; ja: unsigned, 0xfffffffb is the greater; jg: signed, -5 is not.
  EXPECT_TRUE(thread.at({0x39, 0xc1, 0x77, 0x04}).verdict.ends_with("the jump to 0x9008 will be taken"));
  EXPECT_TRUE(thread.at({0x39, 0xc1, 0x7f, 0x04}).verdict.ends_with("the jump to 0x9008 will not be taken"));
  // Another comparison in between decides.
  EXPECT_EQ(thread.at({0x39, 0xc1, 0x39, 0xc0, 0x74, 0x04}).verdict, "");
}

TEST(Foresight, SaysWhatWillFault) {
  Thread thread;
  thread.set(Reg::rax, 7).set(Reg::rdx, 0).set(Reg::rcx, 0).set(Reg::rbx, 0x123456);
  EXPECT_EQ(thread.at({0xf7, 0xf9}).verdict, "will fault: division by zero");
  EXPECT_EQ(thread.at({0x8b, 0x03}).verdict, "will fault: memory at 0x123456 cannot be read");
  EXPECT_EQ(thread.at({0x89, 0x03}).verdict, "will fault: memory at 0x123456 cannot be written");
  EXPECT_EQ(thread.at({0x06}).verdict, "will fault: the bytes here are no instruction, or cannot be read");
  EXPECT_EQ(thread.set(Reg::rcx, 2).at({0xf7, 0xf9}).verdict, "the quotient 3 fits 32 bits") << "7 / 2";
}

/// The dividend is not in the text of a division: it is shown with its value, at its width and with its sign.
TEST(Foresight, ShowsTheDividendAndWhetherTheQuotientFits) {
  struct Case {
    std::vector<std::uint8_t> code;
    std::uint64_t rax, rdx, rcx;
    const char* dividend;
    std::optional<std::uint64_t> value;
    const char* verdict;
  };
  const std::uint64_t minus_one = ~std::uint64_t(0);
  for (const Case& one : {
           Case{{0xf6, 0xf1}, 1800, 0, 4, "ax", 1800, "will fault: the quotient 450 does not fit 8 bits"},  // div cl
           {{0xf6, 0xf1}, 184, 0, 4, "ax", 184, "the quotient 46 fits 8 bits"},
           {{0xf6, 0xf9}, 0xfb50, 0, 10, "ax", 0xfb50, "the quotient -120 fits 8 bits"},  // idiv cl
           {{0x66, 0xf7, 0xf9}, 0xfb50, 0xffff, 7, "dx:ax", 0xfffffb50, "the quotient -171 fits 16 bits"},
           {{0xf7, 0xf1}, 5, 1, 1, "edx:eax", 0x100000005, "will fault: the quotient 4294967301 does not fit 32 bits"},
           {{0x48, 0xf7, 0xf9}, minus_one - 8, minus_one, 3, "rdx:rax", std::nullopt, "the quotient -3 fits 64 bits"},
           {{0x48, 0xf7, 0xf9},
            std::uint64_t(1) << 63,
            minus_one,
            minus_one,
            "rdx:rax",
            std::nullopt,
            "will fault: the quotient does not fit 64 bits"},
           {{0xf7, 0xf9},
            0x80000000,
            0xffffffff,
            0xffffffff,
            "edx:eax",
            0xffffffff80000000,
            "will fault: the quotient 2147483648 does not fit 32 bits"},
       }) {
    Thread thread;
    thread.set(Reg::rax, one.rax).set(Reg::rdx, one.rdx).set(Reg::rcx, one.rcx);
    const look::Foresight next = thread.at(one.code);
    ASSERT_FALSE(next.operands.empty());
    EXPECT_EQ(next.operands[0].text, one.dividend);
    EXPECT_EQ(next.operands[0].value, one.value) << one.verdict;
    EXPECT_EQ(next.verdict, one.verdict);
  }
}

/// At the jump itself: what the comparison before it found, as long as the flags are those that it left.
TEST(Foresight, SaysWhyAJumpGoesWhereItGoes) {
  Thread thread;
  thread.set(Reg::rcx, 3).set(Reg::rflags, 0x293);  // SF AF CF: 3 minus 6
  EXPECT_EQ(
      isa::decision_words(12, true, isa::decode(std::vector<std::uint8_t>{0x83, 0xf9, 0x06}, Mode::bits64), {3, 6, 0}),
      "3 is less than 6, signed");
  EXPECT_EQ(
      isa::decision_words(13, false, isa::decode(std::vector<std::uint8_t>{0x83, 0xf9, 0x06}, Mode::bits64), {3, 6, 0}),
      "3 is less than 6, signed")
      << "jge does not jump";
  EXPECT_EQ(isa::decision_words(2, true, isa::decode(std::vector<std::uint8_t>{0x80, 0xf9, 0xfa}, Mode::bits64),
                                {3, 0xfffffffffffffffa, 0}),
            "3 is below 250, unsigned");
  EXPECT_EQ(isa::decision_words(4, false, isa::decode(std::vector<std::uint8_t>{0x85, 0xc9}, Mode::bits64), {8, 8, 0}),
            "8 is not 0")
      << "test ecx, ecx";
  EXPECT_EQ(isa::decision_words(5, true, isa::decode(std::vector<std::uint8_t>{0xff, 0xc9}, Mode::bits64), {0, 0, 2}),
            "the result 2 is not 0")
      << "dec ecx";
}

/// read(0, 0x5000, 8) gives back how much it wrote; pipe(0x6000) writes two numbers of 4 bytes, or nothing changed.
TEST(KernelWrites, AreAsLongAsTheCallSays) {
  FakeState state;
  state.set[Reg::rsi] = 0x5000;
  state.set[Reg::rdx] = 8;
  state.put(0x5000, std::vector<std::uint8_t>(8, 1));
  const abi::SystemCall* read = abi::system_call(std::string_view("read"), abi::CallTable::x86_64);
  ASSERT_NE(read, nullptr);
  const auto writes = look::KernelWrites::before(*read, state, 4096);
  state.put(0x5000, {7, 8, 9, 1, 1, 1, 1, 1});
  state::Delta delta;
  writes.add_changes(state, 3, delta);
  ASSERT_EQ(delta.memory.size(), 1U);
  EXPECT_EQ(delta.memory[0].address, 0x5000U);
  EXPECT_EQ(delta.memory[0].size, 3U);
  EXPECT_EQ(delta.before(delta.memory[0])[2], 1);
  EXPECT_EQ(delta.after(delta.memory[0])[2], 9);
  for (const std::uint64_t nothing :
       {std::uint64_t(0), static_cast<std::uint64_t>(-4), static_cast<std::uint64_t>(-512)}) {
    state::Delta none;
    writes.add_changes(state, nothing, none);
    EXPECT_TRUE(none.memory.empty()) << nothing;
  }
  // More than is kept, no address, and memory that cannot be read.
  EXPECT_EQ((look::KernelWrites::before(*read, state, 7).add_changes(state, 3, delta), delta.memory.size()), 1U);
  state.set[Reg::rsi] = 0;
  EXPECT_EQ((look::KernelWrites::before(*read, state, 4096).add_changes(state, 3, delta), delta.memory.size()), 1U);
  state.set[Reg::rdi] = 0x6000;
  state.put(0x6000, std::vector<std::uint8_t>(8, 0));
  const abi::SystemCall* pipe = abi::system_call(std::string_view("pipe"), abi::CallTable::x86_64);
  ASSERT_NE(pipe, nullptr);
  const auto numbers = look::KernelWrites::before(*pipe, state, 4096);
  state::Delta same, changed;
  numbers.add_changes(state, 0, same);
  EXPECT_TRUE(same.memory.empty());
  state.put(0x6000, {3, 0, 0, 0, 4, 0, 0, 0});
  numbers.add_changes(state, 0, changed);
  ASSERT_EQ(changed.memory.size(), 1U);
  EXPECT_EQ(changed.memory[0].size, 8U);
}

}  // namespace
}  // namespace deeptrace::tests
