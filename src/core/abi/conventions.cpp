#include "abi/conventions.h"

#include <algorithm>
#include <cctype>

namespace deeptrace::abi {
namespace {

using arch::Mode;

constexpr std::string_view kKept32 = "ebx esi edi ebp";
constexpr std::string_view kStructure32 =
    "a structure's result is written where a hidden first argument says; that address comes back in eax, and the "
    "callee "
    "takes it off the stack";

constexpr Convention kConventions[] = {
    {.name = "system-v-64",
     .also = "sysv64 sysv_abi system-v amd64",
     .title = "functions of 64-bit programs on Linux and its relatives",
     .integers = "rdi rsi rdx rcx r8 r9",
     .floats = "xmm0 xmm1 xmm2 xmm3 xmm4 xmm5 xmm6 xmm7",
     .result = "rax rdx",
     .float_result = "xmm0 xmm1",
     .vectors = "al",
     .kept = "rbx rbp r12 r13 r14 r15",
     .red_zone = 128,
     .code = 0xc2,
     .remarks =
         {"structures of up to 16 bytes travel in the registers of their parts; larger ones are on the stack, and "
          "as a result they are written where a hidden first argument in rdi says, whose address comes back in rax",
          "al says how many vector registers a call of a variadic function uses, at most",
          "the direction flag is clear at calls and returns"},
     .source = "System V psABI, AMD64 supplement, 3.2"},
    {.name = "system-v-32",
     .also = "cdecl sysv32 i386",
     .title = "functions of 32-bit programs on Linux and its relatives",
     .mode = Mode::bits32,
     .result = "eax edx",
     .float_result = "st(0)",
     .kept = kKept32,
     .remarks = {kStructure32, "16 bytes of alignment is what gcc and clang keep; older code keeps 4"},
     .source = "System V psABI, Intel386 supplement, 2.2"},
    {.name = "regparm",
     .also = "regparm3",
     .title = "32-bit functions with the attribute regparm(3), and those of 32-bit Linux kernels",
     .mode = Mode::bits32,
     .integers = "eax edx ecx",
     .result = "eax edx",
     .float_result = "st(0)",
     .kept = kKept32,
     .spread = true,
     .variadic_on_stack = true,
     .remarks = {"variadic functions take all arguments on the stack",
                 "a structure is passed in registers if all of it fits into those left; floating-point numbers, and "
                 "structures that hold just one, are on the stack"},
     .source = "gcc, x86 function attributes"},
    {.name = "kernel-64",
     .also = "syscall64 linux-64",
     .title = "system calls of 64-bit programs on Linux, by the instruction syscall",
     .number = "rax",
     .integers = "rdi rsi rdx r10 r8 r9",
     .result = "rax",
     .kept = "rbx rdx rbp rsi rdi r8 r9 r10 r12 r13 r14 r15",
     .stack = false,
     .alignment = 0,
     .remarks =
         {"syscall leaves the return address in rcx and the flags in r11, which is why the fourth argument is in "
          "r10",
          "a result from -4095 to -1 is an error: its number, negative"},
     .source = "System V psABI, AMD64 supplement, A.2.1"},
    {.name = "kernel-32",
     .also = "syscall32 linux-32 int80",
     .title = "system calls of 32-bit programs on Linux, by int 0x80",
     .mode = Mode::bits32,
     .number = "eax",
     .integers = "ebx ecx edx esi edi ebp",
     .result = "eax",
     .kept = "ebx ecx edx esi edi ebp",
     .stack = false,
     .alignment = 0,
     .remarks = {"numbers are others than those of syscall: write is 4 here, and 1 there",
                 "a result from -4095 to -1 is an error: its number, negative"},
     .source = "syscall(2)"},
    {.name = "microsoft-64",
     .also = "ms64 ms_abi win64",
     .title = "64-bit functions that follow Microsoft's convention, UEFI among them",
     .integers = "rcx rdx r8 r9",
     .floats = "xmm0 xmm1 xmm2 xmm3",
     .result = "rax",
     .float_result = "xmm0",
     .kept = "rbx rbp rdi rsi r12 r13 r14 r15 xmm6 xmm7 xmm8 xmm9 xmm10 xmm11 xmm12 xmm13 xmm14 xmm15",
     .by_position = true,
     .home = 32,
     .code = 0xc1,
     .remarks = {"structures of 1, 2, 4 or 8 bytes travel as integers; the address of a copy is passed for others",
                 "of variadic functions floating-point arguments are in the integer register, too"},
     .source = "Microsoft, x64 calling convention"},
    {.name = "stdcall",
     .also = "winapi",
     .title = "32-bit functions that take their arguments off the stack",
     .mode = Mode::bits32,
     .result = "eax edx",
     .float_result = "st(0)",
     .kept = kKept32,
     .callee_cleans = true,
     .alignment = 4,
     .code = 0xb1,
     .remarks =
         {"the return is ret N, with the bytes of the arguments; variadic functions cannot do that, and leave it "
          "to the caller"},
     .source = "gcc, x86 function attributes"},
    {.name = "fastcall",
     .also = "msfastcall",
     .title = "32-bit functions that take two arguments in registers",
     .mode = Mode::bits32,
     .integers = "ecx edx",
     .result = "eax edx",
     .float_result = "st(0)",
     .kept = kKept32,
     .callee_cleans = true,
     .alignment = 4,
     .code = 0xb3,
     .remarks = {"only numbers and addresses of one word are passed in registers; a structure or a number of two words "
                 "is on the stack, and the registers that it would fill stay unused"},
     .source = "gcc, x86 function attributes"},
    {.name = "thiscall",
     .also = "msthiscall",
     .title = "32-bit member functions that take their object's address in a register",
     .mode = Mode::bits32,
     .integers = "ecx",
     .result = "eax edx",
     .float_result = "st(0)",
     .kept = kKept32,
     .callee_cleans = true,
     .alignment = 4,
     .code = 0xb5,
     .remarks = {"the first argument is the object's address (this)"},
     .source = "gcc, x86 function attributes"},
    {.name = "vectorcall",
     .also = "vectorcall32",
     .title = "32-bit functions that take vectors and floating-point numbers in registers, too",
     .mode = Mode::bits32,
     .integers = "ecx edx",
     .floats = "xmm0 xmm1 xmm2 xmm3 xmm4 xmm5",
     .result = "eax edx",
     .float_result = "xmm0",
     .kept = kKept32,
     .callee_cleans = true,
     .alignment = 4,
     .code = 0xc0,
     .remarks = {"a structure of up to four floating-point numbers or vectors of one kind is in vector registers if "
                 "enough are left; otherwise its address is passed",
                 "any other structure, and a number of two words, is on the stack; the registers that it would fill "
                 "stay unused"},
     .source = "clang, attribute vectorcall"},
};

bool same(std::string_view a, std::string_view b) {
  return std::ranges::equal(
      a, b, {}, [](unsigned char c) { return std::tolower(c); }, [](unsigned char c) { return std::tolower(c); });
}

}  // namespace

std::span<const Convention> conventions() { return kConventions; }

std::vector<std::string_view> names_in(std::string_view list) {
  std::vector<std::string_view> result;
  while (!list.empty()) {
    const std::size_t end = std::min(list.find(' '), list.size());
    result.push_back(list.substr(0, end));
    list.remove_prefix(std::min(end + 1, list.size()));
  }
  return result;
}

const Convention* convention_of_code(std::uint64_t code, arch::Mode mode) {
  const auto found = std::ranges::find_if(
      kConventions, [&](const Convention& one) { return code != 0 && one.code == code && one.mode == mode; });
  return found != std::end(kConventions) ? &*found : nullptr;
}

const Convention* convention_named(std::string_view name) {
  for (const Convention& one : kConventions) {
    if (same(one.name, name)) return &one;
    for (const std::string_view other : names_in(one.also)) {
      if (same(other, name)) return &one;
    }
  }
  return nullptr;
}

}  // namespace deeptrace::abi
