// Optimised code: copies of lines and functions, frames of inlined calls, what is said of stop points without hits.
// How often lines are come to is counted by tests/passes.py.
#include "program/instances.h"

#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>
#include <set>

#include "live_support.h"
#include "program/flow_blocks.h"
#include "program/line_entries.h"

namespace deeptrace::tests {
namespace {

const std::vector<std::vector<std::string>> kCompilers = {{"gcc", "-g", "-O2", "-w"}, {"clang", "-g", "-O2", "-w"}};

/// Each level of inlined calls has its own `x`, and prints it.
constexpr const char* kLevels = R"(#include <stdio.h>
volatile int sink;
static inline __attribute__((always_inline)) int inner(int x) {
  sink = x;
  printf("inner %d\n", x);
  return x + sink;
}
static inline __attribute__((always_inline)) int middle(int x) {
  int y = x * 10 + 1;
  printf("middle %d\n", x);
  return inner(y) + x;
}
__attribute__((noinline)) int outer(int x) {
  printf("outer %d\n", x);
  return middle(x + 100) + x;
}
int main(int argc, char **argv) {
  for (int i = 0; i < 3; i++)
    sink += outer(argc + i);
  return 0;
}
)";

TEST(Clones, HaveTheOriginOfTheirSymbol) {
  using program::origin_of_clone;
  EXPECT_EQ(origin_of_clone("log_read.constprop.0"), "log_read");
  EXPECT_EQ(origin_of_clone("log_read.part.0.isra.3"), "log_read");
  EXPECT_EQ(origin_of_clone("by_level.lto_priv.0"), "by_level");
  EXPECT_EQ(origin_of_clone("by_level.llvm.1234567"), "by_level");
  EXPECT_EQ(origin_of_clone("log_read.isra"), "log_read");
  EXPECT_EQ(origin_of_clone("log_read.cold"), "") << "a part, no entry";
  EXPECT_EQ(origin_of_clone("log_read.constprop.0.cold"), "");
  EXPECT_EQ(origin_of_clone("log.0"), "") << "a static variable's number";
  EXPECT_EQ(origin_of_clone("log_read"), "");
  EXPECT_EQ(origin_of_clone(".part.0"), "");
}

TEST(Instances, AreFoundByName) {
  const TempFolder folder;
  for (const auto& compiler : kCompilers) {
    const auto program = program::Program::open(built(folder, "levels", kLevels, compiler), {});
    ASSERT_TRUE(program);
    EXPECT_EQ(program::instances_of(*program, "outer").words(), "") << "a function and nothing else";
    EXPECT_EQ(program::instances_of(*program, "middle").words(), "1 inlined copy");
    EXPECT_EQ(program::instances_of(*program, "inner").inlined.size(), 1U);
    EXPECT_TRUE(program::instances_of(*program, "nowhere").empty());
    EXPECT_EQ(program::instances_of(*program, "outer", 100).words(),
              "1 function; inlined copies were not looked for, there is too much debug information");
  }
}

/// `scaled` is only inlined, `worked` only a clone.
constexpr const char* kPieces = R"(#include <stdio.h>
struct gauge { int level; };
static inline __attribute__((always_inline)) int scaled(int level, int by) { return level * by + (level >> 3); }
static __attribute__((noinline)) int worked(struct gauge *g, int by) {
  int sum = 0;
  for (int i = 0; i < g->level; ++i)
    sum += scaled(i, by);
  return sum;
}
int main(int argc, char **argv) {
  struct gauge g = {argc + 10};
  printf("%d\n", worked(&g, 3));
  printf("%d\n", scaled(argc, 9));
  return 0;
}
)";

TEST(Instances, AreWhatStaticCommandsListForAName) {
  const TempFolder folder;
  const std::string fast = built(folder, "pieces", kPieces, {"gcc", "-g", "-O2", "-w"});
  const std::string plain = built(folder, "plain", kPieces, {"gcc", "-g", "-O0", "-w", "-fno-inline"});
  const auto json_of = [](std::vector<std::string> words) {
    words.insert(words.end(), {"--format", "json"});
    return nlohmann::json::parse(deeptrace(words).out, nullptr, false);
  };
  // listing: the clone, and the code of what is inlined only.
  const nlohmann::json clone = json_of({"listing", fast, "worked"});
  ASSERT_FALSE(clone.is_discarded());
  ASSERT_EQ(clone["functions"].size(), 1U) << clone.dump();
  EXPECT_TRUE(clone["functions"][0]["name"].get<std::string>().starts_with("worked.")) << clone.dump();
  const nlohmann::json copies = json_of({"listing", fast, "scaled"});
  ASSERT_FALSE(copies.is_discarded());
  EXPECT_EQ(copies["asked"][0]["instances"], nlohmann::json({{"functions", 0}, {"clones", 0}, {"inlined", 2}}));
  EXPECT_EQ(copies["asked"][0]["inlined_in"].size(), 2U);
  std::set<std::string> around;
  for (const auto& function : copies["functions"]) {
    around.insert(function["name"].get<std::string>().substr(0, 4));
    for (const auto& one : function["instructions"]) EXPECT_EQ(one["line"], 3) << one.dump();
  }
  EXPECT_EQ(around, (std::set<std::string>{"main", "work"}));
  // lines: those of the code.
  const nlohmann::json lines = json_of({"lines", fast, "scaled"});
  ASSERT_EQ(lines["lines"].size(), 1U) << lines.dump();
  EXPECT_EQ(lines["lines"][0]["line"], 3);
  EXPECT_EQ(deeptrace({"lines", fast, "nothing"}).status, 2);
  ASSERT_EQ(deeptrace({"lines", fast, "worked", "--save", folder / "page"}).status, 0);
  EXPECT_NE(read_file(folder / "page/lines.html").find("worked."), std::string::npos) << "the page has its code";
  // uses: calls of the clone; where code stands in place of a call.
  const nlohmann::json calls = json_of({"uses", fast, "worked"});
  ASSERT_EQ(calls["uses"].size(), 1U) << calls.dump();
  EXPECT_EQ(calls["uses"][0]["line"], 12);
  std::set<int> called_at;
  const nlohmann::json inlined = json_of({"uses", fast, "scaled"});
  for (const auto& use : inlined["uses"]) {
    EXPECT_EQ(use["how"], "inlined");
    called_at.insert(use["line"].get<int>());
  }
  EXPECT_EQ(called_at, (std::set<int>{7, 13}));
  // compare: a function with its clone; of the other it is said that it is inlined.
  const nlohmann::json pair = json_of({"compare", plain, fast, "worked"});
  ASSERT_EQ(pair["functions"].size(), 1U) << pair.dump();
  EXPECT_EQ(pair["functions"][0]["name"], "worked");
  EXPECT_TRUE(pair["functions"][0]["b"].is_object());
  const nlohmann::json whole = json_of({"compare", plain, fast});
  for (const auto& function : whole["functions"]) {
    EXPECT_NE(function["name"], "scaled") << "always inlined";
    EXPECT_EQ(function.contains("name_in_b"), function["name"] == "worked") << function.dump();
  }
  EXPECT_EQ(deeptrace({"compare", plain, fast, "scaled"}).status, 2) << "no function in either";
}

TEST(Instances, OfCppFunctionsGoByTheirNames) {
  const TempFolder folder;
  const std::string text = R"(
namespace tide {
template <typename T> struct Mean {
  volatile T sum = 0;
  __attribute__((always_inline)) void add(T value) { sum = sum + value; }
};
}
volatile int sink;
int main() {
  tide::Mean<float> floats;
  tide::Mean<double> doubles;
  floats.add(sink);
  doubles.add(sink);
  doubles.add(sink);
  return floats.sum + doubles.sum > 1;
}
)";
  const std::string path = built(folder, "mean.cpp", text, {"g++", "-g", "-O2", "-x", "c++"});
  const auto program = program::Program::open(path, {});
  ASSERT_TRUE(program);
  EXPECT_EQ(program::instances_of(*program, "tide::Mean<float>::add").inlined.size(), 1U);
  EXPECT_EQ(program::instances_of(*program, "tide::Mean<double>::add").inlined.size(), 2U);
  EXPECT_EQ(program::instances_of(*program, "tide::Mean<double>::add(double)").inlined.size(), 2U);
}

/// Clones count as their function: gcc makes one for calls with a constant.
TEST(Instances, CloneCallsCount) {
  const TempFolder folder;
  const std::string text = R"(volatile int sink;
__attribute__((noinline)) static int scaled(int value, int by) {
  for (int i = 0; i < by; i++)
    sink += value;
  return sink;
}
int main(int argc, char **argv) {
  scaled(argc, 3);
  scaled(argc + 1, 3);
  scaled(argc + 2, 3);
  return 0;
}
)";
  const std::string path = built(folder, "clones", text, {"gcc", "-g", "-O2", "-w"});
  const nlohmann::json told = hits_of({"--at", "scaled", "--keep", "value", path});
  ASSERT_EQ(told["hits"].size(), 3U) << told.dump();
  EXPECT_NE(told["stops"][0]["how"].get<std::string>().find("1 clone"), std::string::npos) << told.dump();
  for (int i = 0; i < 3; ++i) EXPECT_EQ(told["hits"][i]["kept"]["value"]["signed"], std::to_string(i + 1));
}

/// A stop at a function that exists only inlined, or at a line of one level, has that level's names.
TEST(Levels, HaveTheirOwnVariables) {
  const TempFolder folder;
  for (const auto& compiler : kCompilers) {
    SCOPED_TRACE(compiler[0]);
    const std::string path = built(folder, "levels", kLevels, compiler);
    const std::vector<std::string> words = {"--at", "levels.c:14", "--at", "levels.c:10", "--at", "levels.c:5", path};
    std::vector<std::string> keeping = {"--keep", "x"};
    keeping.insert(keeping.end(), words.begin(), words.end());
    const nlohmann::json told = hits_of(keeping);
    std::map<std::string, std::vector<std::string>> values;
    std::map<std::string, std::set<std::string>> frames;
    for (const auto& hit : told["hits"]) {
      const std::string stop = hit["stop"];
      if (hit["kept"]["x"].contains("signed")) values[stop].push_back(hit["kept"]["x"]["signed"]);
      frames[stop].insert(hit["inlined"].is_null() ? "outer" : hit["inlined"].get<std::string>());
      EXPECT_EQ(hit["line"], stop == "h1" ? 14 : stop == "h2" ? 10 : 5);
    }
    EXPECT_EQ(frames["h1"], std::set<std::string>{"outer"});
    EXPECT_EQ(frames["h2"], std::set<std::string>{"middle"});
    EXPECT_EQ(frames["h3"], std::set<std::string>{"inner"});
    const std::map<std::string, std::vector<std::string>> printed = {
        {"h1", {"1", "2", "3"}}, {"h2", {"101", "102", "103"}}, {"h3", {"1011", "1021", "1031"}}};
    // A compiler may say of none where it is; of those that it does say, each is the level's own.
    for (const auto& [stop, right] : printed) {
      if (values.contains(stop)) {
        EXPECT_EQ(values[stop], right);
      }
    }
    EXPECT_TRUE(values.contains("h1") && values.contains("h3"));
    // Conditions are about that level, too.
    if (values.contains("h2")) {
      EXPECT_EQ(hits_of({"--halt", "at levels.c:10 when x == 102", path})["hits"].size(), 1U);
    }
    EXPECT_EQ(hits_of({"--halt", "at levels.c:5 when x == 1021", path})["hits"].size(), 1U);
    EXPECT_EQ(hits_of({"--at", "middle", path})["hits"].size(), 3U);
    EXPECT_EQ(hits_of({"--at", "inner", path})["hits"].size(), 3U);
  }
}

/// A name means the inlined function's own variable, also where the compiler removed it, and never its caller's.
TEST(Levels, NamesOfRemovedVariablesHideOthers) {
  constexpr const char* kHidden = R"(volatile int sink;
int level = 99, unused = 98;
__attribute__((noinline)) void mark(int x) { sink = x; }
static inline __attribute__((always_inline)) int inner(int x, int unused) {
  int level = x * 3;
  mark(x);
  return x + sink;
}
int main(int argc, char **argv) {
  int outer_only = argc * 5;
  sink = inner(argc + 6, 55) + outer_only;
  return 0;
}
)";
  const TempFolder folder;
  for (const auto& compiler : kCompilers) {
    SCOPED_TRACE(compiler[0]);
    const std::string path = built(folder, "hidden", kHidden, compiler);
    const std::string said = conversation(folder, {path},
                                          "halt at mark+0\nresume\nin frame 1\nshow level\nshow unused\nshow "
                                          "outer_only\nvars\nin frame 2\nshow level\n")
                                 .out;
    EXPECT_NE(said.find("inner, inlined in main"), std::string::npos) << said;
    EXPECT_EQ(said.find("unused = 0x62"), std::string::npos) << said;
    EXPECT_NE(said.find("outer_only: no register, variable or function of that name here"), std::string::npos) << said;
    const std::size_t outer = said.find("in frame 2");
    ASSERT_NE(outer, std::string::npos) << said;
    EXPECT_EQ(said.substr(0, outer).find("level = 0x63"), std::string::npos) << said;
    EXPECT_EQ(said.substr(0, outer).find("  outer_only "), std::string::npos) << "vars: " << said;
    EXPECT_NE(said.find("level = 0x63", outer), std::string::npos) << said;
  }
}

/// Pointers without a value of their own, to variables that have one: as many as there are.
TEST(Levels, RemovedPointersLeadToTheirVariables) {
  std::string body, after, words = "halt at mark+0\nresume\nin frame 1\nvars\n";
  constexpr int kMany = 12;
  for (int i = 0; i < kMany; ++i) {
    body += fmt::format("  int level{0} = {1}, *at{0} = &level{0};\n", i, 2 * i + 1);
    after += fmt::format("  sink += *at{};\n", i);
    words += fmt::format("show *at{}\n", i);
  }
  const std::string text =
      "volatile int sink;\n__attribute__((noinline)) void mark(int x) { sink = x; }\n"
      "int main(int argc, char **argv) {\n" +
      body + "  mark(argc);\n" + after + "  return 0;\n}\n";
  const TempFolder folder;
  const std::string path = built(folder, "many", text.c_str(), {"gcc", "-g", "-O2", "-w"});
  const std::string said = conversation(folder, {path}, words).out;
  int found = 0;
  for (int i = 0; i < kMany; ++i)
    found += said.find(fmt::format("= {:#x} / {} ", 2 * i + 1, 2 * i + 1)) != std::string::npos ? 1 : 0;
  EXPECT_EQ(found, kMany) << said;
  EXPECT_NE(said.find("it would point to level11"), std::string::npos) << said;
}

TEST(Levels, AreChosenAndSaidByTheConsole) {
  const TempFolder folder;
  for (const auto& compiler : kCompilers) {
    SCOPED_TRACE(compiler[0]);
    const std::string path = built(folder, "levels", kLevels, compiler);
    const std::string said = conversation(folder, {path},
                                          "halt at levels.c:5\nresume\nframes\nshow x\nin frame 1\nshow x\nin frame 2\n"
                                          "show x\nin frame 0\nshow x\nin frame 3\nframes\n")
                                 .out;
    const auto at = [&](const std::string& text, std::size_t from) { return said.find(text, from); };
    EXPECT_NE(said.find("levels inner, inlined in outer+"), std::string::npos) << said;
    EXPECT_NE(said.find(" frame 3: frames\n"), std::string::npos) << "the number that `frames` gives it: " << said;
    // One level's value may be unknown, and is another's in no case.
    const auto one_after_another = [&](std::initializer_list<std::vector<std::string>> wanted) {
      std::size_t place = 0;
      for (const std::vector<std::string>& choices : wanted) {
        std::size_t next = std::string::npos;
        for (const std::string& one : choices) next = std::min(next, at(one, place));
        ASSERT_NE(next, std::string::npos) << choices.front() << "\n" << said;
        place = next + 1;
      }
    };
    one_after_another({{"  0  0x"},
                       {"inner (inlined) (x 0x3f3 / 1011)"},
                       {"middle (inlined) (x 0x65 / 101)", "middle (inlined) (x unknown"},
                       {"(x 0x1 / 1)"}});
    one_after_another({{"x = 0x3f3 / 1011"},
                       {"frame 1: middle"},
                       {"x = 0x65 / 101", "wrong: x: no value here"},
                       {"frame 2: outer"},
                       {"x = 0x1 / 1"},
                       {"frame 0: inner"},
                       {"x = 0x3f3 / 1011"}});
  }
}

/// `line` goes from statement to statement, in inlined calls too, and `out of` them.
TEST(Levels, AreSteppedByLines) {
  const TempFolder folder;
  const std::string path = built(folder, "levels", kLevels, kCompilers[0]);
  const std::string said = conversation(folder, {path}, "halt at middle\nresume\nline\nline\nline into\n").out;
  std::size_t place = said.find("resume");
  for (const char* line : {"levels.c:9\n", "levels.c:10\n", "levels.c:11\n", "levels.c:4\n"}) {
    const std::size_t next = said.find(line, place);
    EXPECT_NE(next, std::string::npos) << line << "\n" << said;
    if (next != std::string::npos) place = next;
  }
}

TEST(Reasons, OfNoHitsAreSaid) {
  const TempFolder folder;
  const std::string text = R"(#include <csetjmp>
static jmp_buf back;
volatile int sink;
__attribute__((noinline)) int leaves(int x) { if (x >= 0) throw x; return x; }
__attribute__((noinline)) int jumps(int x) { sink = x; longjmp(back, 1); }
int main() {
  for (int i = 0; i < 3; i++) {
    try { sink = leaves(i); } catch (int) {}
    sink = i;
  }
  if (setjmp(back) == 0) sink = jumps(1);
  return 0;
}
)";
  const std::string path = built(folder, "reasons.cpp", text, {"g++", "-g", "-O0", "-w", "-x", "c++"});
  const Outcome told =
      deeptrace({"hits", "--on-return", "leaves", "--on-return", "jumps", "--halt", "at leaves when x == 7", path});
  EXPECT_NE(told.out.find("on return leaves: 0 hits: entered 3 times, and never left by a return"), std::string::npos)
      << told.out;
  EXPECT_NE(told.out.find("on return jumps: 0 hits: entered once, and never left by a return"), std::string::npos)
      << told.out;
  EXPECT_NE(told.out.find("at leaves when x == 7: 0 hits: came there 3 times, and the condition was false"),
            std::string::npos)
      << told.out;
}

TEST(Count, EndsTheProgramUnlessItIsToFinish) {
  const TempFolder folder;
  const std::string text = R"(#include <stdio.h>
int step(int i) { return i + 1; }
int main(void) {
  for (int i = 0; i < 5;) i = step(i);
  puts("the end");
  return 3;
}
)";
  const std::string path = built(folder, "steps", text);
  const std::vector<std::string> words = {"--at", "step", "--count", "2", path};
  EXPECT_EQ(hits_of(words)["exit"], nlohmann::json::parse(R"({"stopped":"count"})"));
  std::vector<std::string> finishing = {"--let-finish"};
  finishing.insert(finishing.end(), words.begin(), words.end());
  EXPECT_EQ(hits_of(finishing)["exit"], nlohmann::json::parse(R"({"status":3})"));
  const Outcome ended = deeptrace({"hits", "--at", "step", "--count", "2", path});
  EXPECT_EQ(ended.out.find("the end"), std::string::npos) << ended.out;
  EXPECT_NE(ended.out.find("--let-finish"), std::string::npos) << ended.out;
}

/// Throwing, throwing again in both ways, and catching; with the type, and the message of the library's own errors.
TEST(Exceptions, AreSaidWithTypeAndMessage) {
  const TempFolder folder;
  const std::string text = R"(#include <exception>
#include <stdexcept>
struct Own : std::logic_error { int code; Own(int c) : std::logic_error("gone"), code(c) {} };
static void fails(int i) {
  if (i == 0) throw std::runtime_error("sensor 3 failed");
  if (i == 1) throw Own{7};
  throw std::out_of_range("no such level");
}
int main() {
  std::exception_ptr kept;
  for (int i = 0; i < 3; i++) {
    try { fails(i); } catch (...) { kept = std::current_exception(); }
    try { try { fails(1); } catch (Own &) { throw; } } catch (...) {}
  }
  try { std::rethrow_exception(kept); } catch (const std::exception &) {}
}
)";
  for (const std::string bits : {"-m64", "-m32"}) {
    const std::string path = built(folder, "throws" + bits, text, {"g++", bits, "-g", "-O1", "-w"});
    const auto by = [&](const char* rule) {
      std::vector<std::string> result;
      const nlohmann::json told = hits_of({"--halt", rule, path});
      for (const auto& hit : told["hits"]) {
        result.push_back(hit.value("by", ""));
        const bool has_members = result.back().starts_with("exception Own");
        EXPECT_EQ(hit.contains("thrown"), has_members) << hit.dump();
        if (has_members) {
          EXPECT_EQ(hit["thrown"]["code"]["signed"], "7") << hit.dump();
        }
      }
      return result;
    };
    const std::string range = "exception std::out_of_range \"no such level\"",
                      again = "exception that was caught before";
    const std::string runtime = "exception std::runtime_error \"sensor 3 failed\"", own = "exception Own \"gone\"";
    EXPECT_EQ(by("on throw"),
              (std::vector<std::string>{runtime, own, again, own, own, again, range, own, again, again}));
    EXPECT_EQ(by("on catch"), (std::vector<std::string>{runtime, own, own, own, own, own, range, own, own, range}));
  }
}

TEST(Returns, CoverClonesAndNameTheCopiesThatHaveNone) {
  const TempFolder folder;
  const std::string path = built(folder, "levels", kLevels, kCompilers[0]);
  const Outcome refused = deeptrace({"hits", "--on-return", "middle", path});
  EXPECT_EQ(refused.status, 2);
  EXPECT_NE(refused.err.find("is inlined wherever it is called"), std::string::npos) << refused.err;
  const std::string text = R"(volatile int sink;
__attribute__((noinline)) static int scaled(int value, int by) {
  for (int i = 0; i < by; i++)
    sink += value;
  return sink;
}
int main(int argc, char **argv) { return scaled(argc, 3) + scaled(argc + 1, 3) == 0; }
)";
  const nlohmann::json told =
      hits_of({"--on-return", "scaled", "--keep", "result", built(folder, "clones", text, {"gcc", "-g", "-O2", "-w"})});
  ASSERT_EQ(told["hits"].size(), 2U) << told.dump();
  EXPECT_EQ(told["hits"][0]["kept"]["result"]["signed"], "3");
  EXPECT_EQ(told["hits"][1]["kept"]["result"]["signed"], "9");
}

/// SIGINT and SIGTERM end a run with 130, of launched and of attached programs, and the text has all rows.
TEST(Hits, InterruptedTheyEndWithWhatTheyHave) {
  const TempFolder folder;
  const std::string program = built(folder, "beating", R"(#include <unistd.h>
volatile int count;
__attribute__((noinline)) void beat(int i) { count += i; }
int main(void) { for (;;) { beat(1); usleep(2000); } }
)");
  for (const int signal : {SIGINT, SIGTERM}) {
    for (const bool attached : {false, true}) {
      const pid_t alone = attached ? ::fork() : 0;
      if (attached && alone == 0) {
        ::execl(program.c_str(), program.c_str(), nullptr);
        ::_exit(127);
      }
      std::vector<std::string> words = {"hits", "--at", "beat", "--format", "json"};
      if (attached) words.insert(words.end(), {"--attach", std::to_string(alone)});
      if (!attached) words.push_back(program);
      const TempFolder results;
      const pid_t child = start_deeptrace(words, results.path());
      ASSERT_TRUE(wait_until([&] {
        const std::string rows = read_file(results / "out");
        return std::ranges::count(rows, '\n') > 5;
      }));
      ::kill(child, signal);
      int status = 0;
      ASSERT_EQ(::waitpid(child, &status, 0), child);
      EXPECT_EQ(WIFEXITED(status) ? WEXITSTATUS(status) : -1, 130);
      const nlohmann::json told = nlohmann::json::parse(read_file(results / "out"), nullptr, false);
      ASSERT_FALSE(told.is_discarded());
      EXPECT_EQ(told["exit"]["stopped"], attached ? "detached" : "interrupt");
      EXPECT_GT(told["hits"].size(), 3U);
      if (!attached) continue;
      EXPECT_EQ(status_field(alone, "TracerPid"), "0");
      ::kill(alone, SIGKILL);
      ::waitpid(alone, nullptr, 0);
    }
  }
}

TEST(Attaching, ToAZombieSaysSo) {
  const pid_t child = ::fork();
  if (child == 0) ::_exit(0);
  ASSERT_TRUE(wait_until([&] { return status_field(child, "State").starts_with("Z"); }));
  const Outcome told = deeptrace({"hits", "--attach", std::to_string(child), "--at", "main"});
  EXPECT_EQ(told.status, 4);
  EXPECT_NE(told.err.find("zombie"), std::string::npos) << told.err;
  ::waitpid(child, nullptr, 0);
}

// ---- the flow of control --------------------------------------------------------------------------------------------

TEST(Flow, KnowsWhatFollowsWhat) {
  const TempFolder folder;
  write_file(folder / "flow.s", R"(
  .globl flow
  .type flow, @function
flow:
  test %edi, %edi
  je 2f
1: dec %edi
  test %esi, %esi
  je 3f
  inc %esi
3: test %edi, %edi
  jne 1b
2: ret
  .size flow, .-flow
)");
  ASSERT_EQ(run({"gcc", "-c", "-o", folder / "flow.o", folder / "flow.s"}).status, 0);
  const auto program = program::Program::open(folder / "flow.o", {});
  ASSERT_TRUE(program);
  program::CodeScan scan(*program);
  const std::vector<AddressRange> ranges = {program->functions_named("flow").at(0)->range()};
  const program::FlowBlocks flow(*program, scan, ranges);
  // test; dec test; inc; test; ret
  ASSERT_EQ(flow.blocks().size(), 5U);
  EXPECT_TRUE(flow.is_root(0));
  EXPECT_FALSE(flow.is_root(1));
  EXPECT_TRUE(flow.dominates(0, 4));
  EXPECT_FALSE(flow.dominates(1, 4)) << "the loop may not run";
  EXPECT_TRUE(flow.follows_on(0, 4));
  EXPECT_FALSE(flow.follows_on(0, 1)) << "it is not certain, and in a loop";
  EXPECT_TRUE(flow.follows_on(1, 3)) << "in the same loop, around the branch";
  EXPECT_FALSE(flow.follows_on(1, 2)) << "under a condition";
  EXPECT_FALSE(flow.follows_on(3, 1)) << "the way back";
}

TEST(Flow, LeavesPaddingOut) {
  const TempFolder folder;
  write_file(folder / "padded.s", R"(
  .globl padded
  .type padded, @function
padded:
  jmp 1f
  .p2align 6
2: ret
  nop
1: jmp 2b
  .size padded, .-padded
)");
  ASSERT_EQ(run({"gcc", "-c", "-o", folder / "padded.o", folder / "padded.s"}).status, 0);
  const auto program = program::Program::open(folder / "padded.o", {});
  ASSERT_TRUE(program);
  program::CodeScan scan(*program);
  const std::vector<AddressRange> ranges = {program->functions_named("padded").at(0)->range()};
  const program::FlowBlocks flow(*program, scan, ranges);
  ASSERT_EQ(flow.blocks().size(), 3U);
  for (std::uint32_t block = 1; block < 3; ++block) EXPECT_FALSE(flow.is_root(block));
  EXPECT_EQ(flow.code().size(), 3U);
}

/// A statement that is taken up again after its arguments is entered once; a loop's line each time that its head or its
/// step is come to.
TEST(LineEntries, FollowTheRules) {
  const TempFolder folder;
  const std::string text = R"(int sum(int a, int b, int c);
int many(int n) {
  int total = 0;
  for (int i = 0; i < n; i++) {
    total += sum(total,
                 i * 3,
                 n);
  }
  while (total > 9)
    total -= n;
  return total;
}
)";
  write_file(folder / "rules.c", text);
  for (const char* compiler : {"gcc", "clang"}) {
    SCOPED_TRACE(compiler);
    ASSERT_EQ(run({compiler, "-g", "-O0", "-c", "-o", folder / "rules.o", folder / "rules.c"}).status, 0);
    const auto program = program::Program::open(folder / "rules.o", {});
    ASSERT_TRUE(program);
    debuginfo::Scopes scopes(program->debug());
    program::CodeScan scan(*program);
    program::LineEntries entries(*program, scopes, scan);
    std::map<std::uint32_t, int> counts;
    for (const program::LineEntry& one : entries.around(program->functions_named("many").at(0)->address))
      ++counts[one.line.line];
    EXPECT_EQ(counts[4], 2) << "the start and the step of the loop";
    EXPECT_EQ(counts[5], 1) << "its arguments lie between";
    // Jumps lead to the condition, before the first turn (gcc) and after each (clang).
    EXPECT_EQ(counts[9], 1);
    EXPECT_EQ(counts[10], 1);
    EXPECT_EQ(counts[11], 1);
    // `lines` has the same.
    const nlohmann::json told = nlohmann::json::parse(
        deeptrace({"lines", folder / "rules.o", "rules.c:1..12", "--format", "json"}).out, nullptr, false);
    ASSERT_FALSE(told.is_discarded());
    for (const auto& line : told["lines"]) {
      const auto entered = line.contains("entered") ? line["entered"].size() : 0;
      EXPECT_EQ(entered, static_cast<std::size_t>(counts[line["line"].get<std::uint32_t>()])) << line.dump();
    }
  }
}

/// The line that names a function stands for it, also where the function begins at its brace on the next line.
TEST(LineEntries, OfTheLineThatNamesAFunction) {
  const TempFolder folder;
  const std::string text = R"(volatile int sink;
__attribute__((noinline)) int
level_of(int x)

{
  sink = x;
  return x + sink;
}
static inline __attribute__((always_inline)) int twice(int x)
{
  sink += x;
  return sink * 2;
}
int
main(void)
{
  int sum = 0;
  for (int i = 0; i < 5; i++)
    sum += level_of(i) + twice(i) + twice(i + 1);
  return sum & 0;
}
)";
  for (const std::string compiler : {"gcc", "clang"}) {
    for (const std::string level : {"-O0", "-O2"}) {
      SCOPED_TRACE(compiler + level);
      const std::string path = built(folder, "braces", text, {compiler, "-g", level, "-w"});
      const nlohmann::json told =
          hits_of({"--at", "braces.c:3", "--at", "braces.c:9", "--at", "braces.c:15", "--keep", "x", path});
      EXPECT_EQ(told["counts"], nlohmann::json({{"h1", 5}, {"h2", 10}, {"h3", 1}})) << told.dump();
      std::vector<std::string> passed;
      for (const auto& hit : told["hits"]) {
        if (hit["stop"] == "h1") passed.push_back(hit["kept"]["x"].value("signed", ""));
      }
      EXPECT_EQ(passed, (std::vector<std::string>{"0", "1", "2", "3", "4"}));
    }
  }
}

/// Statements of unoptimised code that are spread over lines are entered once, whatever conditions lie between.
TEST(LineEntries, OfConditionsOverSeveralLines) {
  const TempFolder folder;
  const std::string text = R"(volatile int c[8];
int one(int x) { return x; }
int tried(int a, int b, int d, int e) {
  if (one(a == 1) ||
      one(b == 2) || one(d == 3) ||
      (one(e == 4) &&
       one(a == 5)))
    c[0]++;
  int value = a > b ? d
                    : e;
  while (value > 0 && b != 7 &&
         value != 6 && d != 9)
    value--;
  return (a ? b :
              d) + value;
}
int main(void) {
  for (int i = 0; i < 6; i++)
    tried(i, i * 3 % 5, i % 4, i % 5);
  return 0;
}
)";
  for (const std::string compiler : {"gcc", "clang"}) {
    const std::string path = built(folder, "spread", text, {compiler, "-g", "-O0", "-w"});
    // Each of these lines is a statement's, or the arm of one that is come to or not: lines 3, 4, 5, 6, 8, 13 once a
    // call.
    std::vector<std::string> words;
    for (const char* line : {"4", "5", "9", "14", "13"})
      words.insert(words.end(), {"--at", std::string("spread.c:") + line});
    words.push_back(path);
    int turns = 0, later = 0;
    for (int i = 0; i < 6; ++i) {
      const int a = i, b = i * 3 % 5, d = i % 4, e = i % 5;
      later += a != 1 ? 1 : 0;  // comes to line 5
      for (int value = a > b ? d : e; value > 0 && b != 7 && value != 6 && d != 9; --value) ++turns;
    }
    EXPECT_EQ(hits_of(words)["counts"], nlohmann::json({{"h1", 6}, {"h2", later}, {"h3", 6}, {"h4", 6}, {"h5", turns}}))
        << compiler;
  }
}

/// A loop on one line is come to once a turn and once more, a function whose prologue a loop follows once a call.
TEST(LineEntries, OfLoopsOnOneLineAndAfterPrologues) {
  const TempFolder folder;
  const std::string text = R"(struct tide { int left; int drain(); };
volatile int sink, values[16];
int tide::drain() {
  while (left) {
    left--;
    sink++;
  }
  return sink;
}
int main() {
  for (int i = 0; i < 7; i++) values[i] = i;
  int count = 5;
  while (sink++, count-- > 0);
  do sink++; while (sink < 20);
  for (int turn = 0; turn < 4; turn++) {
    tide high{turn};
    sink += high.drain() & 0;
  }
  return 0;
}
)";
  for (const std::string compiler : {"g++", "clang++"}) {
    const std::string path = built(folder, "turns", text, {compiler, "-g", "-O0", "-w"});
    const nlohmann::json told = hits_of({"--at", "turns.cpp:11", "--at", "turns.cpp:13", "--at", "turns.cpp:14", "--at",
                                         "tide::drain", "--at", "turns.cpp:3", "--keep", "this->left", path});
    EXPECT_EQ(told["counts"], nlohmann::json({{"h1", 8}, {"h2", 6}, {"h3", 14}, {"h4", 4}, {"h5", 4}})) << compiler;
    std::vector<std::string> left;
    for (const auto& hit : told["hits"]) {
      if (hit["stop"] == "h4") left.push_back(hit["kept"]["this->left"].value("signed", ""));
    }
    EXPECT_EQ(left, (std::vector<std::string>{"0", "1", "2", "3"})) << compiler;
  }
}

/// `steps` begins where control comes to a function or line, in inlined copies too.
TEST(Levels, StepsBeginInInlinedCopies) {
  const TempFolder folder;
  for (const auto& compiler : kCompilers) {
    const std::string path = built(folder, "levels", kLevels, compiler);
    for (const char* from : {"middle", "levels.c:10", "outer", "levels.c:13"}) {
      const Outcome outcome = deeptrace({"steps", "--from", from, "--count", "1", "--format", "json", path});
      const nlohmann::json told = nlohmann::json::parse(outcome.out, nullptr, false);
      ASSERT_FALSE(told.is_discarded()) << from << outcome.err;
      const std::string function = told["steps"][0].value("function", "");
      EXPECT_EQ(function, "outer") << from << ": inlined there";
      const bool first = std::string(from) == "outer" || std::string(from) == "levels.c:13";
      EXPECT_EQ(told["from"].value("place", "") == "outer", first) << from << " " << outcome.out;
    }
  }
}

TEST(Levels, OwnCodeInALibrarysFrameIsNotFoldedAway) {
  const TempFolder folder;
  const std::string program = built(folder, "lambda", R"(#include <cstdio>
#include <thread>
volatile int sink;
int main() {
  int level = 30;
  std::thread gauge([level] {
    sink = level;
    printf("%d\n", level + sink);
  });
  gauge.join();
}
)",
                                    {"g++", "-g", "-O2", "-std=c++20", "-w"});
  const std::string talk = conversation(folder, {program}, "halt at lambda.cpp:8\nresume\nframes\n").out;
  const std::string frames = talk.substr(talk.rfind("frames\n"));
  EXPECT_NE(frames.find("operator() (inlined)"), std::string::npos) << frames;
  EXPECT_NE(frames.find("lambda.cpp:8"), std::string::npos) << frames;
  EXPECT_NE(frames.find("frames of start-up or library code around"), std::string::npos) << frames;
}

}  // namespace
}  // namespace deeptrace::tests
