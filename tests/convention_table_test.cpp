// The table of calling conventions against what compilers make of functions that are declared to follow them.
#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <nlohmann/json.hpp>
#include <regex>
#include <set>
#include <sstream>

#include "abi/conventions.h"
#include "isa/register.h"
#include "live_support.h"

namespace deeptrace::tests {
namespace {

using abi::Convention;
using nlohmann::json;

struct Declared {
  const char *convention, *attribute, *compiler;
};
constexpr Declared kDeclared[] = {
    {"system-v-64", "sysv_abi", "gcc"},    {"microsoft-64", "ms_abi", "gcc"},    {"system-v-32", "cdecl", "gcc"},
    {"regparm", "regparm(3)", "gcc"},      {"stdcall", "stdcall", "gcc"},        {"fastcall", "fastcall", "gcc"},
    {"thiscall", "thiscall", "gcc"},       {"stdcall", "stdcall", "clang"},      {"fastcall", "fastcall", "clang"},
    {"vectorcall", "vectorcall", "clang"}, {"system-v-64", "sysv_abi", "clang"}, {"microsoft-64", "ms_abi", "clang"}};

const Convention& of(const Declared& one) { return *abi::convention_named(one.convention); }

/// The assembly, in Intel syntax, of a source in which ATTRIBUTE stands for the declared one.
std::string compiled(const TempFolder& folder, const Declared& one, const std::string& text,
                     const std::string& option = "-g0") {
  write_file(folder / "a.c", text);
  const Outcome made =
      run({one.compiler, of(one).mode == arch::Mode::bits64 ? "-m64" : "-m32", option, "-O1", "-S", "-masm=intel", "-w",
           "-fno-pic", "-fno-asynchronous-unwind-tables", "-mno-red-zone",
           "-DATTRIBUTE=__attribute__((" + std::string(one.attribute) + "))", "-o", folder / "a.s", folder / "a.c"});
  EXPECT_EQ(made.status, 0) << one.convention << made.err;
  return read_file(folder / "a.s");
}

/// The whole register that a part belongs to: edi and dil of rdi.
std::string whole(const std::string& name, arch::Mode mode) {
  const json said = explained({"register", name});
  const std::string part = said["register"]["parts"][0].get<std::string>();  // "rdi: bits 0 to 63"
  const std::string first = part.substr(0, part.find(':'));
  return mode == arch::Mode::bits64 ? first : first[0] == 'r' ? "e" + first.substr(1) : first;
}

TEST(Conventions, ArgumentsTravelWhereCompilersPutThem) {
  for (const Declared& one : kDeclared) {
    SCOPED_TRACE(std::string(one.compiler) + " " + one.attribute);
    const TempFolder folder;
    // The lists of arguments are long enough that some are on the stack.
    const std::string text =
        compiled(folder, one,
                 "int ATTRIBUTE f(int, int, int, int, int, int, int, int);\n"
                 "int g(void) { return f(1001, 1002, 1003, 1004, 1005, 1006, 1007, 1008) + 1; }\n");
    std::map<int, std::string> places;
    std::istringstream lines(text);
    std::smatch parts;
    for (std::string line; std::getline(lines, line);) {
      if (std::regex_search(line, parts, std::regex("mov\\s+(\\w+), (100[1-8])$")))
        places[std::stoi(parts[2])] = whole(parts[1], of(one).mode);
      if (std::regex_search(line, parts, std::regex("(?:push|ptr \\[.*\\],)\\s+(100[1-8])$")))
        places[std::stoi(parts[1])] = "stack";
    }
    ASSERT_EQ(places.size(), 8) << text;
    const std::vector<std::string_view> registers = abi::names_in(of(one).integers);
    for (int i = 0; i < 8; ++i) {
      const auto index = static_cast<std::size_t>(i);
      EXPECT_EQ(places[1001 + i], index < registers.size() ? std::string(registers[index]) : "stack") << i + 1;
    }
  }
}

TEST(Conventions, FloatingPointArgumentsToo) {
  for (const Declared& one : kDeclared) {
    SCOPED_TRACE(std::string(one.compiler) + " " + one.attribute);
    const TempFolder folder;
    // The second and the last: by position they are in the second register, else in the first and second.
    const std::string text =
        compiled(folder, one, "void ATTRIBUTE f(int a, double b, double *to) { *to = b; }\n", "-msse2");
    const bool in_register = std::regex_search(text, std::regex("\\], xmm[0-9]"));
    const std::vector<std::string_view> registers = abi::names_in(of(one).floats);
    std::smatch parts;
    if (registers.empty()) {
      EXPECT_TRUE(std::regex_search(text, std::regex("fld|movs[dq] xmm|movsd\\s+xmm"))) << text;
      continue;
    }
    ASSERT_TRUE(in_register) << text;
    ASSERT_TRUE(std::regex_search(text, parts, std::regex("\\], (xmm[0-9])")));
    EXPECT_EQ(parts[1].str(), registers[of(one).by_position ? 1 : 0]) << text;
  }
}

TEST(Conventions, WhatTheCalleeKeepsIsWhatCompilersSave) {
  for (const Declared& one : kDeclared) {
    SCOPED_TRACE(std::string(one.compiler) + " " + one.attribute);
    const TempFolder folder;
    const bool wide = of(one).mode == arch::Mode::bits64;
    const std::string text =
        compiled(folder, one,
                 wide ? "void ATTRIBUTE f(void) { __asm__ volatile(\"\" ::: \"rax\", \"rbx\", \"rcx\", \"rdx\", "
                        "\"rsi\", \"rdi\", "
                        "\"rbp\", \"r8\", \"r9\", \"r10\", \"r11\", \"r12\", \"r13\", \"r14\", \"r15\"); }\n"
                      : "void ATTRIBUTE f(void) { __asm__ volatile(\"\" ::: \"eax\", \"ebx\", \"ecx\", \"edx\", "
                        "\"esi\", \"edi\", "
                        "\"ebp\"); }\n");
    const std::regex kPush("push\\s+(\\w+)");
    std::set<std::string> saved;
    for (std::sregex_iterator at(text.begin(), text.end(), kPush), end; at != end; ++at) saved.insert((*at)[1]);
    std::set<std::string> kept;
    for (const std::string_view name : abi::names_in(of(one).kept)) {
      if (!name.starts_with("xmm")) kept.emplace(name);
    }
    EXPECT_EQ(saved, kept) << text;
  }
}

TEST(Conventions, WhoTakesArgumentsOffTheStack) {
  for (const Declared& one : kDeclared) {
    SCOPED_TRACE(std::string(one.compiler) + " " + one.attribute);
    const TempFolder folder;
    const std::string text =
        compiled(folder, one, "int ATTRIBUTE f(int a, int b, int c, int d, int e, int g, int h) { return a + h; }\n");
    EXPECT_EQ(std::regex_search(text, std::regex("ret[ \\t]+[0-9]+")), of(one).callee_cleans) << text;
  }
}

/// What `syscalls` reads arguments by, which its own tests hold against programs' logs.
TEST(Conventions, TheKernelTakesItsArgumentsThere) {
  for (const auto& [name, mode] :
       {std::pair("kernel-64", arch::Mode::bits64), std::pair("kernel-32", arch::Mode::bits32)}) {
    const arch::Machine& machine = arch::machine_of(mode);
    std::vector<std::string> order;
    for (const arch::General one : machine.call_arguments)
      order.emplace_back(
          isa::name_of({isa::RegisterFile::general, one, 0, static_cast<std::uint16_t>(machine.word * 8)}));
    const std::vector<std::string_view> table = abi::names_in(abi::convention_named(name)->integers);
    EXPECT_TRUE(std::ranges::equal(order, table)) << name;
  }
}

TEST(Conventions, AreExplained) {
  const json said = explained({"convention", "ms_abi"});
  EXPECT_EQ(said["convention"]["name"], "microsoft-64");
  EXPECT_EQ(said["convention"]["integers"], json::array({"rcx", "rdx", "r8", "r9"}));
  EXPECT_EQ(said["convention"]["home"], 32);
  EXPECT_EQ(said["convention"]["changed"], json::array({"rax", "rcx", "rdx", "r8", "r9", "r10", "r11"}));
  for (const Convention& one : abi::conventions()) {
    const Outcome text = deeptrace({"explain", std::string(one.name)});
    EXPECT_EQ(text.status, 0) << one.name << text.err;
    EXPECT_NE(text.out.find(one.source), std::string::npos) << text.out;
  }
  const Outcome unknown = deeptrace({"explain", "convention", "pascal"});
  EXPECT_EQ(unknown.status, 2);
  EXPECT_NE(unknown.err.find("there are system-v-64, system-v-32"), std::string::npos) << unknown.err;
}

}  // namespace
}  // namespace deeptrace::tests
