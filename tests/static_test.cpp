// `lines`, `uses` and `compare`, judged by the compiler's and the assembler's own accounts.
#include <gtest/gtest.h>

#include <map>
#include <nlohmann/json.hpp>
#include <regex>
#include <set>
#include <sstream>

#include "live_support.h"
#include "program/flow_graph.h"
#include "program/frame.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

json told(const std::vector<std::string>& words, int status = 0) {
  const Outcome outcome = deeptrace(words);
  EXPECT_EQ(outcome.status, status) << outcome.err;
  return outcome.out.empty() ? json() : json::parse(outcome.out);
}

std::uint64_t number(const json& hex) { return std::stoull(hex.get<std::string>(), nullptr, 16); }

struct Build {
  std::string compiler, level, dwarf;
};
void PrintTo(const Build& b, std::ostream* out) { *out << b.compiler << ' ' << b.level << ' ' << b.dwarf; }

class LineCommand : public testing::TestWithParam<Build> {};

/// Each instruction belongs to the line of the last .loc before it in the compiler's output.
TEST_P(LineCommand, AreThoseOfTheCompiler) {
  for (const std::string file :
       {"demo/tidelog/levels.c", "demo/gauge32/gauge32.c", "demo/buoy/buoy.c", "tests/programs/winding.c"}) {
    const TempFolder folder;
    std::vector<std::string> words = {GetParam().compiler, "-g",        GetParam().dwarf, GetParam().level, "-S", "-o",
                                      folder / "a.s",      source(file)};
    if (words[0] == "clang") words.push_back("-fno-integrated-as");  // write what GNU as reads
    ASSERT_EQ(run(words).status, 0);
    const std::vector<Assembled> all = assemble_with_listing(folder / "a.s", folder / "a.o");
    const std::string name = std::filesystem::path(file).filename();
    std::map<std::pair<std::string, std::uint64_t>, unsigned> expected, found;
    unsigned last = 0;
    for (const Assembled& one : all) {
      if (one.line == 0) continue;
      expected[{one.section, one.offset}] = one.line;
      last = std::max(last, one.line);
    }
    const json lines = told({"lines", "--format", "json", folder / "a.o", name + ":1.." + std::to_string(last)});
    for (const json& line : lines["lines"]) {
      std::size_t instructions = 0, bytes = 0;
      for (const json& range : line["ranges"]) {
        for (const json& one : range["code"]) {
          found[{range["section"].get<std::string>(), number(one["address"])}] = line["line"];
          ++instructions;
        }
        bytes += number(range["to"]) - number(range["from"]);
      }
      EXPECT_EQ(line["instructions"], instructions) << name << ":" << line["line"];
      EXPECT_EQ(line["bytes"], bytes) << name << ":" << line["line"];
    }
    // Padding that the assembler puts in stands in no listing, and what clang gives line 0 goes to the line before.
    std::size_t extra = 0;
    for (const auto& [place, line] : found) extra += expected.contains(place) ? 0 : 1;
    for (const auto& [place, line] : expected) {
      ASSERT_TRUE(found.contains(place)) << name << " " << place.first << "+" << place.second << " line " << line;
      EXPECT_EQ(found[place], line) << name << " " << place.first << "+" << place.second;
    }
    EXPECT_LE(extra, found.size() / 7) << name;
    EXPECT_GT(expected.size(), 50U);
  }
}

/// The same of real packages' sources, all their files at once.
TEST_P(LineCommand, OfRealPackagesAreThoseOfTheCompiler) {
  const TempFolder folder;
  std::vector<RealSource> sources = real_programs(folder);
  const std::vector<RealSource> parts = real_parts();
  // Each build takes its share, so that both compilers see every source, and every level some of each package.
  constexpr std::size_t kShare = 4;
  const std::size_t turn = static_cast<std::size_t>(GetParam().level.back()) % kShare;  // 0, 1, 2, s: all different
  std::vector<RealSource> chosen(parts.begin(), parts.end());
  for (std::size_t i = turn; i < sources.size(); i += kShare) chosen.push_back(sources[i]);
  std::size_t instructions = 0;
  for (const RealSource& real : chosen) {
    std::vector<std::string> words = {
        GetParam().compiler, "-g", GetParam().dwarf, GetParam().level, "-w", "-S", "-o", folder / "a.s", real.path};
    if (real.is_cxx()) words[0] = words[0] == "gcc" ? "g++" : "clang++";
    if (GetParam().compiler == "clang") words.push_back("-fno-integrated-as");
    for (const std::string& option : real.options) {
      if (option.starts_with("-I")) words.push_back(option);
    }
    ASSERT_EQ(run(words).status, 0) << real.path;
    const std::vector<Assembled> expected = assemble_with_listing(folder / "a.s", folder / "a.o");
    const json lines = told({"lines", "--all", "--format", "json", folder / "a.o"});
    struct Run {
      std::uint64_t to;
      std::string file;
      unsigned line;
    };
    std::map<std::pair<std::string, std::uint64_t>, Run> runs;
    for (const json& line : lines["lines"]) {
      const std::string file = std::filesystem::path(line["file"].get<std::string>()).filename();
      for (const json& range : line["ranges"])
        runs[{range["section"], number(range["from"])}] = {number(range["to"]), file, line["line"]};
    }
    std::size_t wrong = 0;
    for (const Assembled& one : expected) {
      if (one.line == 0) continue;
      ++instructions;
      const auto after = runs.upper_bound({one.section, one.offset});
      const bool held = after != runs.begin() && std::prev(after)->first.first == one.section &&
                        one.offset < std::prev(after)->second.to;
      if (held && std::prev(after)->second.line == one.line && std::prev(after)->second.file == one.file) continue;
      if (++wrong <= 5)
        ADD_FAILURE() << real.path << " " << one.section << "+" << one.offset << ": " << one.file << ":" << one.line
                      << " but "
                      << (held ? std::prev(after)->second.file + ":" + std::to_string(std::prev(after)->second.line)
                               : "no line");
    }
    EXPECT_EQ(wrong, 0U) << real.path;
  }
  std::printf("%zu sources, %zu instructions\n", chosen.size(), instructions);
}

INSTANTIATE_TEST_SUITE_P(Builds, LineCommand,
                         testing::Values(Build{"gcc", "-O0", "-gdwarf-5"}, Build{"gcc", "-O1", "-gdwarf-4"},
                                         Build{"gcc", "-O2", "-gdwarf-5"}, Build{"gcc", "-Os", "-gdwarf-5"},
                                         Build{"clang", "-O0", "-gdwarf-5"}, Build{"clang", "-O1", "-gdwarf-5"},
                                         Build{"clang", "-O2", "-gdwarf-4"}, Build{"clang", "-Os", "-gdwarf-5"}));

constexpr std::string_view kInlining =
    R"(volatile int total; static inline __attribute__((always_inline)) int doubled(int level)
{
  total += level * 2; return total;
}
static inline __attribute__((always_inline)) int corrected(int level)
{
  return doubled(level) - 12;
}
int first(int a) { return corrected(a); }
int second(int a)
{
  int sum = doubled(a);

  return sum + corrected(a + 1);
}
)";

TEST(LinesOf, InlinedCopiesAreToldWithTheirCalls) {
  const TempFolder folder;
  write_file(folder / "a.c", std::string(kInlining));
  for (const std::string compiler : {"gcc", "clang"}) {
    ASSERT_EQ(run({compiler, "-g", "-O1", "-c", "-o", folder / "a.o", folder / "a.c"}).status, 0);
    const json lines = told({"lines", "--format", "json", folder / "a.o", "a.c:3"});
    std::set<std::string> chains;
    for (const json& range : lines["lines"][0]["ranges"]) {
      std::string chain = range["function"];
      for (const json& call : range["inlined"])
        chain += ">" + call["function"].get<std::string>() + "@" + std::to_string(call["line"].get<int>());
      chains.insert(chain);
    }
    EXPECT_TRUE(chains.contains("first>corrected@9>doubled@7")) << compiler << json(chains);
    EXPECT_TRUE(chains.contains("second>doubled@12")) << compiler << json(chains);
    // The way back agrees.
    for (const json& range : lines["lines"][0]["ranges"]) {
      const std::string place =
          range["function"].get<std::string>() + "+" +
          std::to_string(number(range["from"]) - number(told({"lines", "--format", "json", "--at", range["function"],
                                                              folder / "a.o"})["address"]));
      const json origin = told({"lines", "--format", "json", "--at", place, folder / "a.o"});
      EXPECT_EQ(origin["line"], 3);
      EXPECT_EQ(origin["inlined"], range["inlined"]);
    }
    EXPECT_EQ(told({"lines", "--format", "json", folder / "a.o", "a.c:13"}, 1)["lines"][0]["nearest"], 14);
  }
}

/// Line 2 has a place in the program and no instruction; the assembler's `.loc` marks are the oracle.
TEST(LinesOf, ALineWithoutInstructionsHasItsPlace) {
  const TempFolder folder;
  write_file(folder / "a.c", "1\n2\n3\n");
  write_file(folder / "a.s",
             "\t.file 1 \"a.c\"\n\t.globl f\n\t.type f, @function\nf:\n\t.loc 1 1\n\tpush %rax\n"
             "\t.loc 1 2\n\t.loc 1 3 0 prologue_end\n\tpop %rax\n\t.loc 1 1 0 is_stmt 0\n\tret\n\t.size f, .-f\n");
  ASSERT_EQ(run({"gcc", "-g", "-c", "-o", folder / "a.o", folder / "a.s"}).status, 0);
  const json line = told({"lines", "--format", "json", folder / "a.o", "a.c:2"}, 1)["lines"][0];
  EXPECT_EQ(line["places"], json::parse(R"([{"address": "0x1", "function": "f", "line": 3}])"));
  const json at = told({"lines", "--format", "json", "--at", "f+1", folder / "a.o"});
  EXPECT_EQ(at["line"], 3);
  ASSERT_EQ(at["also"].size(), 1U);
  EXPECT_EQ(at["also"][0]["line"], 2);
  EXPECT_EQ(at["prologue_end"], true);
  EXPECT_EQ(at["statement"], true);
  const json ranges = told({"lines", "--format", "json", folder / "a.o", "a.c:1"})["lines"][0]["ranges"];
  ASSERT_EQ(ranges.size(), 2U);
  EXPECT_EQ(ranges[0]["statement"], true);
  EXPECT_EQ(ranges[1]["statement"], false);
  EXPECT_NE(
      deeptrace({"lines", folder / "a.o", "a.c:2"}).out.find("begins at 0x1 in f, where the instructions of line 3"),
      std::string::npos);
}

TEST(LinesOf, AFileWithoutLineTablesCannotServe) {
  const TempFolder folder;
  write_file(folder / "a.c", "int main(void) { return 0; }\n");
  ASSERT_EQ(run({"gcc", "-o", folder / "a", folder / "a.c"}).status, 0);
  const Outcome outcome = deeptrace({"lines", folder / "a"});
  EXPECT_EQ(outcome.status, 3);
  EXPECT_NE(outcome.err.find("has no line tables; compile it with -g"), std::string::npos) << outcome.err;
}

TEST(LinesOf, APageHoldsNothingThatActs) {
  const TempFolder folder;
  write_file(folder / "a.c", "int level(void) { /* <script>alert(1)</script> */ return 1; }\n");
  ASSERT_EQ(run({"gcc", "-g", "-c", "-o", folder / "a.o", folder / "a.c"}).status, 0);
  ASSERT_EQ(deeptrace({"lines", "--format", "none", "--save", folder / "out", folder / "a.o"}).status, 0);
  const std::string page = read_file(folder / "out/lines.html");
  EXPECT_NE(page.find("&lt;script&gt;alert(1)"), std::string::npos);
  EXPECT_EQ(page.find("<script>alert"), std::string::npos);
  EXPECT_EQ(page.find("http"), std::string::npos) << "self-contained";
}

/// How often the instructions of the compiler's output name a symbol.
std::map<std::string, std::size_t> mentions(const std::filesystem::path& assembly,
                                            const std::vector<std::string>& names) {
  std::map<std::string, std::size_t> result;
  std::istringstream in(read_file(assembly));
  for (std::string line; std::getline(in, line);) {
    if (!line.starts_with('\t') || line.starts_with("\t.")) continue;
    for (const std::string& name : names) {
      if (std::regex_search(line, std::regex("[^A-Za-z_.]" + name + "([^A-Za-z0-9_]|$)"))) ++result[name];
    }
  }
  return result;
}

constexpr std::string_view kUsed = R"(
#include <stdio.h>
struct mark { int level; short minute; char name[6]; } mark;
int readings[24];
static int highest;
int (*chosen)(int) = NULL;
extern int station_number;
int above(int level) { return level > highest; }
int store(int i, int level) { readings[i] = level; if (above(level)) highest = level; return highest; }
void note(void) { mark.level = readings[3]; mark.minute += 5; chosen = above; printf("%d %s\n", station_number, mark.name); }
int sum(void) { int s = 0; for (int i = 0; i < 24; ++i) s += readings[i]; highest++; return s + above(s); }
)";

TEST(Uses, OfAnObjectAreThoseInTheCompilersOutput) {
  const std::vector<std::string> names = {"mark", "readings", "highest", "chosen", "station_number", "above", "printf"};
  for (const std::vector<std::string>& options : {std::vector<std::string>{"gcc", "-O0"},
                                                  {"gcc", "-O0", "-fno-pic", "-mcmodel=small"},
                                                  {"gcc", "-O0", "-fPIC"},
                                                  {"clang", "-O0", "-fno-pic"},
                                                  {"gcc", "-O0", "-m32", "-fno-pic"},
                                                  {"gcc", "-O0", "-m32", "-fPIC"}}) {
    const TempFolder folder;
    write_file(folder / "a.c", std::string(kUsed));
    std::vector<std::string> words = options;
    words.insert(words.end(), {"-S", "-o", folder / "a.s", folder / "a.c"});
    ASSERT_EQ(run(words).status, 0);
    ASSERT_EQ(run({options[0],
                   options.back() == "-m32" || options.size() > 2 ? (options[2] == "-m32" ? "-m32" : "-m64") : "-m64",
                   "-c", "-o", folder / "a.o", folder / "a.s"})
                  .status,
              0);
    const auto expected = mentions(folder / "a.s", names);
    for (const std::string& name : names) {
      const json uses = told({"uses", "--format", "json", folder / "a.o", name});
      std::size_t found = 0;
      for (const json& use : uses["uses"]) found += use["in_data"] == false ? 1 : 0;
      const auto wanted = expected.find(name);
      EXPECT_EQ(found, wanted == expected.end() ? 0 : wanted->second)
          << options[0] << " " << options.back() << ": " << name;
    }
  }
}

TEST(Uses, OfLinkedFilesKeepTheirKind) {
  for (const std::vector<std::string>& options : {std::vector<std::string>{"gcc", "-O1"},
                                                  {"gcc", "-O1", "-no-pie", "-fno-pic"},
                                                  {"gcc", "-O1", "-m32"},
                                                  {"gcc", "-O1", "-m32", "-no-pie", "-fno-pic"},
                                                  {"clang", "-O1"},
                                                  {"gcc", "-O1", "-fPIC", "-shared"}}) {
    const TempFolder folder;
    write_file(folder / "a.c",
               std::string(kUsed) + "int station_number = 17;\n" +
                   (options.back() == "-shared" ? "" : "int main(void) { note(); return store(1, 2) + sum(); }\n"));
    std::vector<std::string> words = options;
    words.insert(words.end(), {"-g", "-fno-inline", "-o", folder / "a", folder / "a.c"});
    ASSERT_EQ(run(words).status, 0);
    const auto kinds = [&](const std::string& name) {
      std::set<std::string> result;
      const json all = told({"uses", "--format", "json", folder / "a", name});
      for (const json& use : all["uses"]) {
        if (use["in_data"] == false)
          result.insert(use["function"].get<std::string>() + " " + use["how"].get<std::string>());
      }
      return result;
    };
    const std::string where = options[1] + options.back();
    EXPECT_TRUE(kinds("above").contains("store call")) << where << json(kinds("above"));
    EXPECT_TRUE(kinds("above").contains("note address")) << where << json(kinds("above"));
    EXPECT_TRUE(kinds("printf").contains("note call")) << where << json(kinds("printf"));
    EXPECT_TRUE(kinds("highest").contains("above read")) << where << json(kinds("highest"));
    EXPECT_TRUE(kinds("highest").contains("store write")) << where << json(kinds("highest"));
    if (options.back() == "-shared") continue;  // another module's variable may stand in for these
    EXPECT_TRUE(kinds("mark").contains("note write")) << where << json(kinds("mark"));
    EXPECT_TRUE(kinds("readings").contains("note read")) << where << json(kinds("readings"));
    EXPECT_TRUE(kinds("readings").contains("store write") || kinds("readings").contains("store address"))
        << where << json(kinds("readings"));
    EXPECT_TRUE(kinds("station_number").contains("note read")) << where;
  }
}

/// Variables of each thread, by every way of getting at them: objects and libraries, 64 and 32 bits.
TEST(Uses, OfThreadsOwnVariables) {
  const TempFolder folder;
  write_file(folder / "a.c",
             "__thread int level; static __thread int hidden; extern __thread int far_one;\n"
             "int get(void) { return level; }\n"
             "void put(int v) { hidden = v; level = v + far_one; }\n"
             "int *where(void) { return &level; }\n"
             "int look(void) { return hidden; }\n");
  using Uses = std::set<std::string>;
  for (const std::string compiler : {"gcc", "clang"}) {
    for (const std::vector<std::string>& options : std::vector<std::vector<std::string>>{
             {"-fPIC", "-shared"}, {"-fPIC", "-shared", "-m32"}, {"-c", "-fno-pic"}, {"-c", "-fno-pic", "-m32"}}) {
      std::vector<std::string> words = {compiler, "-O1", "-o", folder / "a", folder / "a.c"};
      words.insert(words.end(), options.begin(), options.end());
      ASSERT_EQ(run(words).status, 0);
      const auto accesses = [&](const std::string& name) {
        Uses result;
        const json uses = told({"uses", "--format", "json", folder / "a", name});
        for (const json& use : uses["uses"]) {
          if (use["how"] != "address")
            result.insert(use["function"].get<std::string>() + " " + use["how"].get<std::string>());
        }
        return result;
      };
      EXPECT_EQ(accesses("level"), (Uses{"get read", "put write"})) << compiler << json(options);
      EXPECT_EQ(accesses("hidden"), (Uses{"look read", "put write"})) << compiler << json(options);
    }
  }
}

TEST(Uses, FindsSystemCallsByTheirNumber) {
  const TempFolder folder;
  write_file(folder / "a.s", R"(
.intel_syntax noprefix
.globl _start
_start: mov eax, 1
 mov edi, 1
 syscall
 push 39
 pop rax
 syscall
 xor eax, eax
 syscall
 mov eax, [rsp]
 syscall
 mov eax, 4
 int 0x80
 mov ebx, 60
 mov eax, ebx
 syscall
)");
  ASSERT_EQ(run({"gcc", "-nostdlib", "-static", "-o", folder / "a", folder / "a.s"}).status, 0);
  const auto at = [&](const std::string& name) {
    std::vector<std::uint64_t> offsets;
    const json all = told({"uses", "--format", "json", "--syscall", name, folder / "a"});
    for (const json& use : all["uses"]) offsets.push_back(use["offset"]);
    return offsets;
  };
  EXPECT_EQ(at("write"), (std::vector<std::uint64_t>{10, 31})) << "in both numberings";
  EXPECT_EQ(at("getpid").size(), 1U);
  EXPECT_EQ(at("read").size(), 1U);
  EXPECT_EQ(at("60").size(), 1U);
  EXPECT_EQ(told({"uses", "--format", "json", "--syscall", "write", folder / "a"})["unknown_calls"], 1);
  EXPECT_EQ(deeptrace({"uses", "--syscall", "wriet", folder / "a"}).status, 2);
}

json compared(const std::filesystem::path& a, const std::filesystem::path& b, const std::string& function, int status) {
  return told({"compare", "--format", "json", a, b, function}, status)["functions"][0];
}

TEST(Compare, TellsARealChangeFromLayoutAndAllocation) {
  const TempFolder folder;
  const std::string before =
      "int station; int padding(int a) { return a; }\nint level(int a, int b) { return a * 3 + b * station + 7; }\nint "
      "main(void) { return level(1, 2); }\n";
  const std::string after =
      "int other[9]; int station; int padding(int a) { return a * 5 + 2; }\nint level(int a, int b) { return a * 3 + b "
      "* station + 9; }\nint main(void) { return level(1, 2); }\n";
  write_file(folder / "a.c", before);
  write_file(folder / "b.c", after);
  for (const char* name : {"a", "b"})
    ASSERT_EQ(run({"gcc", "-O0", "-o", folder / name, folder / (std::string(name) + ".c")}).status, 0);
  const json level = compared(folder / "a", folder / "b", "level", 1);
  EXPECT_EQ(level["counts"]["changed"], 1) << level["counts"];
  EXPECT_EQ(level["counts"]["only_a"].get<int>() + level["counts"]["only_b"].get<int>() +
                level["counts"]["allocation"].get<int>(),
            0)
      << level["counts"];
  EXPECT_EQ(compared(folder / "a", folder / "b", "main", 0)["same"], true) << "its call goes elsewhere only";
  write_file(folder / "c.s",
             ".globl level\n.type level,@function\nlevel: push %rbx\nmov %edi,%ebx\nadd $7,%ebx\nmov %ebx,%eax\npop "
             "%rbx\nret\n.size level,.-level\n");
  write_file(folder / "d.s",
             ".globl level\n.type level,@function\nlevel: push %rbp\nmov %edi,%ebp\nadd $7,%ebp\nmov %ebp,%eax\npop "
             "%rbp\nret\n.size level,.-level\n");
  for (const char* name : {"c", "d"})
    ASSERT_EQ(run({"gcc", "-c", "-o", folder / (std::string(name) + ".o"), folder / (std::string(name) + ".s")}).status,
              0);
  const json other = compared(folder / "c.o", folder / "d.o", "level", 0);
  EXPECT_EQ(other["same"], true);
  EXPECT_EQ(other["counts"]["allocation"], 5) << other["counts"];
  EXPECT_EQ(other["a"]["saved"], json({"rbx"}));
  const json files = told({"compare", "--format", "json", folder / "a", folder / "b"}, 1);
  EXPECT_EQ(files["summary"]["changed"], 2);
  EXPECT_EQ(files["summary"]["same"], 1);
}

/// The deepest stack of each function, as the compiler's unwind directives say it: bytes from the caller's frame, the
/// return address included.
std::map<std::string, std::uint64_t> depths(const std::filesystem::path& assembly) {
  std::map<std::string, std::uint64_t> result;
  std::istringstream in(read_file(assembly));
  std::string function;
  std::int64_t depth = 0;
  std::vector<std::int64_t> remembered;
  for (std::string line; std::getline(in, line);) {
    std::istringstream words(line);
    std::string word, first;
    words >> word >> first;
    if (!line.starts_with('\t') && word.ends_with(':') && !word.starts_with('.'))
      function = word.substr(0, word.size() - 1), depth = 0;
    if (word == ".cfi_startproc") depth = 0;
    if (word == ".cfi_def_cfa_offset") depth = std::stoll(first);
    if (word == ".cfi_adjust_cfa_offset") depth += std::stoll(first);
    if (word == ".cfi_remember_state") remembered.push_back(depth);
    if (word == ".cfi_restore_state") {
      depth = remembered.back();
      remembered.pop_back();
    }
    result[function] = std::max<std::uint64_t>(result[function], static_cast<std::uint64_t>(depth));
  }
  return result;
}

TEST(Compare, StackFramesAreThoseOfTheCompiler) {
  std::size_t judged = 0;
  for (const std::string level : {"-O0", "-O1", "-O2", "-Os"}) {
    for (const std::string mode : {"-m64", "-m32"}) {
      for (const std::string file :
           {"demo/tidelog/levels.c", "demo/gauge32/gauge32.c", "demo/buoy/buoy.c", "demo/station/station.cpp"}) {
        const TempFolder folder;
        const std::string compiler = file.ends_with(".cpp") ? "g++" : "gcc";
        // 32-bit functions that return structures take an argument off the stack themselves: that is not seen.
        if (compiler == "g++" && mode == "-m32") continue;
        ASSERT_EQ(run({compiler, level, mode, "-fomit-frame-pointer", "-mno-red-zone", "-S", "-o", folder / "a.s",
                       source(file)})
                      .status,
                  0);
        ASSERT_EQ(run({compiler, mode, "-c", "-o", folder / "a.o", folder / "a.s"}).status, 0);
        const auto program = program::Program::open(folder / "a.o", {});
        ASSERT_TRUE(program);
        program::CodeScan scan(*program);
        const auto expected = depths(folder / "a.s");
        for (const program::Function& function : program->functions()) {
          const auto found = expected.find(std::string(function.symbol()));
          if (found == expected.end() || found->second == 0 ||
              function.symbol().find(".cold") != std::string_view::npos)
            continue;
          const auto shape = program::frame_of(*program, scan, function);
          if (shape.varies || shape.frame_pointer || shape.aligned != 0) continue;
          EXPECT_EQ(shape.size + (mode == "-m64" ? 8 : 4), found->second) << level << mode << " " << function.name;
          ++judged;
        }
      }
    }
  }
  EXPECT_GT(judged, 300U);
}

/// What is taken to round the stack pointer down is known where the ABI says how it was aligned, and bounded beyond.
TEST(Frames, AlignedAndRestoredOnesAreExact) {
  struct Case {
    const char* mode;
    const char* code;
    std::uint64_t size, aligned;
    bool varies;
  };
  const TempFolder folder;
  for (const Case& one : {
           // After the call esp is 4 below a multiple of 16: rounding down takes 12, then come 4 words and 32 bytes.
           Case{"--32",
                "lea ecx, [esp+4]\nand esp, -16\npush dword ptr [ecx-4]\npush ebp\nmov ebp, esp\npush ebx\npush "
                "ecx\nsub esp, 32\nlea esp, [ebp-8]\npop ecx\npop ebx\npop ebp\nlea esp, [ecx-4]\nret\n",
                12 + 4 * 4 + 32, 16, false},
           {"--64", "push rbp\nmov rbp, rsp\nand rsp, -32\nsub rsp, 64\nleave\nret\n", 8 + 64, 32, false},
           {"--64", "push rbx\nsub rsp, 16\nand rsp, -64\nadd rsp, 16\npop rbx\nret\n", 8 + 16, 64, false},
           {"--64", "mov rdx, [rdi]\nmov rsp, rdx\npop rbx\npop rbp\nret\n", 0, 0, false},
           {"--64", "push rbp\nmov rbp, rsp\nsub rsp, rdi\nleave\nret\n", 8, 0, true},
           {"--64", "mov rdx, [rdi]\nmov rsp, rdx\ncall f\nret\n", 0, 0, true},
           {"--64", "and rsp, rdi\nret\n", 0, 0, true},
           {"--64", "and rsp, 15\ncall f\nret\n", 0, 0, true},
       }) {
    write_file(folder / "f.s",
               std::string(".intel_syntax noprefix\n.globl f\n.type f, @function\nf:\n") + one.code + ".size f, .-f\n");
    ASSERT_EQ(run({"as", one.mode, "-o", folder / "f.o", folder / "f.s"}).status, 0) << one.code;
    const auto program = program::Program::open(folder / "f.o", {});
    ASSERT_TRUE(program);
    program::CodeScan scan(*program);
    const program::FrameShape shape = program::frame_of(*program, scan, program->functions()[0]);
    EXPECT_EQ(shape.size, one.size) << one.code;
    EXPECT_EQ(shape.aligned, one.aligned) << one.code;
    EXPECT_EQ(shape.varies, one.varies) << one.code;
  }
}

constexpr std::string_view kFlow = R"(
int kind_of(int kind, int a) { switch (kind) { case 0: return a; case 1: return a * 3; case 2: return a - 7; case 3: case 4: return a / 5; case 5: return a ^ 99; case 6: return a << 3; } return -1; }
int sums(int n, int m) { int s = 0; for (int i = 0; i < n; ++i) { for (int k = 0; k < m; ++k) { if (k == 3) s += i; else s -= k; } } while (s > 100) s -= 7; return s; }
volatile int total;
static inline __attribute__((always_inline)) int twice(int a) { total += a; return total * 2; }
int both(int a) { return twice(a) + twice(a + 1); }
)";

TEST(Flow, LoopsBranchesAndTablesAreFound) {
  const TempFolder folder;
  write_file(
      folder / "a.c",
      std::string(kFlow) + "int main(int c, char** v) { (void)v; return kind_of(c, 3) + sums(c, 2) + both(c); }\n");
  for (const std::string compiler : {"gcc", "clang"}) {
    ASSERT_EQ(run({compiler, "-g", "-O0", "-o", folder / "plain", folder / "a.c"}).status, 0);
    ASSERT_EQ(run({compiler, "-g", "-O1", "-fjump-tables", "-o", folder / "a", folder / "a.c"}).status, 0);
    const auto graph_of = [&](const char* file, const char* name) {
      const auto program = program::Program::open(folder / file, {});
      program::CodeScan scan(*program);
      return program::flow_graph_of(*program, scan, *program->functions_named(name)[0]);
    };
    const program::FlowGraph sums = graph_of("plain", "sums");
    EXPECT_EQ(sums.loops, 3U) << compiler;
    EXPECT_TRUE(sums.complete);
    EXPECT_TRUE(std::ranges::any_of(sums.blocks, [](const auto& block) { return block.loop_depth == 2; }));
    EXPECT_TRUE(std::ranges::none_of(sums.blocks, [](const auto& block) { return block.loop_depth > 2; }));
    EXPECT_EQ(std::ranges::count_if(sums.blocks, [](const auto& block) { return block.leaves; }), 1);
    // Nothing is lost when blocks are put together.
    const program::FlowGraph small = program::condensed(sums, 4);
    const auto instructions = [](const program::FlowGraph& graph) {
      std::size_t sum = 0;
      for (const auto& block : graph.blocks) sum += block.instructions;
      return sum;
    };
    EXPECT_LE(small.blocks.size(), 4U);
    EXPECT_EQ(instructions(small), instructions(sums));
    EXPECT_EQ(small.all_blocks, sums.blocks.size());
    const program::FlowGraph kinds = graph_of("plain", "kind_of");
    std::size_t cases = 0;
    for (const auto& block : kinds.blocks) {
      for (const auto& edge : block.edges) cases += edge.kind == program::FlowEdge::Kind::table ? 1 : 0;
    }
    EXPECT_GE(cases, 6U) << compiler << ": six places after seven cases";
    // The listing tells the same table, and the inlined calls.
    const json listing = told({"listing", "--format", "json", folder / "plain", "kind_of"});
    std::size_t entries = 0;
    for (const json& row : listing["functions"][0]["instructions"]) {
      if (row.contains("cases")) {
        for (const json& one : row["cases"]) entries += one["entries"].size();
      }
    }
    EXPECT_EQ(entries, 7U) << compiler;
    const json inlined = told({"listing", "--format", "json", folder / "a", "both"});
    EXPECT_NE(inlined.dump().find("\"inlined\":[{\"file\""), std::string::npos) << compiler;
  }
  ASSERT_EQ(deeptrace({"listing", "--format", "none", "--save", folder / "out", folder / "plain", "sums"}).status, 0);
  EXPECT_EQ(read_file(folder / "out/listing.png").substr(1, 3), "PNG");
  EXPECT_NE(read_file(folder / "out/listing.svg").find("<svg"), std::string::npos);
  ASSERT_EQ(deeptrace({"survey", "--format", "none", "--save", folder / "out2", folder / "plain"}).status, 0);
  EXPECT_EQ(read_file(folder / "out2/survey.png").substr(1, 3), "PNG");
}

/// Linked and unlinked, 64 and 32 bits, tables of addresses and of distances: each case is found on its own line.
TEST(Flow, CasesStandOnTheirLines) {
  const TempFolder folder;
  std::string text = "int kind_of(int kind, int a) { switch (kind) {\n";
  for (int line = 2; line < 11; ++line)
    text += "  case " + std::to_string(line - 2) + ": a = a * " + std::to_string(line) + " + 1; break;\n";
  write_file(folder / "a.c",
             text + "  default: a = 0; } return a; }\nint main(int c, char** v) { (void)v; return kind_of(c, 3); }\n");
  for (const std::string compiler : {"gcc", "clang"}) {
    for (const std::vector<std::string>& options :
         std::vector<std::vector<std::string>>{{"-c", "-fPIC"},
                                               {"-c", "-fno-pic"},
                                               {"-c", "-fPIC", "-m32"},
                                               {"-c", "-fno-pic", "-m32"},
                                               {"-fPIE", "-pie"},
                                               {"-fno-pic", "-no-pie"},
                                               {"-fPIE", "-pie", "-m32"},
                                               {"-fno-pic", "-no-pie", "-m32"},
                                               {"-fPIC", "-static", "-m32"}}) {
      std::vector<std::string> words = {compiler, "-g", "-O0", "-o", folder / "a", folder / "a.c"};
      words.insert(words.end(), options.begin(), options.end());
      ASSERT_EQ(run(words).status, 0);
      const std::string what = compiler + json(options).dump();
      const json listing = told({"listing", "--format", "json", folder / "a", "kind_of"});
      std::map<std::uint64_t, std::uint64_t> line_at;
      for (const json& row : listing["functions"][0]["instructions"]) {
        if (!row["line"].is_null()) line_at[number(row["address"])] = row["line"];
      }
      std::size_t entries = 0;
      for (const json& row : listing["functions"][0]["instructions"]) {
        if (!row.contains("cases")) continue;
        for (const json& one : row["cases"]) {
          for (const std::uint64_t entry : one["entries"]) {
            EXPECT_EQ(line_at[number(one["target"])], entry + 2) << what;
            ++entries;
          }
        }
      }
      EXPECT_EQ(entries, 9U) << what;
    }
  }
}

/// Two tables of distances, one after the other, of which nothing says how long they are: what the second one has means
/// something else counted from the first.
TEST(Listing, AJumpTableEndsWhereAnotherBegins) {
  const TempFolder folder;
  const std::string jump = "(%rip), %r11\nmovslq (%r11,%rdx,4), %rcx\nadd %r11, %rcx\njmp *%rcx\n";
  write_file(folder / "t.s",
             ".globl pick\n.type pick, @function\npick: test %edi, %edi\njs 5f\nlea first" + jump + "5: lea second" +
                 jump +
                 "1: movabs $0x5756555453525150, %rax\nret\n2: movabs $0x5f5e5d5c5b5a5958, %rax\nret\n"
                 "3: movabs $0x5756555453525150, %rax\nret\n4: movabs $0x5f5e5d5c5b5a5958, %rax\nret\n"
                 ".size pick, .-pick\n.globl _start\n_start: mov $60, %eax\nsyscall\n"
                 ".section .rodata\nfirst: .long 1b-first, 2b-first\nsecond: .long 3b-second, 4b-second\n");
  ASSERT_EQ(run({"gcc", "-nostdlib", "-no-pie", "-o", folder / "t", folder / "t.s"}).status, 0);
  const json listing = told({"listing", "--format", "json", folder / "t", "pick"});
  std::vector<std::size_t> cases;
  std::size_t instructions = 0;
  for (const json& row : listing["functions"][0]["instructions"]) {
    if (row.contains("cases")) cases.push_back(row["cases"].size());
    ++instructions;
  }
  EXPECT_EQ(cases, (std::vector<std::size_t>{2, 2})) << listing.dump();
  EXPECT_EQ(instructions, 18U) << "none is read from its middle";
}

TEST(Compare, FunctionsWithoutNamesGoByWhatTheyDo) {
  const TempFolder folder;
  const std::string source = R"(#include <stdio.h>
static int table[4] = {1, 2, 3, 4};
int total;
__attribute__((noinline)) int first(int a) { total += a; return table[a & 3] * 3; }
__attribute__((noinline)) int second(int a) { return first(a) + first(a + 1) + total; }
__attribute__((noinline)) int third(int a) { for (int i = 0; i < a; i++) total ^= second(i); return total; }
int main(int c, char **v) { printf("%d\n", third(c)); return second(c); }
)";
  std::string other = source;
  other.replace(other.find("* 3"), 3, "* 5 + 1");
  const std::string named = built(folder, "named", source, {"gcc", "-O1", "-w"});
  const std::string stripped = built(folder, "stripped", source, {"gcc", "-O1", "-w", "-s"});
  const std::string changed = built(folder, "changed", other, {"gcc", "-O1", "-w", "-s"});
  const auto compared = [](const std::string& a, const std::string& b, int status) {
    const Outcome outcome = run({DEEPTRACE_PROGRAM, "compare", a, b, "--format", "json"});
    EXPECT_EQ(outcome.status, status) << outcome.err;
    return nlohmann::json::parse(outcome.out);
  };
  for (const auto& [a, b] : {std::pair(named, stripped), std::pair(stripped, named), std::pair(stripped, stripped)}) {
    const auto same = compared(a, b, 0);
    EXPECT_EQ(same["summary"]["same"], 4);
    EXPECT_EQ(same["summary"]["by_content"], 4);
    std::set<std::string> names;
    for (const auto& function : same["functions"]) names.insert(function["name"]);
    if (a != b) {
      EXPECT_EQ(names, (std::set<std::string>{"first", "second", "third", "main"}));
    }
  }
  const auto differs = compared(named, changed, 1);
  EXPECT_EQ(differs["summary"]["same"], 3);
  EXPECT_EQ(differs["summary"]["changed"], 1);
  for (const auto& function : differs["functions"])
    EXPECT_EQ(function["same"], function["name"] != "first") << function;
}

TEST(Compare, LibrariesOfTheSystemAreComparedWhole) {
  const auto library = [](const std::string& name) { return "/usr/lib/x86_64-linux-gnu/" + name; };
  const std::string a = library("libz.so.1"), b = library("libm.so.6");
  if (!std::filesystem::exists(a) || !std::filesystem::exists(b)) GTEST_SKIP() << "libz and libm are not here";
  const Outcome outcome = run({DEEPTRACE_PROGRAM, "compare", a, b});
  EXPECT_EQ(outcome.status, 1);
  EXPECT_NE(outcome.out.find("all functions are compared"), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find("note: not compared"), std::string::npos) << outcome.out;
  EXPECT_EQ(run({DEEPTRACE_PROGRAM, "compare", a, a}).status, 0);
}

TEST(Constants, OfFloatingPointShowTheirValue) {
  const TempFolder folder;
  const std::string source = R"(const float limit = 7.25f;
float variable = 2.25f;
double scale(double x) { return x * 2.5 + 1e-9; }
float low(float x) { return x > limit ? x : x - 3.5f; }
double mixed(float x, int n) { return x * 6.75 + n; }
long double wide(long double x) { return x * 1.25f; }
float changes(float x) { return x * variable; }
void both(double *p) { for (int i = 0; i < 2; i++) p[i] *= i == 0 ? 8.5 : -9.5; }
int main(void) { return (int)(scale(1) + low(2) + mixed(1, 2) + wide(1) + changes(1)); }
)";
  for (const char* compiler : {"gcc", "clang"}) {
    for (const char* width : {"-m64", "-m32"}) {
      const std::string path = built(folder, "floats", source, {compiler, width, "-O2", "-w", "-no-pie", "-fno-pie"});
      const auto values = [&](const std::string& function) {
        const Outcome outcome = run({DEEPTRACE_PROGRAM, "listing", path, function, "--format", "json"});
        std::set<std::string> found;
        const auto listing = nlohmann::json::parse(outcome.out);
        for (const auto& one : listing["functions"][0]["instructions"]) {
          if (one.contains("target_value")) found.insert(one["target_value"]);
        }
        return found;
      };
      const std::string what = std::string(compiler) + " " + width;
      EXPECT_TRUE(values("scale").contains("2.5")) << what;
      EXPECT_TRUE(values("low").contains("3.5") || values("low").contains("-3.5")) << what;
      EXPECT_TRUE(values("mixed").contains("6.75")) << what;
      EXPECT_TRUE(values("wide").contains("1.25")) << what;
      EXPECT_TRUE(values("changes").empty()) << what << ": it may be written";
      const std::string text = run({DEEPTRACE_PROGRAM, "listing", path, "scale"}).out;
      EXPECT_NE(text.find("-> 2.5\n"), std::string::npos) << what << text;
    }
  }
}

TEST(Uses, TakeAPartOfAVariable) {
  const TempFolder folder;
  const std::string program = built(folder, "parts", R"(
struct reading { int minute; int level; };
struct station { short channel; struct reading last; struct reading log[4]; } station;
void set_channel(void) { station.channel = 3; }
void set_level(void) { station.last.level = 7; }
void set_both(void) { station.last.level = 8; station.log[2].minute = 9; }
int main(void) { set_channel(); set_level(); set_both(); return station.channel - 3; }
)");
  const auto users = [&](const std::string& what, int status = 0) {
    const Outcome outcome = run({DEEPTRACE_PROGRAM, "uses", program, what, "--format", "json"});
    EXPECT_EQ(outcome.status, status) << what << outcome.err;
    std::multiset<std::string> functions;
    if (outcome.out.empty()) return functions;
    const auto found = nlohmann::json::parse(outcome.out);
    for (const auto& use : found["uses"]) functions.insert(use["function"]);
    return functions;
  };
  using Names = std::multiset<std::string>;
  EXPECT_EQ(users("station.last.level"), (Names{"set_both", "set_level"}));
  EXPECT_EQ(users("station.channel"), (Names{"main", "set_channel"}));
  EXPECT_EQ(users("station.log[2].minute"), Names{"set_both"});
  EXPECT_EQ(users("station.log[2]"), Names{"set_both"});
  users("station.depth", 2);
  users("station.log[4]", 2);
}

}  // namespace
}  // namespace deeptrace::tests
