// Values of variables that compilers describe wrongly in optimised code: each has to be what the source says, or
// unknown. Many more, in generated programs: tests/variables.py.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <iterator>
#include <sstream>

#include "arch/dwarf_registers.h"
#include "live_support.h"
#include "look/code_ways.h"

namespace deeptrace::tests {
namespace {

constexpr const char* kMark = R"(
volatile int marked;
void __attribute__((noipa, noinline)) mark(int n) { marked = n; }
)";

/// At each mark `level` is asked for. Assignments that nobody reads, in loops, branches and plain statements, of values
/// in registers, constants and arguments on the stack.
constexpr const char* kLeftOut = R"(
#ifdef LOG
int printf(const char *, ...);
#define MARK(value) printf("%d ", (int)(value))
#else
void mark(int n);
#define MARK(value) mark(1)
#endif
typedef struct { int a; short b; } gauge;
#define SHARE(x) __asm__ volatile("" : : "r"(&(x)) : "memory")
volatile int seed = 5;

__attribute__((noinline, noipa)) int removed_loop(int level, int count) {
  for (int i = 0; i < (count & 3); i++)
    level = 8;
  MARK(level);
  return count;
}
__attribute__((noinline, noipa)) void entry_value(int level, int count) {
  gauge now = {level, (short)level};
  SHARE(now);
  for (int i = 0; i < count; i++) {
    MARK(level);
    level = now.b >> 2;
  }
  MARK(level);
}
__attribute__((noinline)) int branches(int level, int x) {
  if (x & 1) {
    level = 8;
  } else {
    level = 9;
    for (int i = 0; i < (x & 7); i++) x++;
  }
  MARK(level);
  return x;
}
__attribute__((noinline)) int moved_down(const int *x, int level) {
  while (*x) {
    level -= *x++;
    MARK(level);
    if (level < 0) break;
  }
  return level;
}
__attribute__((noinline)) int constant(int count) {
  int level = 32;
  for (int i = 0; i < (count & 3); i++) level += level + i;
  MARK(level);
  return count;
}
__attribute__((noinline)) long long wide(long long level, int count) {
  MARK(level);
  MARK(level);
  return (int)level + count;
}
__attribute__((noinline, noipa)) int reading(int x) { return x * 37 + seed; }
__attribute__((noinline)) int some_bits(int x) {
  int level = reading(x) & 4095;
  MARK(level);
  if ((level >> 4) & 3) x++;
  return x;
}
__attribute__((noinline)) int out_of_line(unsigned long long level, int count) {
  if (__builtin_expect(((level >> 2) + count) & 1, 0)) {
    level = 32;
    for (int i = 0; i < 2; i++)
      MARK(level);
  } else {
    count += level * 3;
    MARK(level);
    count += level;
  }
  return count;
}
int main(void) {
  int readings[] = {3, 1, 4, 0};
  SHARE(readings);
  removed_loop(5, 7);
  removed_loop(6, 6);
  entry_value(45, seed - 2);
  entry_value(13, seed - 2);
  branches(seed, seed);
  branches(seed, seed - 1);
  moved_down(readings, seed + 20);
  constant(seed + 2);
  wide(seed, seed);
  some_bits(seed);
  out_of_line(seed + 2, seed + 1);
  out_of_line(seed + 8, seed);
  return 0;
}
)";

/// What is shown of an expression in a frame around mark, the one that called it, time after time: a line each.
std::vector<std::string> shown_at_marks(const TempFolder& folder, const std::string& program, const std::string& name,
                                        std::size_t marks, int frame = 1) {
  std::string words = "halt at mark+0\n";
  for (std::size_t i = 0; i < marks; ++i) words += fmt::format("resume\nin frame {}\nshow {}\n", frame, name);
  std::istringstream said(conversation(folder, {program, "--uncut"}, words).out);
  std::vector<std::string> shown;
  for (std::string line; std::getline(said, line);) {
    if (line.starts_with(name + " = ") || line.starts_with("wrong: " + name)) shown.push_back(line);
  }
  return shown;
}

bool is_unknown(const std::string& shown) {
  return shown.starts_with("wrong: ") || shown.find(" = unknown: ") != std::string::npos;
}

class ValueDoubts : public testing::TestWithParam<std::vector<std::string>> {
 protected:
  /// Built of `text` in `folder`, as program.c, with mark(); the text's lines keep their numbers.
  static std::string program_of(const std::string& text, const TempFolder& folder) {
    std::vector<std::string> options = GetParam();
    options.insert(options.end(), {"-g", "-w"});
    return built(folder, "program", "void mark(int n); " + text + kMark, options);
  }
};

TEST_P(ValueDoubts, NoOldValueIsShown) {
  const TempFolder folder;
  const std::string logging = built(folder, "logging", kLeftOut, {"gcc", "-DLOG", "-O0", "-w"});
  std::istringstream log(run({logging}).out);
  const std::vector<std::string> logged{std::istream_iterator<std::string>(log), {}};
  ASSERT_EQ(logged.size(), 22U);
  const std::string program = program_of(kLeftOut, folder);
  const auto shown = shown_at_marks(folder, program, "level", logged.size());
  ASSERT_EQ(shown.size(), logged.size());
  for (std::size_t i = 0; i < shown.size(); ++i) {
    EXPECT_TRUE(is_unknown(shown[i]) || shown[i].find(fmt::format("/ {} ", logged[i])) != std::string::npos)
        << "mark " << i << ": " << shown[i] << ", logged " << logged[i];
  }
}

/// In a loop, control comes again to lines above a declaration; there the name is another variable's.
TEST_P(ValueDoubts, OfNamesThatABlockHidesFurtherDown) {
  const TempFolder folder;
  const std::string program = program_of(
      "volatile int seed = 5;\n"
      "__attribute__((noinline)) int settle(int level) {\n"
      "  for (int i = 0; i < 3; i++) {\n"
      "    mark(1);\n"
      "    int level = seed + 19;\n"
      "    mark(2);\n"
      "    seed = level - 19;\n"
      "  }\n"
      "  return level;\n"
      "}\n"
      "int main(void) { return settle(seed + 2) & 1; }\n",
      folder);
  const auto shown = shown_at_marks(folder, program, "level", 6);
  ASSERT_EQ(shown.size(), 6U);
  for (std::size_t i = 0; i < shown.size(); ++i)
    EXPECT_NE(shown[i].find(i % 2 == 0 ? "/ 7 " : "/ 24 "), std::string::npos) << i << ": " << shown[i];
}

/// The line that counts is that of the inlined call, also for variables of a block.
TEST_P(ValueDoubts, AroundAnInlinedCall) {
  const TempFolder folder;
  const std::string program = program_of(
      "static inline __attribute__((always_inline)) void report(void) {\n"
      "  mark(1);\n"
      "}\n"
      "__attribute__((noinline)) int settle(int count) {\n"
      "  if (count > 2) {\n"
      "    int level = count * 2;\n"
      "    for (int i = 0; i < (count & 3); i++)\n"
      "      level = 8;\n"
      "    report();\n"
      "  }\n"
      "  return count;\n"
      "}\n"
      "int main(void) { return settle(7) & settle(6); }\n",
      folder);
  const auto shown = shown_at_marks(folder, program, "level", 2, 2);
  ASSERT_EQ(shown.size(), 2U);
  for (const std::string& line : shown) EXPECT_TRUE(is_unknown(line) || line.find("/ 8 ") != std::string::npos) << line;
}

/// Arguments that the caller keeps in memory while it makes other calls: a sum of one of them, and the number itself.
TEST_P(ValueDoubts, AboutWhatACallerIsSaidToPass) {
  const TempFolder folder;
  const std::string program = program_of(
      "volatile double depth = 12, seen;\n"
      "__attribute__((noinline)) void settle(double level) {\n"
      "  seen = level;\n"
      "  mark(1);\n"
      "  mark(2);\n"
      "}\n"
      "__attribute__((noinline)) void rise(double level) {\n"
      "  seen = level + 1;\n"
      "  mark(3);\n"
      "  mark(4);\n"
      "}\n"
      "int main(void) {\n"
      "  double now = depth;\n"
      "  mark(0);\n"
      "  settle(now + 9.5);\n"
      "  mark(0);\n"
      "  rise(now);\n"
      "  return now;\n"
      "}\n",
      folder);
  const auto shown = shown_at_marks(folder, program, "level", 6);
  ASSERT_EQ(shown.size(), 6U);
  for (const std::size_t i : {1, 2, 4, 5}) {
    EXPECT_TRUE(is_unknown(shown[i]) || shown[i].find(i < 3 ? "= 21.5 " : "= 12 ") != std::string::npos)
        << i << ": " << shown[i];
  }
  // What is loaded as it is counts.
  const bool given = GetParam() == std::vector<std::string>{"clang", "-O1"};
  EXPECT_TRUE(!given || shown[5].find("= 12 ") != std::string::npos) << shown[5];
}

/// The line after a removed loop begins where the function does.
TEST_P(ValueDoubts, AlsoAtTheFirstInstruction) {
  const TempFolder folder;
  const std::string program = program_of(
      "int puts(const char *);\n"
      "__attribute__((noinline)) int settle(int level, int count) {\n"
      "  for (int i = 0; i < (count & 3); i++)\n"
      "    level = 8;\n"
      "  puts(\"settled\");\n"
      "  return count;\n"
      "}\n"
      "int main(void) { return settle(5, 7) & settle(6, 6); }\n",
      folder);
  const nlohmann::json hits = hits_of({"--at", "program.c:5", "--keep", "level", program});
  ASSERT_EQ(hits["hits"].size(), 2U);
  for (const nlohmann::json& hit : hits["hits"]) {
    const nlohmann::json& level = hit["kept"]["level"];
    EXPECT_TRUE(level.contains("unknown") || level.value("signed", "") == "8") << level.dump();
  }
}

/// Loops and statements whose values are read: all that they do is there, so nothing is doubted.
constexpr const char* kRead = R"(
int printf(const char *, ...);
void mark(int n);
volatile int readings[8] = {3, 1, 4, 1, 5, 9, 2, 6};
__attribute__((noinline)) int total(int count, char *name) {
  int level = 0, most = 0;
  for (int i = 0; i < count; i++) {
    level += readings[i];
    if (readings[i] > most)
      most = readings[i];
  }
  mark(1);
  printf("%d %d\n", level, most);
  for (int i = 0; i < count; i += 3) {
    level -= readings[i];
    mark(2);
    printf("%d\n", level);
  }
  if (level > 3) {
    level = 3;
    name[level] = 0;
    mark(3);
  }
  mark(4);
  printf("%s %d\n", name, level);
  mark(5);
  return level + most;
}
int main(void) {
  char name[] = "Grayling";
  return total(8, name) & 1;
}
)";

TEST_P(ValueDoubts, AreNotRaisedWithoutReason) {
  const TempFolder folder;
  const std::string program = program_of(kRead, folder);
  for (const char* name : {"level", "name"}) {
    const auto shown = shown_at_marks(folder, program, name, 7);
    ASSERT_EQ(shown.size(), 7U);
    for (const std::string& line : shown) EXPECT_EQ(line.find("does not say"), std::string::npos) << line;
  }
}

/// What other calls of the function changed is no contradiction to the statements of this one.
TEST_P(ValueDoubts, AreNotRaisedOfStaticVariables) {
  const TempFolder folder;
  const std::string program = program_of(
      "__attribute__((noinline)) int count(int x) {\n"
      "  static int level = 3;\n"
      "  int now = level + x;\n"
      "  if (x > 0)\n"
      "    now += count(x - 1);\n"
      "  mark(now);\n"
      "  level += 5;\n"
      "  return now ^ x;\n"
      "}\n"
      "__attribute__((noinline)) int once(int x) {\n"
      "  static int level = 3;\n"
      "  mark(level);\n"
      "  level = 7;\n"
      "  return x;\n"
      "}\n"
      "int main(void) { return (count(2) + once(1) + once(2)) & 1; }\n",
      folder);
  const auto shown = shown_at_marks(folder, program, "level", 5);
  ASSERT_EQ(shown.size(), 5U);
  for (const std::size_t i : {0, 1, 2})
    EXPECT_NE(shown[i].find(fmt::format("/ {} ", 3 + 5 * i)), std::string::npos) << shown[i];
  EXPECT_NE(shown[3].find("/ 3 "), std::string::npos) << shown[3];
  EXPECT_NE(shown[4].find("/ 7 "), std::string::npos) << shown[4];
  for (const std::string& now : shown_at_marks(folder, program, "now", 3))
    EXPECT_EQ(now.find("another value"), std::string::npos) << now;
}

/// Debug information and the source say different things: the source was changed after the program was built.
TEST_P(ValueDoubts, OfAValueThatNoStatementGives) {
  constexpr const char* kText =
      "volatile int seed = 5;\n"
      "static inline __attribute__((always_inline)) int passed(int level, int x) {\n"
      "  mark(1);\n"
      "  return level ^ x;\n"
      "}\n"
      "__attribute__((noinline)) int plain(int x) {\n"
      "  int level = x * 3;\n"
      "  mark(2);\n"
      "  return level ^ x;\n"
      "}\n"
      "__attribute__((noinline)) int steps(int x) {\n"
      "  int level = x;\n"
      "  level += x + 1;\n"
      "  mark(3);\n"
      "  return level ^ x;\n"
      "}\n"
      "__attribute__((noinline)) int called(int level, int x) {\n"
      "  mark(4);\n"
      "  return level ^ x;\n"
      "}\n"
      "__attribute__((noinline)) int deep(double x) {\n"
      "  double level = x * 0.5;\n"
      "  mark(5);\n"
      "  return level > x;\n"
      "}\n"
      "__attribute__((noinline)) int through(int x) {\n"
      "  int half = x * 5;\n"
      "  int level = half + 4;\n"
      "  mark(6);\n"
      "  return level ^ x;\n"
      "}\n"
      "int main(void) {\n"
      "  int x = seed;\n"
      "  int sum = passed(x + 2, x);\n"
      "  seed = sum + plain(x) + steps(x);\n"
      "  seed = called(x + 4, x) + x;\n"
      "  seed = deep(x) + through(x);\n"
      "  return 0;\n"
      "}\n";
  struct Case {
    const char *shown, *from, *to;  // the value as it is; a part of the text, and what it is changed to
    int line;                       // that gives the value
  };
  const Case cases[] = {{"/ 7 ", "passed(x + 2", "passed(x + 9", 34},
                        {"/ 15 ", "x * 3", "x * 4", 7},
                        {"/ 11 ", "x + 1;", "x + 3;", 13},
                        {"/ 9 ", "called(x + 4", "called(x + 8", 36},
                        {"= 2.5 ", "x * 0.5", "x * 0.25", 22},
                        {"/ 29 ", "x * 5;", "x * 6;", 28}};
  const TempFolder folder;
  const std::string program = program_of(kText, folder);
  const auto right = shown_at_marks(folder, program, "level", std::size(cases));
  ASSERT_EQ(right.size(), std::size(cases));
  std::string text = "void mark(int n); " + std::string(kText) + kMark;
  for (const Case& one : cases) {
    const auto& shown = right[static_cast<std::size_t>(&one - cases)];
    const bool deep = one.line == 22;  // clang removes it, and in 32 bits gcc says that it is what x is
    EXPECT_TRUE(shown.find(one.shown) != std::string::npos || (deep && is_unknown(shown))) << shown;
    text.replace(text.find(one.from), std::string_view(one.from).size(), one.to);
  }
  write_file(folder / "program.c", text);
  const auto later = shown_at_marks(folder, program, "level", std::size(cases));
  ASSERT_EQ(later.size(), std::size(cases));
  for (std::size_t i = 0; i < std::size(cases); ++i)
    EXPECT_TRUE(later[i] == right[i] || is_unknown(right[i])) << "what was changed after the build says nothing";
  std::filesystem::last_write_time(folder / "program.c", std::filesystem::last_write_time(program));
  const auto changed = shown_at_marks(folder, program, "level", std::size(cases));
  ASSERT_EQ(changed.size(), std::size(cases));
  const bool optimised = GetParam()[1] != "-O0";
  for (std::size_t i = 0; i < std::size(cases); ++i) {
    const std::string line = fmt::format("the compiler gives it another value than line {} does", cases[i].line);
    const bool doubted = changed[i].find(line) != std::string::npos;
    EXPECT_TRUE(optimised ? doubted || is_unknown(later[i]) : changed[i] == right[i]) << changed[i];
  }
}

/// A call passes the address of another variable than the compiler says.
TEST_P(ValueDoubts, OfAnAddressThatNoCallPasses) {
  constexpr const char* kText =
      "static inline __attribute__((always_inline)) int look(const int *level) {\n"
      "  mark(1);\n"
      "  return *level;\n"
      "}\n"
      "int main(void) {\n"
      "  int first = 3, second = 4;\n"
      "  __asm__ volatile(\"\" : : \"r\"(&first), \"r\"(&second) : \"memory\");\n"
      "  return look(&first) + second - 7;\n"
      "}\n";
  const TempFolder folder;
  const std::string program = program_of(kText, folder);
  const auto right = shown_at_marks(folder, program, "*level", 1);
  ASSERT_EQ(right.size(), 1U);
  EXPECT_NE(right[0].find("/ 3 "), std::string::npos) << right[0];
  std::string text = "void mark(int n); " + std::string(kText) + kMark;
  text.replace(text.find("look(&first)"), 12, "look(&second)");
  write_file(folder / "program.c", text);
  std::filesystem::last_write_time(folder / "program.c", std::filesystem::last_write_time(program));
  const auto changed = shown_at_marks(folder, program, "level", 1);
  ASSERT_EQ(changed.size(), 1U);
  const bool doubted = changed[0].find("another value than line 8 does") != std::string::npos;
  EXPECT_EQ(doubted, GetParam()[1] != "-O0") << changed[0];
}

INSTANTIATE_TEST_SUITE_P(Builds, ValueDoubts,
                         testing::Values(std::vector<std::string>{"gcc", "-O0"}, std::vector<std::string>{"gcc", "-O1"},
                                         std::vector<std::string>{"gcc", "-O2"}, std::vector<std::string>{"gcc", "-O3"},
                                         std::vector<std::string>{"gcc", "-O2", "-m32"},
                                         std::vector<std::string>{"clang", "-O1"},
                                         std::vector<std::string>{"clang", "-O2"},
                                         std::vector<std::string>{"clang", "-O3"},
                                         std::vector<std::string>{"clang", "-O2", "-m32"}),
                         [](const auto& one) {
                           std::string name;
                           for (const std::string& word : one.param) name += word[0] == '-' ? word.substr(1) : word;
                           return name;
                         });

/// Registers that a loop of instructions leaves as they are, and the instruction whose value one holds.
TEST(CodeWays, WhatALoopLeaves) {
  const TempFolder folder;
  write_file(folder / "code.s",
             ".globl _start\n.type _start, @function\n.type loop, @function\n.type jump, @function\n"
             ".type other, @function\n.type end, @function\n.type third, @function\n.type back, @function\n"
             ".type last, @function\n"
             "_start: movl %edi, %ebx\n movl %edi, %r12d\n"
             "loop: subl $1, %ebp\n"
             "jump: jne loop\n movl $7, %ebx\n"
             "other: testl %esi, %esi\n je cold\n subl $1, %ebp\n"
             "end: jne other\n jle inside\n"
             "third: subl $1, %ebp\n"
             "inside: testl %ebp, %ebp\n"
             "back: jne third\n ret\n"
             "cold: incl %r12d\n jmp other\n"
             "last: ret\n");
  ASSERT_EQ(run({"gcc", "-nostdlib", "-static", "-o", folder / "code", folder / "code.s"}).status, 0);
  const auto program = program::Program::open(folder / "code", {});
  ASSERT_TRUE(program);
  const auto place = [&](std::string_view name) { return program->functions_named(name).at(0)->address; };
  debuginfo::DescribedFunction function;
  function.ranges = {{place("_start"), place("last") + 1}};
  const auto reg = [&](unsigned dwarf) { return *arch::dwarf_register(dwarf, program->mode()); };
  constexpr unsigned kRbx = 3, kRbp = 6, kR12 = 12;  // System V ABI, AMD64 supplement, figure 3.36
  const AddressRange loop{place("loop"), place("jump")};
  EXPECT_TRUE(look::loop_leaves(*program, &function, loop, reg(kRbx)));
  EXPECT_TRUE(look::loop_leaves(*program, &function, loop, reg(kR12)));
  EXPECT_FALSE(look::loop_leaves(*program, &function, loop, reg(kRbp)));
  const AddressRange with_cold_code{place("other"), place("end")};
  EXPECT_FALSE(look::loop_leaves(*program, &function, with_cold_code, reg(kR12)));
  const AddressRange entered_inside{place("third"), place("back")};
  EXPECT_FALSE(look::loop_leaves(*program, &function, entered_inside, reg(kRbx)));
  EXPECT_EQ(look::only_writer(*program, &function, reg(kRbx), place("jump")), place("_start"));
  EXPECT_EQ(look::only_writer(*program, &function, reg(kRbp), place("loop")), std::nullopt)
      << "the caller's or its own";
  EXPECT_TRUE(look::comes_back(*program, place("other"), place("end"), place("last")));
  EXPECT_FALSE(look::comes_back(*program, place("last"), place("loop"), place("last") + 1));
}

/// Where each call passes on what it was given itself, callers are asked one after the other: not all of 20,000.
TEST(EntryValues, OfADeepRecursion) {
  const TempFolder folder;
  const std::string program = built(folder, "program",
                                    "void mark(int n);\n"
                                    "volatile int seed = 5;\n"
                                    "__attribute__((noinline)) int dive(int level, int x) {\n"
                                    "  if (level <= 0) { mark(1); return x; }\n"
                                    "  int sum = level * 3 + x;\n"
                                    "  return dive(level - 1, sum ^ x) + sum;\n"
                                    "}\n"
                                    "int main(void) { return dive(20000, seed) & 1; }\n" +
                                        std::string(kMark),
                                    {"gcc", "-O2", "-fno-optimize-sibling-calls", "-g", "-w"});
  const auto said =
      conversation(folder, {program, "--uncut"}, "halt at mark+0\nresume\nin frame 2\nshow level\nshow sum\n");
  EXPECT_EQ(said.err, "");
  EXPECT_NE(said.out.find("sum = 0x9 / 9 "), std::string::npos) << said.out.substr(0, 2000);
}

}  // namespace
}  // namespace deeptrace::tests
