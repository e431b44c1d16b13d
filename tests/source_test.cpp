// `listing --format assembler`: source that can be edited, assembled and linked.
#include <gtest/gtest.h>

#include <random>

#include "support.h"

namespace deeptrace::tests {
namespace {

const std::vector<std::string> kAssembler = {"as", "-O0", "-mindex-reg", "-mintel64"};

std::vector<std::string> joined(std::vector<std::string> words, const std::vector<std::string>& more) {
  words.insert(words.end(), more.begin(), more.end());
  return words;
}

/// Writes the source of `words`, assembles it to `object`.
void take_out(const std::vector<std::string>& words, const std::filesystem::path& source,
              const std::filesystem::path& object, const std::string& mode = "--64") {
  const Outcome listing = deeptrace(joined({"listing", "--format", "assembler"}, words));
  ASSERT_EQ(listing.status, 0) << listing.err;
  write_file(source, listing.out);
  const Outcome assembled = run(joined(kAssembler, {mode, "-o", object, source}));
  ASSERT_EQ(assembled.status, 0) << assembled.err;
}

struct Build {
  std::string compiler;
  std::vector<std::string> flags;
};
void PrintTo(const Build& build, std::ostream* out) {
  *out << build.compiler;
  for (const std::string& flag : build.flags) *out << flag;
}

class Objects : public testing::TestWithParam<Build> {};

/// Contents and relocations of every allocated section, compared by a script that reads ELF by itself.
TEST_P(Objects, AreWrittenExactly) {
  const Build& build = GetParam();
  const TempFolder folder;
  const bool narrow = build.flags.back() == "-m32";
  for (const char* file : {"demo/tidelog/levels.c", "demo/tidelog/tidelog.c", "tests/programs/throwing.cpp"}) {
    const bool plus = std::string(file).ends_with("cpp");
    if (plus && narrow) continue;
    const std::string compiler = !plus ? build.compiler : build.compiler == "gcc" ? "g++" : "clang++";
    ASSERT_EQ(run(joined({compiler, "-c", "-o", folder / "a.o", source(file)}, build.flags)).status, 0);
    for (const char* syntax : {"intel", "att"}) {
      take_out({"--syntax", syntax, folder / "a.o"}, folder / "b.s", folder / "b.o", narrow ? "--32" : "--64");
      const Outcome same = run({"python3", source("tests/same_object.py"), folder / "a.o", folder / "b.o"});
      EXPECT_EQ(same.status, 0) << file << " " << syntax << "\n" << same.out << same.err;
    }
  }
}

INSTANTIATE_TEST_SUITE_P(Builds, Objects,
                         testing::Values(Build{"gcc", {"-O0"}}, Build{"gcc", {"-O2", "-g"}},
                                         Build{"gcc", {"-O2", "-fPIC"}}, Build{"gcc", {"-O2", "-fno-pie"}},
                                         Build{"gcc", {"-O2", "-m32"}}, Build{"clang", {"-O0"}},
                                         Build{"clang", {"-O2", "-fPIC"}}, Build{"clang", {"-O1", "-m32"}}));

/// Exceptions pass functions that were taken out of a linked program and built back in; those with handlers are named.
TEST(Source, UnwindTablesGoWithTheFunctions) {
  const TempFolder folder;
  write_file(folder / "pass.cpp", R"(int thrower(int n);
int pass(int n) {
  volatile int kept[20] = {n};
  return thrower(kept[0] + 1) + kept[n & 15];
}
volatile int count;
struct Held { ~Held() { ++count; } };
int hold(int n) {
  Held held;
  return thrower(n) + count;
}
)");
  write_file(folder / "main.cpp", R"(#include <stdexcept>
int pass(int n);
int hold(int n);
int thrower(int n) { if (n > 1) throw std::runtime_error("high"); return n; }
int main() {
  try { return pass(1) + hold(1); } catch (std::exception &) { return 5; }
}
)");
  for (const std::string bits : {"-m64", "-m32"}) {
    for (const char* level : {"-O0", "-O2"}) {
      SCOPED_TRACE(bits + level);
      const std::vector<std::string> compile = {"g++", bits, level, "-fno-pie", "-no-pie"};
      ASSERT_EQ(run(joined(compile, {"-o", folder / "whole", folder / "main.cpp", folder / "pass.cpp"})).status, 0);
      take_out({folder / "whole", "pass(int)"}, folder / "pass.s", folder / "pass.o", bits == "-m32" ? "--32" : "--64");
      EXPECT_EQ(read_file(folder / "pass.s").find("# note: no unwind tables"), std::string::npos);
      const Outcome built = run(joined(compile, {"-o", folder / "back", folder / "pass.o", folder / "main.cpp",
                                                 folder / "pass.cpp", "-Wl,-z,muldefs"}));
      ASSERT_EQ(built.status, 0) << built.err;
      EXPECT_EQ(run({folder / "back"}).status, 5);
      const Outcome held = deeptrace({"listing", "--format", "assembler", folder / "whole", "hold(int)"});
      EXPECT_NE(held.out.find("# note: no unwind tables are written for hold(int)"), std::string::npos) << held.out;
    }
  }
}

/// The whole way of the guide: a function is taken out of the linked demo, changed, and built back in.
TEST(Source, AFunctionIsTakenOutChangedAndBuiltBackIn) {
  const TempFolder folder;
  const std::string readings = demo("readings.txt");
  for (const char* program : {"tidelog", "tidelog-O2"}) {
    take_out({demo(program), "highest_level"}, folder / "highest.s", folder / "highest.o");
    const auto build = [&](const std::string& out) {
      return run({"gcc", "-O0", "-o", folder / out, folder / "highest.o", source("demo/tidelog/tidelog.c"),
                  source("demo/tidelog/levels.c"), source("demo/tidelog/checksum.s"), "-Wl,-z,muldefs"});
    };
    ASSERT_EQ(build("same").status, 0);
    const std::string before = run({folder / "same", readings}).out;
    EXPECT_EQ(before, run({demo(program), readings}).out) << "unchanged, it behaves as before";

    std::string text = read_file(folder / "highest.s");
    const std::size_t end = text.rfind("\tret\n");
    ASSERT_NE(end, std::string::npos);
    write_file(folder / "highest.s", text.insert(end, "\tmov eax, 2835\n"));
    ASSERT_EQ(run(joined(kAssembler, {"--64", "-o", folder / "highest.o", folder / "highest.s"})).status, 0);
    ASSERT_EQ(build("changed").status, 0);
    EXPECT_NE(run({folder / "changed", readings}).out.find("2835"), std::string::npos);
  }
}

constexpr std::string_view kSwitch = R"(
int pick(int what, int level) {
  switch (what) {
    case 0: return level * 3;
    case 1: return level - 17;
    case 2: return level << 4;
    case 3: return level / 7;
    case 4: return -level;
    case 5: return level ^ 0x55;
    case 6: return level + 1000;
    default: return 0;
  }
}
#ifndef ONLY
int printf(const char*, ...);
double scale(int level) { return level * 0.125 + 3.5; }
int main(void) {
  for (int what = -1; what < 9; ++what) printf("%d %g\n", pick(what, 123), scale(what));
}
#endif
)";

TEST(Source, JumpTablesAndConstantsMoveAlong) {
  const TempFolder folder;
  write_file(folder / "pick.c", std::string(kSwitch));
  for (const char* kind : {"-fpie", "-no-pie"}) {
    const std::string compile = std::string(kind) == "-fpie" ? "-fpie" : "-fno-pie";
    ASSERT_EQ(run({"gcc", "-O2", compile, kind, "-o", folder / "pick", folder / "pick.c"}).status, 0);
    take_out({folder / "pick", "main", "pick", "scale"}, folder / "all.s", folder / "all.o");
    EXPECT_NE(read_file(folder / "all.s").find(".Ltable_"), std::string::npos);
    ASSERT_EQ(run({"gcc", kind, "-o", folder / "again", folder / "all.o"}).status, 0);
    EXPECT_EQ(run({folder / "again"}).out, run({folder / "pick"}).out);
  }
}

TEST(Source, RefusesWhatHasNoName) {
  const TempFolder folder;
  const auto refusal = [&](const std::string& assembly) {
    write_file(folder / "a.s",
               "\t.intel_syntax noprefix\n\t.globl _start\n\t.type _start, @function\n_start:\n" + assembly +
                   "\t.size _start, .-_start\n\t.globl other\n\t.type other, @function\nother:\n\tinc eax\n"
                   "\tret\n\t.size other, .-other\n");
    EXPECT_EQ(run({"gcc", "-nostdlib", "-static", "-o", folder / "a", folder / "a.s"}).status, 0);
    const Outcome outcome = deeptrace({"listing", folder / "a", "_start", "--format", "assembler"});
    EXPECT_EQ(outcome.status, 2);
    EXPECT_EQ(outcome.out, "") << "nothing is written";
    return outcome.err;
  };
  EXPECT_NE(refusal("\tjmp other+2\n").find("_start goes into the middle of other (+2)"), std::string::npos);
  EXPECT_NE(refusal("\tjmp rax\n\tinc ecx\n\tret\n").find("computed jump whose table was not found"),
            std::string::npos);
  EXPECT_NE(refusal("\tlea rax, [rip+.Lx]\n\tret\n\t.section .rodata\n.Lx:\t.long 1, 2, 3\n\t.text\n")
                .find("refers to unnamed data"),
            std::string::npos);
}

/// Damaged tables, relocations and symbols: an error or a source, never a crash (with sanitizers in the debug preset).
TEST(Source, DamagedFilesNeverCrashIt) {
  const TempFolder folder;
  ASSERT_EQ(run({"gcc", "-O2", "-c", "-o", folder / "levels.o", source("demo/tidelog/levels.c")}).status, 0);
  std::mt19937 random(5);
  for (const std::filesystem::path& file : {folder / "levels.o", std::filesystem::path(demo("tidelog-O2"))}) {
    const std::string bytes = read_file(file);
    for (int round = 0; round < 60; ++round) {
      std::string damaged = bytes;
      for (int i = 0; i < 12; ++i) damaged[64 + random() % (damaged.size() - 64)] = static_cast<char>(random());
      write_file(folder / "damaged", damaged);
      for (const char* form : {"--exact", "--data-as-code"}) {
        const Outcome outcome = deeptrace({"listing", folder / "damaged", "--format", "assembler", form});
        EXPECT_LT(outcome.status, 4) << "round " << round << ": " << outcome.err;
      }
    }
  }
}

}  // namespace
}  // namespace deeptrace::tests
