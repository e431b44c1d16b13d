// Which statements may change a variable between two lines. The texts are marked: /*D*/ the variable's declaration,
// /*F*/ where its value was got, /*H*/ where it is looked at, /*C*/ the statement that is to be found.
#include "program/assignments.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace deeptrace::program {
namespace {

std::uint32_t line_of(std::string_view text, std::string_view mark) {
  const std::size_t at = text.find(mark);
  return at == std::string_view::npos
             ? 0
             : static_cast<std::uint32_t>(std::count(text.begin(), text.begin() + at, '\n')) + 1;
}

/// The line that is found for "level", and the one that is marked.
std::pair<std::uint32_t, std::uint32_t> found_in(std::string_view text) {
  const Assignments assignments{std::string(text)};
  const Assignments::Stretch stretch{line_of(text, "/*D*/"), line_of(text, "/*F*/"), line_of(text, "/*H*/")};
  const auto changes = assignments.between("level", stretch);
  return {changes.empty() ? 0 : changes[0].line, line_of(text, "/*C*/")};
}

class Found : public testing::TestWithParam<const char*> {};

TEST_P(Found, AsMarked) {
  const auto [found, marked] = found_in(GetParam());
  EXPECT_EQ(found, marked) << GetParam();
}

constexpr const char* kTexts[] = {
    // Each way to write a change.
    "int f(int level) { /*D*/\n level = 2; /*C*/\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n level <<= 2; /*C*/\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n g(level++); /*C*/\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n --level; /*C*/\n g(level); /*H*/\n}",
    "void f() {\n int level[4]; /*D*/\n level[g(1)] = 2; /*C*/\n g(level); /*H*/\n}",
    "void f() {\n point level; /*D*/\n level.at[2].x += 2; /*C*/\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n if (x) {\n  level = 2; /*C*/\n }\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n int y = x * (level = 3); /*C*/\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n __asm__(\"incl %0\" : \"+r\"(level)); /*C*/\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n asm(\"lea 1(%1), %0\" : \"=r\"(level) : \"r\"(x)); /*C*/\n g(level); /*H*/\n}",
    // What looks like one, and is none.
    "int f(int level) { /*D*/\n __asm__(\"\" : : \"r\"(level));\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n if (level == 2) return 1;\n g(level); /*H*/\n}",
    "int f(int *level) { /*D*/\n *level = 2;\n g(level); /*H*/\n}",
    "int f(log *level) { /*D*/\n level->n = 2;\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n log.level = 2;\n all->level = 2; log::level = 3;\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n // level = 2;\n /* level = 3;\n level = 4; */ g(\"level = 5\\\"; level = 6;\");\n "
    "g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n#define X \\\n level = 2;\n g(R\"x(\nlevel = 3;\n\" level = 5;)x\");\n g(level, '\"'); "
    "/*H*/\n}",
    "int f(int level) { /*D*/\n for (auto &one : level) g(one);\n g(1'000'000 + level); /*H*/\n}",
    // Where the value was got, and where it is looked at.
    "int f(int level) { /*D*/\n level = 2; /*F*/\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n level = 2;\n g(1); /*F*/\n g(level); /*H*/\n level = 3;\n}",
    "int f(int level) { /*D*/\n level = g(level); /*H*/\n}",
    "int e(int level) {\n level = 3;\n}\nint f(int level) { /*D*/\n g(level); /*H*/\n}",
    // Blocks that control does not leave towards the place.
    "int f(int level) { /*D*/\n if (x) {\n  level = 2;\n  return level + g();\n }\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n if (x) {\n  if (y) { level = 2; } /*C*/\n  g();\n }\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n if (x) {\n  level = 2;\n } else {\n  g(level); /*H*/\n }\n}",
    "int f(int level) { /*D*/\n if (x) {\n  level = 2; /*C*/\n } else {\n  g();\n }\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n if (x) {\n  level = 2;\n } else if (y) {\n  g();\n } else g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n if (x) {\n  level = 2;\n  throw level;\n }\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n switch (x) {\n case 1:\n  level = 2;\n  break;\n default:\n  g(level); /*H*/\n }\n}",
    "int f(int level) { /*D*/\n switch (x) {\n case 1: {\n  level = 2;\n  break;\n }\n case 2:\n  g(level); /*H*/\n "
    "}\n}",
    "int f(int level) { /*D*/\n switch (x) {\n case 1:\n  level = 2; /*C*/\n case 2:\n  g(level); /*H*/\n }\n}",
    "int f(int level) { /*D*/\n switch (x) {\n case 1:\n  level = 2; /*C*/\n  break;\n case 2:\n  g(1);\n }\n "
    "g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n switch (x) {\n case 1:\n  if (y) { level = 2; break; }\n case 2:\n  g(level); /*H*/\n "
    "}\n}",
    "int f(int level) { /*D*/\n while (y) { /*F*/\n  switch (x) {\n  case 1: level = 2; continue;\n  case 2: g(level); "
    "/*H*/\n  }\n }\n}",
    // Loops.
    "int f(int level) { /*D*/\n while (x) {\n  g(level); /*H*/\n  level = 2; /*C*/\n }\n}",
    "int f(int level) { /*D*/\n while (x) {\n  g(1); /*F*/\n  g(level); /*H*/\n  level = 2;\n }\n}",
    "int f(int level) { /*D*/\n g(1); /*F*/\n do\n  for (int i = 0; i < 3; i++)\n   if (x)\n    g(level); /*H*/\n   "
    "else\n    level = 2; /*C*/\n while (y);\n}",
    "int f(int level) { /*D*/\n g(1); /*F*/\n for (;;)\n  g(level); /*H*/\n level = 2;\n}",
    "void f() {\n for (int level = 0; /*D*/\n  level < 3; level++) { /*C*/\n  g(level); /*H*/\n }\n}",
    "int f(int x) {\n while (x) {\n  int level = g(); /*D*/ /*F*/\n  g(level); /*H*/\n  level = 2;\n }\n}",
    // Other variables of the same name.
    "int f(int level) { /*D*/\n {\n  float level = 2;\n  level = 3;\n }\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n {\n  const std::vector<int> &level = all;\n  level[0] = 3;\n  { level[1] = 2; }\n }\n "
    "g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n {\n  float level = 2;\n }\n level = 3; /*C*/\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n int y = 2 * level;\n if (y) return level;\n level = 3; /*C*/\n g(level); /*H*/\n}",
    // Words and signs that a reader may stumble over.
    "int f(int level) { /*D*/\n#define X(y) y; level = 2;\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n g(1'000); level = 2; /*C*/\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n g(1); /*F*/\n while (y)\n  if constexpr (x)\n   g(level); /*H*/\n  else\n   level = 2; "
    "/*C*/\n}",
    "int f(int level) { /*D*/\n g(1); /*F*/\n do\n  g(level); /*H*/\n while (level++ < 3); /*C*/\n}",
    "int f(int x) {\n while (x) {\n  int level = g(); /*D*/\n  g(level); /*H*/\n  level = 2;\n }\n}",
    // Products, comparisons and lists of initial values declare nothing.
    "int f(int level) { /*D*/\n if (x > level) return 1;\n level = 3; /*C*/\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n y = x * level; z = (int)x & level;\n level = 3; /*C*/\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n g(x * level, a < b, c > level); return x * level;\n level = 3; /*C*/\n g(level); "
    "/*H*/\n}",
    "int f(int level) { /*D*/\n gauge y = {x * level, 2}; if (x && level) g(1);\n level = 3; /*C*/\n g(level); "
    "/*H*/\n}",
    "int f(int level) { /*D*/\n {\n  std::map<std::string, gauge *> level;\n  level = 3;\n }\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n {\n  unsigned level, x;\n  level = 3;\n }\n for (gauge *level = x; y;)\n  g(1);\n "
    "g(level); /*H*/\n}",
    "int f(int *level) { /*D*/\n if (x) *level = 2; else *level = 3;\n ++level->n;\n g(level); /*H*/\n}",
    // Texts that end in the middle, or do not match.
    "int f(int level) { /*D*/\n if (x) { g((1;\n  level = 2; return 1; }\n g(level); /*H*/\n}",
    "int f(int level) { /*D*/\n level = 3; /*C*/\n g(level); /*H*/\n while (x) { if (",
    "int f(int level) { /*D*/ ) ] }\n } }\n level = 3; /*C*/\n g(level); /*H*/ \"abc",
    "",
};
INSTANTIATE_TEST_SUITE_P(Assignments, Found, testing::ValuesIn(kTexts));

TEST(Assignments, AddressesThatAreTaken) {
  const auto taken = [](const char* body) {
    return Assignments(std::string("int f(int level) {\n") + body + "\n}").takes_address("level", 1, 2);
  };
  for (const char* body : {"g(&level);", "int *at = &level;", "return &level;", "g(1, &level);", "x = y ? &level : 0;"})
    EXPECT_TRUE(taken(body)) << body;
  for (const char* body : {"g(x & level);", "g(x[1]&level);", "g(f(x) & level);", "g(3 & level);", "g(x && level);",
                           "{ int level; g(&level); }", "g(&log.level);", "// &level", "}\nint e(int x) { g(&level);"})
    EXPECT_FALSE(taken(body)) << body;
}

/// Lines 2 to 5 of a function's body; 0 where there are no two changes.
TEST(Assignments, TwoThatFollowEachOther) {
  const auto two = [](const char* body, bool pointers = false) {
    const auto found =
        Assignments(std::string("int f(int level) {\n") + body + "\n}").two_in("level", 1, 2, 6, pointers);
    return found ? std::pair(found->earlier, found->later) : std::pair(0U, 0U);
  };
  using Lines = std::pair<std::uint32_t, std::uint32_t>;
  EXPECT_EQ(two("level = 2;\n\nlevel += 3;"), Lines(2, 4));
  EXPECT_EQ(two("level = 2; level = 3;"), Lines(2, 2));
  EXPECT_EQ(two("level = 2;\n\n\n\nlevel += 3;"), Lines(0, 0)) << "the second is on line 6";
  EXPECT_EQ(two("if (x) {\nlevel = 2;\n} else {\nlevel = 3; }"), Lines(0, 0)) << "one or the other";
  EXPECT_EQ(two("if (x) {\nlevel = 2;\nlevel = 4;\n} else level = 3;"), Lines(3, 4));
  EXPECT_EQ(two("level = 2;\n{ int level = 3; level = 4; }"), Lines(0, 0));
  EXPECT_EQ(two("level = 2;\n*x = 3;"), Lines(0, 0));
  for (const char* written : {"*x = 3;", "x->y += 3;", "x->y[1].z--;", "g(), ++x->y;"})
    EXPECT_EQ(two((std::string("level = 2;\n") + written).c_str(), true), Lines(2, 3)) << written;
  for (const char* other : {"y = z * x; z = 3;", "x.y = 3;", "g(x->y);", "y = x->z;", "*x == 3;"})
    EXPECT_EQ(two((std::string("level = 2;\n") + other).c_str(), true), Lines(0, 0)) << other;
  // The declaration counts where it gives a value.
  const auto declared = [](const char* text) { return Assignments(text).two_in("level", 2, 2, 5, false).has_value(); };
  EXPECT_TRUE(declared("void f() {\nint level = x;\nlevel++;\n}"));
  EXPECT_FALSE(declared("void f() {\nint level;\nlevel++;\n}"));
}

TEST(Assignments, WordsOfWhatAVariableGets) {
  const auto words = [](const char* text) {
    const Assignments all(text);
    const auto found = all.words_for("level", 2, 9);
    return std::pair(found.numbers, std::vector<std::string>(found.names.begin(), found.names.end()));
  };
  using Words = std::pair<std::vector<std::uint64_t>, std::vector<std::string>>;
  EXPECT_EQ(words("void f() {\nint level = x + 0x1f * (y - 017), z = 4;\ng(5);\n}"), Words({31, 15}, {"x", "y"}));
  EXPECT_EQ(words("void f() {\nint level;\nlevel = 0b101 & 1'000u;\nlevel++;\nother = 7;\n}"), Words({5, 1000, 1}, {}));
  EXPECT_EQ(words("void f() {\nint level;\nfor (level = 3; level < 9; --level) g(2);\n}"), Words({3, 1}, {}));
  EXPECT_EQ(words("void f() {\nint level;\ng(level = 3, 4);\n level = 1.5 + 99999999999999999999;\n}"), Words({3}, {}));
}

TEST(Assignments, AllOfThem) {
  const Assignments one(
      "int f(int level) {\n for (;;)\n  level[1] = 2;\n level = 3;\n while (x) {\n  level = 4;\n  g(level);\n }\n}");
  using Changes = std::vector<Assignments::Change>;
  EXPECT_EQ(one.between("level", {1, 0, 7}),
            (Changes{{3, true, true}, {4, false, false, true}, {6, false, false, true}}));
  EXPECT_EQ(one.between("level", {1, 3, 7}), (Changes{{4, false, false, true}, {6, false, false, true}}));
  EXPECT_EQ(one.between("level", {1, 4, 5}), (Changes{{6, false, false}}));
}

/// Of a value that is said to hold for all the scope, the head of the loop that declares the variable counts.
TEST(Assignments, TheHeadOfALoop) {
  const Assignments loop("void f() {\n for (int level = 0; level < 3; level++) {\n  g(level);\n }\n}");
  EXPECT_EQ(loop.between("level", {2, 0, 3}).size(), 1U);
  EXPECT_TRUE(loop.between("level", {2, 1, 3}).empty());
  EXPECT_TRUE(loop.between("level", {2, 2, 3}).empty());
}

/// What gives "level" its value before line `here`, as "3: = x + 1; 5?: + 2".
std::string way_in(const char* text, std::uint32_t here, bool parameter = false) {
  const Assignments all(text);
  const auto way = all.way_to("level", 1, parameter, {here, here});
  if (!way) return "not known";
  if (way->addressed) return "by its address until " + std::to_string(way->mixed);
  if (way->mixed != 0) return (way->counted ? "counted until " : "mixed until ") + std::to_string(way->mixed);
  std::string words = way->from_start ? "passed" : "";
  for (const auto& step : way->steps) {
    words += (words.empty() ? "" : "; ") + std::to_string(step.line) + (step.certain ? "" : "?") + ": ";
    words += (step.sign.empty() ? "=" : std::string(step.sign)) + " " + std::string(step.value);
  }
  return words;
}

TEST(Assignments, TheWayToAValue) {
  EXPECT_EQ(way_in("void f() { int level = (x + 1) * 2;\n g();\n}", 2), "1: = (x + 1) * 2");
  EXPECT_EQ(way_in("void f() { int level = 1;\n level = x;\n level += y << 2;\n level++;\n g();\n}", 5),
            "2: = x; 3: + y << 2; 4: + 1");
  EXPECT_EQ(way_in("void f() { int level = 1;\n if (x)\n  level = 2;\n else {\n  level -= 3;\n }\n g();\n}", 7),
            "1: = 1; 3?: = 2; 5?: - 3");
  EXPECT_EQ(way_in("void f() { int level = 1;\n level = level * 2;\n g();\n}", 3), "1: = 1; 2: = level * 2");
  EXPECT_EQ(way_in("void f(int level) {\n level *= 3;\n g();\n}", 3, true), "passed; 2: * 3");
  EXPECT_EQ(way_in("void f() { int level = 1;\n switch (x) {\n case 1:\n  g();\n  level = 2;\n }\n}", 4), "1: = 1");
  EXPECT_EQ(way_in("void f(int level) {\n level = 3;\n g();\n}", 3, true), "2: = 3");
  EXPECT_EQ(way_in("void f() { int level = 1;\n while (x) {\n  level = 2;\n }\n g();\n}", 5), "1: = 1; 3?: = 2");
  EXPECT_EQ(way_in("void f() { float level = x * 0.5f;\n level += 1e-3;\n g();\n}", 3), "1: = x * 0.5f; 2: + 1e-3");
}

/// Several statements did it, one of which is of a loop, or has more than names, numbers and operators.
TEST(Assignments, AWayOfSeveralStatements) {
  EXPECT_EQ(way_in("void f() { int level = 1;\n while (x) {\n  level += x;\n }\n g();\n}", 5), "mixed until 3");
  EXPECT_EQ(way_in("void f() { int level = 1;\n for (;;) {\n  g();\n  level = 2;\n }\n}", 3), "mixed until 1");
  EXPECT_EQ(way_in("void f() { int level = h(x);\n level += 2 * x;\n g();\n}", 3), "mixed until 2");
  EXPECT_EQ(way_in("void f() { int level = 1;\n level += h(x);\n g();\n}", 3), "mixed until 2");
  EXPECT_EQ(way_in("void f(int level) {\n level += h(x);\n g();\n}", 3, true), "mixed until 2");
  EXPECT_EQ(way_in("void f() { int level = h(x);\n while (x) {\n  g();\n  level--;\n }\n}", 3), "mixed until 1");
  EXPECT_EQ(way_in("void f() { int level = 1;\n FOR_EACH(y) {\n  g();\n  level = 2;\n }\n}", 3), "mixed until 1");
  EXPECT_EQ(way_in("void f() { int level = 1;\n while (x) {\n  level += 2;\n }\n g();\n}", 5), "counted until 3");
  EXPECT_EQ(way_in("void f() { int level = 1;\n FOR_EACH(y) level += 2;\n g();\n}", 3), "counted until 2");
  EXPECT_EQ(way_in("void f() { for (int level = 0; level < 3; level++) {\n  g();\n }\n}", 2), "counted until 1");
  EXPECT_EQ(way_in("void f() { for (int level = 9; x; level -= 2) {\n  g();\n }\n}", 2), "counted until 1");
  EXPECT_EQ(way_in("void f() { for (int level = 9; x; level -= x) {\n  g();\n }\n}", 2), "mixed until 1");
}

TEST(Assignments, AWayPastStatementsThatOthersMayHaveDone) {
  EXPECT_EQ(way_in("void f() { int level = 1; int *at = &level; *at = 2;\n g();\n}", 2), "by its address until 1");
  EXPECT_EQ(way_in("void f() { int level = 1; h(&level);\n level = 2;\n g();\n}", 3), "by its address until 2");
}

TEST(Assignments, AWayThatALoopRepeats) {
  const auto repeated = [](const char* text, std::uint32_t here) {
    const Assignments all(text);
    const auto way = all.way_to("level", 1, false, {here, here});
    return way && way->mixed != 0 && way->repeated;
  };
  EXPECT_TRUE(repeated("void f() { int level = 1;\n for (;;) {\n  g();\n  level = 2;\n }\n}", 3));
  EXPECT_TRUE(repeated("void f() { int level = 1;\n while (x) {\n  level += x;\n }\n g();\n}", 5));
  EXPECT_FALSE(repeated("void f() { int level = 1;\n level += h(x);\n g();\n}", 3));
  EXPECT_FALSE(repeated("void f() { int level = 1;\n if (x) {\n  level += h(x);\n }\n g();\n}", 5));
}

/// Lines that change a variable on each pass of a loop, seen from the loop's inside.
TEST(Assignments, WhatEachPassChanges) {
  const auto lines = [](const char* text, std::uint32_t here) {
    const Assignments all(text);
    std::vector<std::pair<Assignments::Lines, std::uint32_t>> found;
    for (const auto& pass : all.changed_in_passes("level", 1, here)) found.emplace_back(pass.loop, pass.line);
    return found;
  };
  using Passes = std::vector<std::pair<Assignments::Lines, std::uint32_t>>;
  EXPECT_EQ(lines("void f(int level) {\n for (;;) {\n  g();\n  level = 2;\n }\n}", 3), (Passes{{{2, 5}, 4}}));
  EXPECT_EQ(lines("void f(int level) {\n for (; x; level++) {\n  g();\n }\n}", 3), (Passes{{{2, 4}, 2}}));
  EXPECT_EQ(lines("void f(int level) {\n while (x) {\n  for (;;) {\n   g();\n  }\n  level++;\n }\n}", 4),
            (Passes{{{2, 7}, 6}}));
  const char* none[] = {
      "void f(int level) {\n for (;;) {\n  level = 2;\n  g();\n }\n}",                    // before the place
      "void f(int level) {\n for (;;) {\n  g();\n  if (x) {\n   level = 2;\n  }\n }\n}",  // perhaps
      "void f(int level) {\n for (;;) {\n  g();\n  if (x) level = 2;\n }\n}",
      "void f(int level) {\n for (;;) {\n  g();\n }\n level = 2;\n}",  // after the loop
      "void f(int level) {\n for (;;) {\n  g();\n  level[0] = 2;\n }\n}",
  };
  for (const char* text : none)
    EXPECT_TRUE(lines(text, static_cast<std::uint32_t>(line_of(text, "g("))).empty()) << text;
}

TEST(Assignments, WhatIsWrittenThroughPointers) {
  const Assignments all("void f() { int level = 1; int *at = &level;\n g();\n *at = 2;\n at[0] = 3;\n g();\n}");
  EXPECT_EQ(all.through_pointers({1, 1, 2}).size(), 0U);
  ASSERT_EQ(all.through_pointers({1, 1, 5}).size(), 1U);
  EXPECT_EQ(all.through_pointers({1, 1, 5})[0].line, 3U);
  const Assignments declared("void f() { int level = 1;\n int x = h(2), *at = &level;\n x = 3, *at = 2;\n g();\n}");
  ASSERT_EQ(declared.through_pointers({1, 1, 4}).size(), 1U);
  EXPECT_EQ(declared.through_pointers({1, 1, 4})[0].line, 3U);
}

/// What a declaration adds after a comma is a variable of its own.
TEST(Assignments, SeveralInOneDeclaration) {
  EXPECT_EQ(way_in("void f() { int x = 1, level = 2;\n g();\n}", 2), "1: = 2");
  const auto changes = [](const char* text) { return Assignments(text).between("level", {1, 0, 3}).size(); };
  EXPECT_EQ(changes("void f(int level) {\n { int x = h(2), level = 3; }\n g();\n}"), 0U);
  EXPECT_EQ(changes("void f(int level) {\n { x = h(2), level = 3; }\n g();\n}"), 1U);
  EXPECT_EQ(changes("void f(int level) {\n if (y) return x, level = 3;\n g();\n}"), 1U);
}

TEST(Assignments, TheLoopThatCounts) {
  const Assignments all(
      "void f(int level) {\n for (int i = 0; i < 3; i++) {\n  for (; x; level += 2)\n   g();\n  h();\n }\n}");
  EXPECT_EQ(all.counting_loop("level", 1, 4), (Assignments::Lines{3, 4}));
  EXPECT_EQ(all.counting_loop("level", 1, 5), std::nullopt);
  EXPECT_EQ(all.counting_loop("i", 2, 4), (Assignments::Lines{2, 6}));
  EXPECT_EQ(all.counting_loop("x", 1, 4), std::nullopt);
}

TEST(Assignments, AWayThatTheTextDoesNotTell) {
  const char* unknown[] = {
      "void f() { static int level = 1;\n g();\n}",
      "void f() { int level = 1;\n g(level++);\n}",                        // on the line itself
      "void f() { int level = 1; goto end;\n level = 2;\nend:\n g();\n}",  // past a statement
      "void f() { int level = 1; [&] { level = 2; }();\n g();\n}",
      "void f() { int level = 1; x && (level = 2);\n g();\n}",
  };
  for (const char* text : unknown) {
    const auto here = static_cast<std::uint32_t>(line_of(text, "g("));
    EXPECT_EQ(way_in(text, here), "not known") << text;
  }
}

TEST(Assignments, WhatIsKept) {
  const auto kept = [](const char* text, std::uint32_t from, std::uint32_t here) {
    return Assignments(text).is_kept("level", 1, from, {here, here});
  };
  EXPECT_TRUE(kept("void f(int level) {\n x = level;\n g();\n level = 2;\n}", 2, 3));
  EXPECT_FALSE(kept("void f(int level) {\n x = level;\n level = 2;\n g();\n}", 2, 4));
  EXPECT_FALSE(kept("void f(int level) {\n x = level; level = 3;\n g();\n}", 2, 3)) << "on the line";
  EXPECT_FALSE(kept("void f(int level) {\n x = level;\n h(&level);\n g();\n}", 2, 4));
  EXPECT_FALSE(kept("void f() { static int z, level = 1;\n x = level;\n g();\n}", 2, 3));
  const char* loop = "void f(int level) {\n while (y) {\n  level = y;\n  x = level;\n }\n g();\n}";
  EXPECT_FALSE(kept(loop, 4, 6)) << "the loop may have gone on";
  EXPECT_TRUE(kept("void f(int level) {\n level = g(level);\n}", 2, 2)) << "in the call";
}

TEST(Assignments, MacrosThatChangeWhatTheyGet) {
  const auto changed = [](const char* text) { return !Assignments(text).between("level", {2, 0, 4}).empty(); };
  const char* raise = "#define RAISE(by, x) do { (x) += (by); } while (0)\nvoid f(int level) {\n %s;\n g();\n}";
  const auto with = [](std::string text, const char* call) { return text.replace(text.find("%s"), 2, call); };
  EXPECT_TRUE(changed(with(raise, "RAISE(1, level)").c_str()));
  EXPECT_FALSE(changed(with(raise, "RAISE(level, x)").c_str()));
  EXPECT_FALSE(changed(with(raise, "LOWER(level)").c_str()));
  EXPECT_TRUE(changed("#define UP(x) ++x\nvoid f(int level) {\n UP(level);\n g();\n}"));
  const char* fill = "#define FILL(x) fill(&(x))\nvoid f(int level) {\n FILL(level);\n g();\n}";
  EXPECT_FALSE(changed(fill));
  EXPECT_TRUE(Assignments(fill).takes_address("level", 2, 4));
  EXPECT_FALSE(changed("#define SHOW(x) show((x) == 3)\nvoid f(int level) {\n SHOW(level);\n g();\n}"));
  EXPECT_FALSE(changed("#define LEVEL (level = 3)\nvoid f(int level) {\n LEVEL(level);\n g();\n}"));
}

TEST(Assignments, WhatACallPasses) {
  const Assignments all(
      "int g(int a);\nvoid f(int x) {\n int y = g(x + 1, (int)(x & 7), h(2), &x, -x * 0.5);\n g(1); g(2);\n g();\n}");
  EXPECT_EQ(all.passed_on(3, "g"), (std::vector<std::string_view>{"x + 1", "(int)(x & 7)", "", "&x", "-x * 0.5"}));
  EXPECT_EQ(all.passed_on(3, "h"), (std::vector<std::string_view>{"2"}));
  EXPECT_TRUE(all.passed_on(4, "g").empty()) << "there are two";
  EXPECT_TRUE(all.passed_on(1, "g").empty()) << "a declaration";
}

/// The lines that control comes by for certain on its way to another one.
TEST(Assignments, ThoseThatAreCertain) {
  const auto certain = [](const char* text, std::uint32_t here) {
    std::vector<std::uint32_t> lines;
    for (const auto& one : Assignments(text).between("level", {1, 0, here})) {
      if (one.certain) lines.push_back(one.line);
    }
    return lines;
  };
  using Lines = std::vector<std::uint32_t>;
  const char* branch =
      "void f(int level) {\nif (x)\n level = 1;\nlevel = 2;\nif (x) {\n level = 3;\n g(level);\n}\ng(level);\n}";
  EXPECT_EQ(certain(branch, 7), (Lines{4, 6}));
  EXPECT_EQ(certain(branch, 9), (Lines{4}));
  const char* loop = "void f(int level) {\nwhile (x) {\n g(level);\n level = 1;\n g(level);\n}\ng(level);\n}";
  EXPECT_EQ(certain(loop, 3), (Lines{}));
  EXPECT_EQ(certain(loop, 5), (Lines{4}));
  EXPECT_EQ(certain(loop, 7), (Lines{}));
  const char* cases =
      "void f(int level) {\nswitch (x) {\n case 1:\n  level = 1;\n  g(level);\n case 2:\n  g(level);\n  break;\n}\n}";
  EXPECT_EQ(certain(cases, 5), (Lines{4}));
  EXPECT_EQ(certain(cases, 7), (Lines{})) << "the other case is jumped to";
}

TEST(Assignments, DeeplyNestedStatementsEnd) {
  std::string text = "int f(int level) {\n";
  for (int i = 0; i < 100000; ++i) text += "for (;;) ";
  text += "g(level);\n level = 2;\n g(level);\n}";
  EXPECT_EQ(Assignments(text).between("level", {1, 0, 4}).size(), 1U);
}

}  // namespace
}  // namespace deeptrace::program
