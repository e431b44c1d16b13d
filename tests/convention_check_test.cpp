// `survey --check`: rules of the calling convention, found in the code alone: routines that break each, and lawful
// neighbours.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>
#include <set>
#include <string>
#include <vector>

#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;
using Words = std::vector<std::string>;
using Found = std::set<std::string>;

Found found_in(const std::string& file) {
  const Outcome outcome = deeptrace({"survey", "--check", "--format", "json", file});
  EXPECT_LE(outcome.status, 1) << outcome.err;
  const json said = json::parse(outcome.out);
  Found result;
  bool wrong = false;
  for (const json& one : said["files"][0]["findings"]) {
    wrong |= !one["note"].get<bool>();
    result.insert(one["kind"].get<std::string>() + (one["note"].get<bool>() ? "" : "!"));
  }
  EXPECT_EQ(outcome.status, wrong ? 1 : 0);
  return result;
}

/// Of an object with a function `routine`, and what else the text has.
Found routine(const std::string& code, const char* width = "-m64", const std::string& more = "") {
  const TempFolder folder;
  write_file(folder / "r.s",
             ".globl routine\n.type routine, @function\nroutine: " + code + "\n.size routine, .-routine\n" + more);
  EXPECT_EQ(run({"gcc", width, "-c", "-o", folder / "r.o", folder / "r.s"}).status, 0) << code;
  return found_in(folder / "r.o");
}

/// Of a program of a C file and a function `routine`, which main calls.
Found linked(const std::string& c, const std::string& code, const std::string& more) {
  const TempFolder folder;
  write_file(folder / "c.c", c + "\nlong routine(void); int main(void) { return routine() == 4; }\n");
  write_file(folder / "r.s", ".globl routine\n.type routine, @function\nroutine: sub $8, %rsp\n" + code +
                                 "\nadd $8, %rsp\nret\n.size routine, .-routine\n" + more);
  EXPECT_EQ(run({"gcc", "-g", "-no-pie", "-o", folder / "p", folder / "c.c", folder / "r.s"}).status, 0) << code;
  return found_in(folder / "p");
}

std::string caller(const std::string& after) {
  return ".globl caller\n.type caller, @function\ncaller: push %rbx\nmov %rdi, %rbx\ncall routine\n" + after +
         "pop %rbx\nret\n.size caller, .-caller\n";
}

TEST(ConventionCheck, KeptRegistersComeBack) {
  EXPECT_EQ(routine("mov $5, %ebx\nret"), Found{"kept_register_changed"});
  EXPECT_EQ(routine("mov $5, %ebx\nret", "-m64", caller("add %rbx, %rax\n")), Found{"kept_register_changed!"});
  EXPECT_EQ(routine("mov $5, %ebx\nret", "-m64", caller("mov $1, %ebx\n")), Found{"kept_register_changed"});
  EXPECT_EQ(routine("mov 8(%ebp), %ebx\nret", "-m32"), Found{"kept_register_changed"}) << "loaded, and never saved";
  EXPECT_EQ(routine("push %rbx\nmov $5, %ebx\ntest %edi, %edi\nje 1f\npop %rbx\nret\n1: add $8, %rsp\nret"),
            Found{"kept_register_changed"})
      << "on one way only";
  EXPECT_EQ(routine("push %rbx\nmov $5, %ebx\npop %rbx\nret"), Found{});
  EXPECT_EQ(routine("sub $24, %rsp\nmov %rbx, 8(%rsp)\nmov $5, %ebx\nmov 8(%rsp), %rbx\nadd $24, %rsp\nret"), Found{});
  EXPECT_EQ(routine("mov %rbx, %rcx\nxor %ebx, %ebx\nmov %rcx, %rbx\nret"), Found{});
  EXPECT_EQ(routine("push %rbp\nmov %rsp, %rbp\nsub $32, %rsp\nleave\nret"), Found{});
  EXPECT_EQ(routine("mov $5, %ecx\nmov $6, %r11d\nret"), Found{}) << "these may be changed";
}

TEST(ConventionCheck, TheStackPointerComesBack) {
  EXPECT_EQ(routine("push %rax\nret"), Found{"stack_not_restored!"});
  EXPECT_EQ(routine("sub $16, %rsp\nadd $8, %rsp\nret"), Found{"stack_not_restored!"});
  EXPECT_EQ(routine("push %eax\npush %ecx\npop %ecx\nret", "-m32"), Found{"stack_not_restored!"});
  EXPECT_EQ(routine("push %rax\npop %rcx\nret"), Found{});
  EXPECT_EQ(routine("sub $8, %rsp\ntest %edi, %edi\nje 1f\nsub $16, %rsp\ncall abort@PLT\n1: add $8, %rsp\nret"),
            Found{})
      << "what stands after a call that does not come back is reached another way";
  EXPECT_EQ(routine("push %rbp\nmov %rsp, %rbp\npush %rax\npush %rax\nmov %rbp, %rsp\npop %rbp\nret"), Found{});
}

TEST(ConventionCheck, TheStackIsAlignedAtCalls) {
  const std::string stores =
      ".type inner, @function\ninner: sub $24, %rsp\nmovaps %xmm0, (%rsp)\nadd $24, %rsp\nret\n.size inner, .-inner\n";
  EXPECT_EQ(routine("call inner\nret", "-m64", stores), Found{"stack_misaligned!"});
  EXPECT_EQ(routine("push %rax\npush %rcx\ncall inner\nadd $16, %rsp\nret", "-m64", stores),
            Found{"stack_misaligned!"});
  EXPECT_EQ(routine("call puts@PLT\nret"), Found{"stack_misaligned"});
  EXPECT_EQ(routine("push %rax\ncall inner\npop %rcx\nret", "-m64", stores), Found{});
  EXPECT_EQ(routine("sub $8, %rsp\ncall puts@PLT\nadd $8, %rsp\nret"), Found{});
}

TEST(ConventionCheck, TheDirectionFlagIsClear) {
  EXPECT_EQ(routine("std\nret"), Found{"direction_flag_set!"});
  EXPECT_EQ(routine("std\ntest %edi, %edi\nje 1f\ncld\n1: ret"), Found{"direction_flag_set!"});
  EXPECT_EQ(routine("std\nrep movsb\ncld\nret"), Found{});
  EXPECT_EQ(routine("pushf\nstd\npopf\nret"), Found{});
}

TEST(ConventionCheck, WhatACallMayChangeIsNotReadAfterIt) {
  const std::string begin = "push %rbx\n", end = "pop %rbx\nret", puts = "lea 1f(%rip), %rdi\n1: call puts@PLT\n";
  const auto calls = [&](const std::string& code) { return routine(begin + code + end); };
  EXPECT_EQ(calls("mov $5, %ecx\n2: " + puts + "dec %ecx\njnz 2b\n"), Found{"scratch_register_read!"});
  EXPECT_EQ(calls("mov $5, %r11d\n" + puts + "mov %r11, %rax\n"), Found{"scratch_register_read!"});
  EXPECT_EQ(routine("mov $3, %ecx\n1: mov $1, %eax\nmov $1, %edi\nsyscall\nloop 1b\nret"),
            Found{"scratch_register_read!"})
      << "the kernel's entry puts the return address into rcx";
  EXPECT_EQ(routine("mov $9, %ecx\n1: push %ecx\ncall puts\npop %edx\nloop 1b\nret", "-m32"),
            Found{"scratch_register_read!"});
  EXPECT_EQ(calls("mov $5, %ebx\n2: " + puts + "dec %ebx\njnz 2b\n"), Found{});
  EXPECT_EQ(calls("push %rcx\nsub $8, %rsp\n" + puts + "add $8, %rsp\npop %rcx\nmov %rcx, %rax\n"), Found{});
  EXPECT_EQ(calls(puts + "test %eax, %eax\n"), Found{}) << "a result";
  EXPECT_EQ(calls(puts + "xor %ecx, %ecx\ntest %ecx, %ecx\n"), Found{});
  EXPECT_EQ(calls("mov $5, %ecx\ntest %edi, %edi\njne 2f\ncall abort@PLT\n2: mov %ecx, %eax\n"), Found{})
      << "control does not come back from there";
  EXPECT_EQ(routine("mov $3, %ecx\n1: mov $4, %eax\nint $0x80\nloop 1b\nret", "-m32"), Found{})
      << "that gate keeps all but eax";
  const std::string inner = ".type inner, @function\ninner: lea 1(%rdi), %ecx\nret\n.size inner, .-inner\n";
  EXPECT_EQ(routine(begin + "call inner\nmov %ecx, %eax\n" + end, "-m64", inner), Found{})
      << "routines of one file may have a convention of their own";
}

TEST(ConventionCheck, ArgumentsAreSetForEachCall) {
  const std::string reads = ".type inner, @function\ninner: lea (%rdi,%rsi), %rax\nret\n.size inner, .-inner\n";
  EXPECT_EQ(routine("push %rbx\ncall puts@PLT\ncall puts@PLT\npop %rbx\nret"), Found{"argument_not_set!"});
  EXPECT_EQ(routine("push %rbx\nmov $1, %esi\ncall rand@PLT\nmov %rax, %rdi\ncall inner\npop %rbx\nret", "-m64", reads),
            Found{"argument_not_set!"});
  EXPECT_EQ(routine("push %rdi\ncall puts@PLT\npop %rdi\npush %rdi\ncall puts@PLT\npop %rdi\nret"), Found{});
  EXPECT_EQ(routine("push %rbx\ncall rand@PLT\ncall rand@PLT\npop %rbx\nret"), Found{}) << "it takes none";
  EXPECT_EQ(routine("push %rbx\ncall inner\npop %rbx\nret", "-m64", reads), Found{}) << "passed on";
}

TEST(ConventionCheck, FunctionsThatEndNowhereDoNotComeBack) {
  const auto fails = [](const std::string& end) {
    return ".type fails, @function\nfails: sub $8, %rsp\ntest %edi, %edi\nje 1f\nnop\n1: call exit@PLT\n" + end +
           ".size fails, .-fails\n";
  };
  const std::string code =
      "push %rbx\nmov $5, %ebx\ntest %edi, %edi\njne 1f\npop %rbx\nret\n1: call fails\npop %rcx\nret";
  EXPECT_EQ(routine(code, "-m64", fails("")), Found{});
  EXPECT_TRUE(routine(code, "-m64", fails("add $8, %rsp\nret\n")).contains("kept_register_changed"));
  EXPECT_TRUE(routine(code, "-m64", fails("jmp other\n")).contains("kept_register_changed")) << "it may return";
}

TEST(ConventionCheck, ArgumentsAreInTheOrderOfTheirTypes) {
  const auto calls = [](const std::string& code) { return routine("push %rbx\n" + code + "\npop %rbx\nret"); };
  const std::string text = "\n.data\ntext: .asciz \"level\"\n.text\n";
  EXPECT_EQ(calls("mov $'v', %edi\nlea text(%rip), %rsi\ncall strchr@PLT" + text), Found{"exchanged_arguments!"});
  EXPECT_EQ(calls("mov $1, %edi\nmov $5, %esi\nlea text(%rip), %rdx\ncall write@PLT" + text),
            Found{"exchanged_arguments!"});
  EXPECT_EQ(calls("lea text(%rip), %rdi\nmov $'v', %esi\ncall strchr@PLT" + text), Found{});
  EXPECT_EQ(calls("mov $'v', %edi\nlea text(%rip), %rsi\nxchg %rdi, %rsi\ncall strchr@PLT" + text), Found{});
  EXPECT_EQ(calls("mov $'v', %edi\nlea text(%rip), %rsi\ncall write_level@PLT" + text), Found{})
      << "nobody says what that takes";
  // Whose types debug information has: linked, the address may be an immediate one.
  const char* callee = "long fill(char *to, long count) { return to[count]; }";
  EXPECT_EQ(linked(callee, "mov $9, %edi\nmov $text, %esi\ncall fill", text), Found{"exchanged_arguments!"});
  EXPECT_EQ(linked(callee, "mov $text, %edi\nmov $9, %esi\ncall fill", text), Found{});
}

TEST(ConventionCheck, WhatLiesBelowTheStackPointerIsGoneAfterACall) {
  const std::string inner = ".type inner, @function\ninner: mov %rdi, %rax\nret\n.size inner, .-inner\n";
  EXPECT_EQ(routine("push %rbx\nmov %rdi, -16(%rsp)\ncall inner\nmov -16(%rsp), %rax\npop %rbx\nret", "-m64", inner),
            Found{"red_zone_overwritten!"});
  EXPECT_EQ(routine("mov %rdi, -8(%rsp)\npush %rbx\nmov (%rsp), %rax\npop %rbx\nmov -8(%rsp), %rcx\nret"),
            Found{"red_zone_overwritten!"});
  EXPECT_EQ(routine("mov %rdi, -200(%rsp)\nmov -200(%rsp), %rax\nret"), Found{"below_stack_pointer"});
  EXPECT_EQ(routine("mov %eax, -4(%esp)\nmov -4(%esp), %eax\nret", "-m32"), Found{"below_stack_pointer"});
  EXPECT_EQ(routine("mov %rdi, -16(%rsp)\nmov -16(%rsp), %rax\nret"), Found{}) << "the red zone of a leaf";
  EXPECT_EQ(
      routine("sub $24, %rsp\nmov %rdi, 8(%rsp)\ncall inner\nmov 8(%rsp), %rax\nadd $24, %rsp\nret", "-m64", inner),
      Found{});
  EXPECT_EQ(routine("push %rbp\nmov %rsp, %rbp\nmov %rdi, -8(%rbp)\nmov -8(%rbp), %rax\npop %rbp\nret"), Found{});
}

TEST(ConventionCheck, UnwindTablesSayWhatTheCodeDoes) {
  const auto unwound = [](const std::string& code, const char* width = "-m64") {
    const TempFolder folder;
    write_file(folder / "r.s", ".globl routine\n.type routine, @function\nroutine: .cfi_startproc\n" + code +
                                   "\n.cfi_endproc\n.size routine, .-routine\n.globl main\n.type main, "
                                   "@function\nmain: xor %eax, %eax\nret\n.size main, .-main\n");
    EXPECT_EQ(run({"gcc", width, "-g", "-Wl,-z,noexecstack", "-o", folder / "r", folder / "r.s"}).status, 0) << code;
    return found_in(folder / "r");
  };
  EXPECT_EQ(unwound("push %rbx\ncall main\npop %rbx\nret"), Found{"unwind_rule_wrong!"});
  EXPECT_EQ(unwound("sub $8, %rsp\nadd $8, %rsp\nret"), Found{"unwind_rule_wrong"}) << "signals alone see it";
  EXPECT_EQ(unwound("push %ebp\n.cfi_adjust_cfa_offset 4\nmov %esp, %ebp\n.cfi_def_cfa_register %ebp\n"
                    "push %eax\nleave\nret",
                    "-m32"),
            Found{"unwind_rule_wrong"})
      << "after `leave` it counts from esp again";
  EXPECT_EQ(unwound("push %rbx\n.cfi_adjust_cfa_offset 8\n.cfi_offset %rbx, -16\ncall main\npop %rbx\n"
                    ".cfi_adjust_cfa_offset -8\nret"),
            Found{});
  EXPECT_EQ(unwound("push %rbp\n.cfi_adjust_cfa_offset 8\nmov %rsp, %rbp\n.cfi_def_cfa_register %rbp\n"
                    "sub $32, %rsp\ncall main\nleave\n.cfi_def_cfa %rsp, 8\nret"),
            Found{});
}

TEST(ConventionCheck, TheFloatingPointUnitIsLeftEmpty) {
  EXPECT_EQ(routine("fld1\nfld1\nret"), Found{"x87_stack_left!"});
  EXPECT_EQ(routine("fstp %st(0)\nret"), Found{"x87_stack_left!"}) << "what its caller had there";
  EXPECT_EQ(routine("fld1\ntest %edi, %edi\nje 1f\nfldpi\n1: ret"), Found{"x87_stack_left!"});
  EXPECT_EQ(routine("movd %edi, %mm0\npaddb %mm0, %mm0\nmovd %mm0, %eax\nret"), Found{"mmx_state_left"});
  EXPECT_EQ(routine("pxor %mm1, %mm1\npush %rax\ncall puts@PLT\npop %rcx\nemms\nret"), Found{"mmx_state_left"});
  EXPECT_EQ(routine("fld1\nret"), Found{}) << "the result";
  EXPECT_EQ(routine("fldl 4(%esp)\nfaddl 12(%esp)\nfstpl 4(%esp)\nret", "-m32"), Found{});
  EXPECT_EQ(routine("movd %edi, %mm0\nmovd %mm0, %eax\nemms\nret"), Found{});
}

TEST(ConventionCheck, WhoTakesArgumentsOffTheStackIsSeen) {
  const std::string takes = ".type inner, @function\ninner: mov 4(%esp), %eax\nret $8\n.size inner, .-inner\n";
  const std::string leaves = ".type inner, @function\ninner: mov 4(%esp), %eax\nret\n.size inner, .-inner\n";
  const std::string pushes = "push $1\npush $2\ncall inner\n";
  EXPECT_EQ(routine(pushes + "add $8, %esp\nret", "-m32", takes), Found{"stack_not_restored!"}) << "both do";
  EXPECT_EQ(routine(pushes + "ret", "-m32", leaves), Found{"stack_not_restored!"}) << "nobody does";
  EXPECT_EQ(routine(pushes + "ret", "-m32", takes), Found{});
  EXPECT_EQ(routine(pushes + "add $8, %esp\nret", "-m32", leaves), Found{});
}

/// Its C file declares what a routine takes and gives back.
TEST(ConventionCheck, RoutinesFitTheirDeclarations) {
  const auto declared = [](const std::string& declaration, const std::string& call, const std::string& code) {
    const TempFolder folder;
    write_file(folder / "main.c", declaration + "\nint main(void) { return " + call + " > 1; }\n");
    write_file(folder / "r.s", ".globl f\n.type f, @function\nf: " + code +
                                   "\n.size f, .-f\n.section .note.GNU-stack,\"\",@progbits\n");
    EXPECT_EQ(run({"gcc", "-g", "-o", folder / "r", folder / "main.c", folder / "r.s"}).status, 0) << code;
    return found_in(folder / "r");
  };
  EXPECT_EQ(declared("long f(double level);", "f(2.0)", "mov %rdi, %rax\nret"), Found{"argument_not_passed!"});
  EXPECT_EQ(declared("long f(long a);", "f(2)", "lea (%rdi,%rsi), %rax\nret"), Found{"argument_not_passed!"});
  EXPECT_EQ(declared("double f(long a);", "f(2)", "mov %rdi, %rax\nret"), Found{"result_in_wrong_register!"});
  EXPECT_EQ(declared("float f(void);", "f()", "mov $3, %eax\nret"), Found{"result_in_wrong_register!"});
  EXPECT_EQ(declared("long f(double level);", "f(2.0)", "cvttsd2si %xmm0, %rax\nret"), Found{});
  EXPECT_EQ(declared("long f(long a, long b);", "f(2, 3)", "lea (%rdi,%rsi), %rax\nret"), Found{});
  EXPECT_EQ(declared("double f(long a);", "f(2)", "cvtsi2sd %rdi, %xmm0\nret"), Found{});
  EXPECT_EQ(declared("double f(double a, long b);", "f(2.0, 1)", "test %edi, %edi\nret"), Found{})
      << "what was passed comes back";
  EXPECT_EQ(declared("struct { long a[4]; } f(long b);", "f(2).a[0]", "mov %rsi, (%rdi)\nmov %rdi, %rax\nret"), Found{})
      << "the place for the result is passed, too";
}

TEST(ConventionCheck, CompiledCodeKeepsTheRules) {
  const TempFolder folder;
  write_file(folder / "c.c", R"(
#include <stdio.h>
#include <stdlib.h>
int level(int a) { if (a > 3) return a; printf("%d\n", a); }
struct large { long a[5]; };
struct large make(long n) { struct large result = {{n, n * 2}}; return result; }
long sum(const long *values, long n) { long all = 0; for (long i = 0; i < n; ++i) all += values[i] * n; return all; }
double mean(const double *values, int n) { double all[n]; for (int i = 0; i < n; ++i) all[i] = values[i]; return all[n / 2]; }
int order(const void *a, const void *b) { return *(const int *)a - *(const int *)b; }
int rank(int *values, int n) { qsort(values, n, sizeof *values, order); return values[0] ? level(n) : abort(), 0; }
int wrong(int a) { if (a) return 1; }
)");
  for (const char* level : {"-O0", "-O1", "-O2", "-Os"}) {
    for (const char* width : {"-m64", "-m32"}) {
      for (const char* compiler : {"gcc", "clang"}) {
        ASSERT_EQ(run({compiler, level, width, "-g", "-w", "-c", "-o", folder / "c.o", folder / "c.c"}).status, 0);
        Found found = found_in(folder / "c.o");
        // What falls off the end of `wrong` is the source's mistake; optimisers do as they please.
        found.erase("result_not_set");
        EXPECT_EQ(found, Found{}) << compiler << " " << level << " " << width;
      }
    }
  }
  ASSERT_EQ(run({"gcc", "-O1", "-g", "-w", "-c", "-o", folder / "c.o", folder / "c.c"}).status, 0);
  const json said = json::parse(deeptrace({"survey", "--check", "--format", "json", folder / "c.o"}).out);
  std::set<std::string> unset;
  for (const json& one : said["files"][0]["findings"]) unset.insert(one["function"]);
  EXPECT_FALSE(unset.contains("order"));
}

TEST(ConventionCheck, ResultsAreSetOnEveryWay) {
  const auto compiled = [](const std::string& source) {
    const TempFolder folder;
    write_file(folder / "c.c", source);
    EXPECT_EQ(
        run({"gcc", "-O0", "-g", "-w", "-fomit-frame-pointer", "-c", "-o", folder / "c.o", folder / "c.c"}).status, 0);
    return found_in(folder / "c.o");
  };
  EXPECT_EQ(compiled("int f(void) { asm(\"nop\"); }"), Found{"result_not_set"});
  EXPECT_EQ(compiled("long f(char *a) { asm(\"nop\" : : \"r\"(a)); }").count("kept_register_changed"), 0);
  EXPECT_EQ(compiled("int f(void) { return 3; }"), Found{});
  EXPECT_EQ(compiled("void f(void) { asm(\"nop\"); }"), Found{});
}

TEST(ConventionCheck, ThePlantedMistakesStandInTheDemo) {
  const json said = json::parse(deeptrace({"survey", "--check", "--format", "json", demo("ebb")}).out);
  std::set<std::string> all;
  for (const json& one : said["files"][0]["findings"])
    all.insert(one["kind"].get<std::string>() + " " + one["function"].get<std::string>() + " " +
               std::to_string(one["line"].get<int>()));
  EXPECT_EQ(all, (std::set<std::string>{"kept_register_changed sum_in_rbx 19", "stack_misaligned spread_shifted 144"}));
}

}  // namespace
}  // namespace deeptrace::tests
