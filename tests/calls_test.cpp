// `calls`: what functions were given and gave back, against what the programs say of themselves, and the rules of the
// calling convention, each with routines that break it and neighbours that do not.
#include <gtest/gtest.h>

#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>
#include <set>
#include <string>
#include <vector>

#include "live_support.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;
using Words = std::vector<std::string>;

json traced(const Words& words) {
  Words all = {"calls", "--format", "json", "--program-output", "/dev/null"};
  all.insert(all.end(), words.begin(), words.end());
  const Outcome outcome = deeptrace(all);
  EXPECT_LE(outcome.status, 1) << outcome.err;
  json said = json::parse(outcome.out, nullptr, false);
  EXPECT_FALSE(said.is_discarded()) << outcome.out.substr(0, 500);
  return said;
}

/// In the order in which they began.
std::vector<json> calls_of(const json& said) {
  std::vector<json> result = said["calls"];
  std::sort(result.begin(), result.end(), [](const json& a, const json& b) { return a["n"] < b["n"]; });
  return result;
}

std::vector<json> calls_of(const json& said, const std::string& function) {
  std::vector<json> result;
  for (const json& one : calls_of(said)) {
    if (one["function"] == function) result.push_back(one);
  }
  return result;
}

/// "main level_sum level_sum", each with its depth before it.
std::string tree_of(const json& said) {
  std::string text;
  for (const json& one : calls_of(said))
    text += (text.empty() ? "" : " ") + std::to_string(one["depth"].get<int>()) + one["function"].get<std::string>();
  return text;
}

std::string number(const json& value) { return value["signed"].get<std::string>(); }

constexpr const char* kRecursive = R"(
#include <setjmp.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
static jmp_buf place;
int add(int a, int b) { return a + b; }
long factorial(long n) { return n < 2 ? 1 : n * factorial(n - 1); }
void leave(int how) { longjmp(place, how); }
void through(int how) { leave(how); }
static int order(const void *a, const void *b) { return *(const int *)a - *(const int *)b; }
void rise(int signal) { add(signal, 1); }
const char *name(double level, const char *text, char flag) { return level > 1.5 && flag == 'x' ? text : ""; }
int main(void) {
  int values[3] = {3, 1, 2};
  int (*pointer)(int, int) = add;
  pointer(-4, 1);
  factorial(4);
  if (setjmp(place) == 0) through(7);
  qsort(values, 3, sizeof *values, order);
  signal(SIGUSR1, rise);
  raise(SIGUSR1);
  return strlen(name(2.5, "flood", 'x'));
}
)";

class InBuilds : public testing::TestWithParam<Words> {};

TEST_P(InBuilds, CallsAreThoseOfTheSource) {
  const TempFolder folder;
  Words options = GetParam();
  for (const char* one : {"-g", "-w", "-fno-builtin"}) options.emplace_back(one);
  const json said = traced({built(folder, "recursive", kRecursive, options)});
  ASSERT_FALSE(said["calls"].empty());
  const std::string tree = tree_of(said);
  EXPECT_NE(tree.find("0main 1add 1factorial 2factorial 3factorial 4factorial"), std::string::npos) << tree;
  EXPECT_NE(tree.find("1through 2leave 3"), std::string::npos) << tree;
  EXPECT_NE(tree.find("1qsort 2order 2order"), std::string::npos) << tree;
  EXPECT_NE(tree.find("2rise 3add"), std::string::npos) << tree;

  const std::vector<json> adds = calls_of(said, "add");
  ASSERT_EQ(adds.size(), 2);
  EXPECT_EQ(adds[0]["by"], "pointer");
  EXPECT_EQ(adds[0]["from"]["line"], 17);
  EXPECT_EQ(number(adds[0]["arguments"][0]["value"]), "-4");
  EXPECT_EQ(adds[0]["arguments"][1]["name"], "b");
  EXPECT_EQ(number(adds[0]["result"]["value"]), "-3");
  EXPECT_EQ(adds[0]["result"]["where"], "eax");
  EXPECT_EQ(adds[1]["by"], "call");

  const std::vector<json> factors = calls_of(said, "factorial");
  ASSERT_EQ(factors.size(), 4);
  const char* results[] = {"24", "6", "2", "1"};
  for (std::size_t i = 0; i < 4; ++i) {
    EXPECT_EQ(number(factors[i]["arguments"][0]["value"]), std::to_string(4 - i));
    EXPECT_EQ(number(factors[i]["result"]["value"]), results[i]);
    EXPECT_EQ(factors[i]["parent"], i == 0 ? 1 : factors[i - 1]["n"].get<int>());
  }
  for (const char* function : {"through", "leave"}) {
    const std::vector<json> left = calls_of(said, function);
    ASSERT_EQ(left.size(), 1);
    EXPECT_EQ(left[0]["end"], "left") << function;
    EXPECT_TRUE(left[0]["result"]["value"].is_null());
  }
  EXPECT_EQ(calls_of(said, "rise")[0]["by"], "signal");
  const json named = calls_of(said, "name")[0];
  EXPECT_EQ(named["arguments"][0]["value"]["text"], "2.5");
  EXPECT_EQ(named["arguments"][1]["value"]["text"], "flood");
  EXPECT_EQ(named["result"]["value"]["text"], "flood");
  const json length = calls_of(said, "strlen")[0];
  EXPECT_EQ(length["own"], false);
  EXPECT_EQ(length["arguments"][0]["value"]["text"], "flood");
  EXPECT_EQ(number(length["result"]["value"]), "5");
  EXPECT_EQ(said["exit"]["status"], 5);
}

INSTANTIATE_TEST_SUITE_P(All, InBuilds,
                         testing::Values(Words{"gcc", "-O0"}, Words{"gcc", "-O0", "-m32"}, Words{"clang", "-O0"},
                                         Words{"gcc", "-O0", "-static"}, Words{"gcc", "-O0", "-fno-plt"},
                                         Words{"gcc", "-O0", "-m32", "-fPIE", "-pie"},
                                         Words{"clang", "-O0", "-fomit-frame-pointer"}));

TEST(Calls, TailCallsExceptionsAndThreadsEndAsTheyDo) {
  const TempFolder folder;
  const std::string program = built(folder, "ends", R"(
#include <stdexcept>
#include <thread>
volatile int seen;
__attribute__((noinline)) int last(int a) { asm volatile(""); return a + seen; }
__attribute__((noinline)) int middle(int a) { asm volatile(""); return last(a * 2); }
__attribute__((noinline)) int first(int a) { asm volatile(""); return middle(a + 1); }
__attribute__((noinline)) void refuse(int level) { if (level > 3) throw std::range_error("high"); }
__attribute__((noinline)) void deep(int level) { refuse(level); seen = level; }
__attribute__((noinline)) void work(int number) { seen = last(number); }
int main() {
  seen = 0;
  const int result = first(20) + 0;
  try { deep(5); } catch (const std::exception &) { seen = last(1); }
  std::thread one(work, 100);
  one.join();
  return result;
}
)",
                                    {"g++", "-g", "-O2", "-pthread"});
  const json said = traced({program});
  EXPECT_EQ(said["exit"]["status"], 42);
  EXPECT_EQ(calls_of(said, "first(int)")[0]["end"], "jumped");
  EXPECT_EQ(calls_of(said, "middle(int)")[0]["end"], "jumped");
  EXPECT_EQ(calls_of(said, "middle(int)")[0]["by"], "jump");
  EXPECT_EQ(calls_of(said, "middle(int)")[0]["depth"], 1);
  const std::vector<json> last = calls_of(said, "last(int)");
  ASSERT_EQ(last.size(), 3);
  EXPECT_EQ(number(last[0]["result"]["value"]), "42");
  EXPECT_EQ(last[0]["by"], "jump");
  EXPECT_EQ(calls_of(said, "deep(int)")[0]["end"], "thrown");
  EXPECT_EQ(calls_of(said, "refuse(int)")[0]["end"], "thrown");
  EXPECT_EQ(last[1]["depth"], 1) << "after the exception one is in main again";
  const json worked = calls_of(said, "work(int)")[0];
  EXPECT_EQ(worked["thread"], 2);
  EXPECT_EQ(number(worked["arguments"][0]["value"]), "100");
  EXPECT_EQ(last[2]["thread"], 2);
}

TEST(Calls, AFunctionMayBeginWithACallOrAJump) {
  const TempFolder folder;
  write_file(folder / "begins.s", R"(
        .globl straight, on, twice
        .type straight, @function
straight: jmp puts@PLT
        .type on, @function
on:     jmp straight
        .type twice, @function
twice:  call here
        ret
        .type here, @function
here:   ret
        .section .note.GNU-stack, "", @progbits
)");
  write_file(folder / "main.c",
             "int straight(const char *); int on(const char *); void twice(void);\n"
             "int main(void) { straight(\"ebb\"); on(\"flood\"); twice(); return 0; }\n");
  const std::string program = folder / "begins";
  ASSERT_EQ(run({"gcc", "-g", "-o", program, folder / "main.c", folder / "begins.s"}).status, 0);
  const json said = traced({program});
  EXPECT_EQ(tree_of(said), "0main 1straight 1puts 1on 1straight 1puts 1twice 2here");
  const std::vector<json> puts = calls_of(said, "puts");
  EXPECT_EQ(puts[1]["by"], "jump");
  EXPECT_EQ(puts[1]["arguments"][0]["value"]["text"], "flood");
  EXPECT_EQ(number(puts[1]["result"]["value"]), "6");
  EXPECT_EQ(calls_of(said, "on")[0]["end"], "jumped");
}

TEST(Calls, OfWhatNothingDescribesShowWhatIsSetForThem) {
  const TempFolder folder;
  write_file(folder / "lib.c", "long mix(long a, long b) { return a * b; }\n");
  const std::string library = folder / "libmix.so", program = folder / "uses";
  ASSERT_EQ(run({"gcc", "-shared", "-fPIC", "-s", "-o", library, folder / "lib.c"}).status, 0);
  write_file(folder / "main.c", "long mix(long, long); int main(void) { return mix(6, 7) - 42; }\n");
  ASSERT_EQ(
      run({"gcc", "-g", "-o", program, folder / "main.c", library, "-Wl,-rpath," + folder.path().string()}).status, 0);
  const std::vector<json> mixed = calls_of(traced({"--own", folder / "main.c", program}), "mix");
  ASSERT_EQ(mixed.size(), 1);
  ASSERT_EQ(mixed[0]["arguments"].size(), 2) << mixed[0];
  EXPECT_EQ(number(mixed[0]["arguments"][1]["value"]), "7");
  EXPECT_EQ(mixed[0]["arguments"][1]["where"], "rsi");

  write_file(folder / "framed.s", R"(
        .globl _start
_start: push $7
        push $5
        call addup
        mov $1, %eax
        xor %ebx, %ebx
        int $0x80
addup:  push %ebp
        mov %esp, %ebp
        mov 8(%ebp), %eax
        add 12(%ebp), %eax
        pop %ebp
        ret $8
)");
  const std::string framed = folder / "framed";
  ASSERT_EQ(run({"gcc", "-m32", "-nostdlib", "-static", "-o", framed, folder / "framed.s"}).status, 0);
  const json addup = calls_of(traced({framed}), "addup")[0];
  ASSERT_EQ(addup["arguments"].size(), 2) << addup;
  EXPECT_EQ(number(addup["arguments"][0]["value"]), "5");
  EXPECT_EQ(addup["arguments"][1]["where"], "[esp+4]");
}

TEST(Calls, OfChildrenAreTheirOwn) {
  const TempFolder folder;
  const std::string program = built(folder, "born", R"(
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>
extern char **environ;
int level(int a) { return a * 2; }
int deep(int a) {
  if (a == 3 && fork() == 0) return level(50);
  return level(a);
}
int main(int count, char **words) {
  if (count > 1) return level(8);
  const int got = deep(3);
  if (got == 100) _exit(level(4));
  char *again[] = {words[0], "again", 0};
  pid_t child;
  posix_spawn(&child, words[0], 0, 0, again, environ);
  while (wait(0) > 0) continue;
  return level(1);
}
)",
                                    {"gcc", "-g", "-w"});
  const json said = traced({"--children", "trace", program});
  EXPECT_EQ(said["exit"]["status"], 2);
  std::map<int, std::multiset<std::string>> levels;  // arguments by process
  for (const json& one : calls_of(said, "level")) levels[one["process"]].insert(number(one["arguments"][0]["value"]));
  EXPECT_EQ(levels.size(), 3);
  EXPECT_EQ(levels[1], (std::multiset<std::string>{"1", "3"}));
  EXPECT_EQ(levels[2], (std::multiset<std::string>{"4", "50"}));
  EXPECT_EQ(levels[3], (std::multiset<std::string>{"8"}));
  EXPECT_EQ(calls_of(traced({program}), "level").size(), 2) << "children are let go";
}

TEST(Calls, AreShownAsFarAsAskedFor) {
  const TempFolder folder;
  const std::string program = built(folder, "asked", kRecursive, {"gcc", "-g", "-w", "-fno-builtin"});
  EXPECT_EQ(tree_of(traced({"--depth", "1", program})), "0main");
  EXPECT_EQ(tree_of(traced({"--of", "factorial", "--depth", "2", program})), "0factorial 1factorial");
  EXPECT_EQ(tree_of(traced({"--of", "qsort", program})), "0qsort 1order 1order 1order");
  const json counted = traced({"--count", "3", program});
  EXPECT_EQ(counted["exit"]["stopped"], "count");
  EXPECT_EQ(counted["rows"], 3);
  const json limited = traced({"--limit", "2", program});
  EXPECT_EQ(calls_of(limited).size(), 2);
  EXPECT_GT(limited["unlisted"], 10);
  const Outcome unknown = deeptrace({"calls", "--of", "no_such_function", program});
  EXPECT_EQ(unknown.status, 2);
  EXPECT_NE(unknown.err.find("no_such_function"), std::string::npos) << unknown.err;
}

TEST(Calls, InTextRecursionAndRepetitionAreFolded) {
  const TempFolder folder;
  const std::string program = built(folder, "folded", R"(
int same(int a) { return a; }
int down(int n) { return n == 0 ? 0 : down(n - 1) + 1; }
int main(void) {
  int sum = 0;
  for (int i = 0; i < 50; ++i) sum += same(i);
  return down(40) + sum * 0;
}
)",
                                    {"gcc", "-g"});
  const Outcome folded = run({"env", "COLUMNS=120", DEEPTRACE_PROGRAM, "calls", "--uncut", program});
  EXPECT_NE(folded.out.find("down"), std::string::npos) << folded.err;
  EXPECT_EQ(folded.out.find("more calls"), std::string::npos) << "--uncut lists all";
  const json said = traced({program});
  EXPECT_EQ(calls_of(said, "same").size(), 50);
  EXPECT_EQ(calls_of(said, "down").size(), 41);
  EXPECT_EQ(calls_of(said, "down").back()["depth"], 41);
}

TEST(Calls, OfHandWrittenCodeAreInferred) {
  const TempFolder folder;
  write_file(folder / "plain.s", R"(
        .globl _start
        .text
_start: pop %r12
        mov $7, %edi
        mov $-2, %rsi
        mov $5, %ecx
        call mix
        call inner
        mov $60, %eax
        xor %edi, %edi
        syscall
mix:    lea (%rdi,%rsi), %rax
        add %rcx, %rax
        push %rbx
        xor %ebx, %ebx
        call inner
        pop %rbx
        ret
inner:  inc %rax
        ret
)");
  const std::string program = folder / "plain";
  ASSERT_EQ(run({"gcc", "-nostdlib", "-static", "-o", program, folder / "plain.s"}).status, 0);
  const json said = traced({program});
  EXPECT_EQ(tree_of(said), "0_start 1mix 2inner 1inner");
  const json mix = calls_of(said, "mix")[0];
  EXPECT_EQ(mix["inferred"], true);
  std::map<std::string, std::string> taken;
  for (const json& one : mix["arguments"]) taken[one["where"]] = number(one["value"]);
  EXPECT_EQ(taken, (std::map<std::string, std::string>{{"rdi", "7"}, {"rsi", "-2"}, {"rcx", "5"}}));
  EXPECT_EQ(number(mix["result"]["value"]), "11");
  EXPECT_EQ(calls_of(said, "inner")[0]["arguments"][0]["where"], "rax");
  EXPECT_EQ(calls_of(said, "_start")[0]["by"], "start");
  EXPECT_EQ(calls_of(said, "_start")[0]["end"], "unfinished");
}

TEST(Calls, AreDrawnOverTime) {
  const TempFolder folder;
  const std::string into = folder / "figure";
  ASSERT_EQ(deeptrace({"calls", "--format", "none", "--save", into, "--save-formats", "svg,png,html",
                       "--program-output", folder / "out", built(folder, "drawn", kRecursive, {"gcc", "-g", "-w"})})
                .status,
            0);
  const std::string svg = read_file(into + "/calls.svg");
  EXPECT_NE(svg.find("<svg"), std::string::npos);
  EXPECT_GT(std::filesystem::file_size(into + "/calls.png"), 5000);
  const std::string page = read_file(into + "/calls.html");
  for (const char* part : {"factorial", "n 0x4 · 4 in rdi", "is left without a return", "(through a pointer)"})
    EXPECT_NE(page.find(part), std::string::npos) << part;
  EXPECT_EQ(page.find("<script>alert"), std::string::npos);
}

TEST(Calls, ADeepRecursionIsBounded) {
  const TempFolder folder;
  const std::string program = built(folder, "deep", R"(
#include <sys/resource.h>
#include <unistd.h>
long down(long n) { return n == 0 ? 0 : down(n - 1) + 1; }
int main(int count, char **words) {
  struct rlimit large = {1UL << 30, RLIM_INFINITY};
  if (count > 1) return down(30000) == 30000 ? 3 : 4;
  setrlimit(RLIMIT_STACK, &large);
  execl("/proc/self/exe", "deep", "again", (char *)0);
}
)",
                                    {"gcc", "-g"});
  const json said = traced({"--of", "down", program});
  EXPECT_EQ(said["exit"]["status"], 3);
  EXPECT_EQ(said["rows"], 10000);
  EXPECT_EQ(said["too_deep"], 20001);
}

// ---- the rules ------------------------------------------------------------------------------------------------------

/// Kinds of findings, wrong ones with an exclamation mark.
std::set<std::string> found(const json& said) {
  std::set<std::string> result;
  for (const json& one : said["findings"])
    result.insert(one["kind"].get<std::string>() + (one["text"].get<std::string>().empty() ? "?"
                                                    : one.value("note", false)             ? ""
                                                                                           : "!"));
  return result;
}

std::set<std::string> checked(const std::string& assembly, const char* main, const Words& compiler = {"gcc"}) {
  const TempFolder folder;
  write_file(folder / "routines.s", assembly);
  write_file(folder / "main.c", main);
  const std::string program = folder / "program";
  Words words = compiler;
  for (const char* one : {"-g", "-w", "-o"}) words.emplace_back(one);
  words.insert(words.end(), {program, folder / "main.c", folder / "routines.s"});
  EXPECT_EQ(run(words).status, 0);
  return found(traced({"--check", program}));
}

using Found = std::set<std::string>;

TEST(CallRules, KeptRegistersAreGivenBack) {
  const char* main = "long outer(long); int main(void) { return outer(3); }";
  const auto routines = [](const std::string& inner, const std::string& after) {
    return ".globl outer\n.type outer, @function\nouter: push %rbx\nmov %rdi, %rbx\ncall inner\n" + after +
           "pop %rbx\nret\n.type inner, @function\ninner: " + inner;
  };
  const std::string reads = "add %rbx, %rax\n", ignores = "mov $1, %ebx\nadd %rbx, %rax\n";
  EXPECT_EQ(checked(routines("mov $5, %ebx\nmov %rbx, %rax\nret\n", reads), main), Found{"kept_register_changed!"});
  EXPECT_EQ(checked(routines("xor %ebx, %ebx\nlea 1(%rbx), %rax\nret\n", reads), main),
            Found{"kept_register_changed!"});
  EXPECT_EQ(checked(routines("mov $5, %ebx\nmov %rbx, %rax\nret\n", ignores), main), Found{"kept_register_changed"});
  EXPECT_EQ(checked(routines("push %rbx\nmov $5, %ebx\nmov %rbx, %rax\npop %rbx\nret\n", reads), main), Found{});
  EXPECT_EQ(checked(routines("mov %rbx, %rcx\nmov $5, %ebx\nmov %rbx, %rax\nmov %rcx, %rbx\nret\n", reads), main),
            Found{});
}

TEST(CallRules, TheStackIsAlignedAtCalls) {
  const char* main = "long outer(long); void careless(void) {} int main(void) { return outer(3); }";
  const auto routines = [](const std::string& before, const std::string& after, const std::string& inner) {
    return ".globl outer\n.type outer, @function\nouter: " + before + "call inner\n" + after +
           "ret\n.type inner, @function\ninner: " + inner + "ret\n";
  };
  const std::string stores = "sub $24, %rsp\nmovaps %xmm0, (%rsp)\nadd $24, %rsp\n", plain = "mov %rdi, %rax\n";
  EXPECT_EQ(checked(routines("", "", plain), main), Found{"stack_misaligned"});
  EXPECT_EQ(checked(routines("", "", stores), main), Found{"stack_misaligned!"});
  EXPECT_EQ(checked(routines("push %rax\npush %rax\n", "add $16, %rsp\n", plain), main), Found{"stack_misaligned"});
  EXPECT_EQ(checked(routines("push %rax\n", "add $8, %rsp\n", stores), main), Found{});
  EXPECT_EQ(checked(routines("sub $24, %rsp\n", "add $24, %rsp\n", plain), main), Found{});
}

TEST(CallRules, ResultsAreReadAsWideAsTheyAre) {
  const char* main =
      "short low = -6; short level(void) { return low; } int number(void) { return -6; } unsigned char small(int a) { "
      "return a; } "
      "short high(void) { return 6; } long outer(void); int main(void) { return outer() != 0; }";
  const auto routines = [](const std::string& function, const std::string& after) {
    return ".globl outer\n.type outer, @function\nouter: sub $8, %rsp\nmov $0x1fe, %edi\ncall " + function + "\n" +
           after + "add $8, %rsp\nret\n";
  };
  EXPECT_EQ(checked(routines("level", "add %eax, %edi\n"), main), Found{"result_read_too_wide!"});
  EXPECT_EQ(checked(routines("level", "movslq %eax, %rdx\n"), main), Found{"result_read_too_wide!"});
  EXPECT_EQ(checked(routines("number", "add %rax, %rdi\n"), main), Found{"result_read_too_wide!"});
  EXPECT_EQ(checked(routines("level", "movswl %ax, %edi\n"), main), Found{});
  EXPECT_EQ(checked(routines("level", "cwtl\nadd %eax, %edi\n"), main), Found{});
  EXPECT_EQ(checked(routines("number", "add %eax, %edi\n"), main), Found{});
  EXPECT_EQ(checked(routines("high", "add %eax, %edi\n"), main), Found{}) << "what is read is the same";
  EXPECT_EQ(checked(routines("small", "movzbl %al, %edi\n"), main), Found{});
}

TEST(CallRules, DirectionFlagAndStackPointerAreAsBefore) {
  const char* main = "void outer(void); int main(void) { outer(); return 0; }";
  const auto routine = [](const std::string& code) {
    return ".globl outer\n.type outer, @function\nouter: " + code + "\n";
  };
  EXPECT_EQ(checked(routine("std\nret"), main), Found{"direction_flag_set!"});
  EXPECT_EQ(checked(routine("pushf\nstd\npopf\nret"), main), Found{});
  EXPECT_EQ(checked(routine("std\ncld\nret"), main), Found{});
  // With nothing on the stack that main -O0 would miss.
  const char* two = "void outer(void); int main(void) { outer(); outer(); return 0; }";
  EXPECT_EQ(checked(routine("nop\nret $8"), two).count("stack_not_restored!"), 1);
  EXPECT_EQ(checked(routine("ret $16"), two).count("stack_not_restored!"), 1);
  EXPECT_EQ(checked(routine("push %rax\npop %rcx\nret"), two), Found{});
}

/// Assemblers say nothing of what their routines take; who calls them does.
TEST(Calls, RoutinesAreGivenWhatTheirCallersDeclare) {
  const TempFolder folder;
  write_file(folder / "r.s",
             ".globl scale, nothing\n.type scale, @function\nscale: movsd %xmm0, %xmm1\n"
             "mov $7, %eax\nret\n.type nothing, @function\nnothing: ret\n"
             ".section .note.GNU-stack,\"\",@progbits\n");
  write_file(folder / "main.c", R"(
short scale(double factor, unsigned char step, const char *name);
void nothing();
int main(void) { nothing(); return scale(2.5, 250, "tide") != 7; })");
  for (const char* level : {"-O0", "-O2"}) {
    ASSERT_EQ(run({"gcc", "-g", level, "-o", folder / "r", folder / "main.c", folder / "r.s"}).status, 0);
    const json said = traced({folder / "r"});
    const json scale = calls_of(said, "scale")[0];
    EXPECT_FALSE(scale["inferred"].get<bool>());
    ASSERT_EQ(scale["arguments"].size(), 3U) << scale.dump();
    EXPECT_EQ(scale["arguments"][0]["where"], "xmm0");
    EXPECT_EQ(scale["arguments"][0]["value"]["text"], "2.5") << scale.dump();
    EXPECT_EQ(scale["arguments"][1]["value"]["unsigned"], "250");
    EXPECT_EQ(scale["arguments"][2]["type"], "const char *");
    EXPECT_EQ(scale["result"]["where"], "ax");
    EXPECT_TRUE(calls_of(said, "nothing")[0]["inferred"].get<bool>()) << "that declaration does not say what it takes";
  }
}

TEST(Calls, EveryInstructionIsCounted) {
  const TempFolder folder;
  write_file(folder / "work.s", R"(
.globl turns, outer, copies
.type turns, @function
turns: mov $10, %ecx
1: dec %ecx
jnz 1b
ret
.type outer, @function
outer: nop
call turns
call turns
ret
.type copies, @function
copies: cld
mov $5, %ecx
push %rsi
push %rdi
lea here(%rip), %rsi
lea here(%rip), %rdi
rep movsb
pop %rdi
pop %rsi
ret
.data
here: .zero 8
.section .note.GNU-stack,"",@progbits
)");
  write_file(folder / "main.c", R"(
#include <pthread.h>
void turns(void), outer(void), copies(void);
void *other(void *unused) { outer(); return unused; }
int main(void) {
  pthread_t thread;
  pthread_create(&thread, 0, other, 0);
  outer();
  pthread_join(thread, 0);
  copies();
  return 0;
})");
  ASSERT_EQ(run({"gcc", "-g", "-pthread", "-o", folder / "a", folder / "main.c", folder / "work.s"}).status, 0);
  const json said = traced({"--every-instruction", folder / "a"});
  EXPECT_EQ(said["exit"]["status"], 0);
  for (const json& one : calls_of(said, "turns")) EXPECT_EQ(one["instructions"], 22);
  for (const json& one : calls_of(said, "outer")) EXPECT_EQ(one["instructions"], 48) << "those that it calls included";
  for (const json& one : calls_of(said, "copies")) EXPECT_EQ(one["instructions"], 14) << "each repetition is one";
  EXPECT_EQ(calls_of(said, "turns").size(), 4U);
  EXPECT_EQ(calls_of(said, "copies").size(), 1U);
  EXPECT_TRUE(calls_of(traced({folder / "a"}), "turns")[0]["instructions"].is_null());
}

TEST(Calls, InlinedOnesAreRowsOnRequest) {
  const TempFolder folder;
  write_file(folder / "i.c", R"(
#include <stdio.h>
#include <stdlib.h>
static inline __attribute__((always_inline)) int scaled(int level, int by) { return printf("%d\n", level) * by; }
static inline __attribute__((always_inline)) int both(int first, int second) {
  return scaled(first, 3) + scaled(second, 5);
}
__attribute__((noinline)) int report(int from) { return both(from, from + 1); }
int main(int argc, char **argv) { return report(argc) + report(atoi(argv[1])) == 0; }
)");
  for (const char* compiler : {"gcc", "clang"}) {
    for (const char* level : {"-O0", "-O2"}) {
      ASSERT_EQ(run({compiler, "-g", level, "-o", folder / "i", folder / "i.c"}).status, 0);
      const json said = traced({"--inlined", folder / "i", "40"});
      EXPECT_EQ(said["exit"]["status"], 0);
      std::string found;
      for (const json& one : calls_of(said)) {
        if (one["by"] != "inlined") continue;
        found += std::to_string(one["depth"].get<int>()) + one["function"].get<std::string>() + "(";
        for (const json& argument : one["arguments"])
          found += (argument["value"].is_null() ? "?" : number(argument["value"])) + ",";
        found += ") ";
        EXPECT_EQ(one["end"], "inlined");
        EXPECT_TRUE(one["parent"].is_number()) << "the call that it lies in";
      }
      // gcc begins both with an instruction of the function around them.
      const bool mixed = std::string(compiler) == "gcc" && std::string(level) == "-O2";
      const std::string expected =
          mixed ? "2both(?,) 3scaled(?,) 3scaled(3,5,) 2both(?,) 3scaled(?,) 3scaled(41,5,) "
                : "2both(2,3,) 3scaled(2,3,) 3scaled(3,5,) 2both(40,41,) 3scaled(40,3,) 3scaled(41,5,) ";
      EXPECT_EQ(found, expected) << compiler << level;
      EXPECT_EQ(calls_of(said, "printf").size(), 4U);
      for (const json& one : calls_of(traced({folder / "i", "40"}))) EXPECT_NE(one["by"], "inlined");
    }
  }
}

TEST(Calls, VirtualCallsSayWhatTheObjectIs) {
  const TempFolder folder;
  write_file(folder / "v.cpp", R"(
struct Gauge { virtual ~Gauge() = default; virtual int level(int at) const { return at; } };
namespace tide { struct Float : Gauge { int level(int at) const override { return at + 1; } }; }
struct Quiet : Gauge { int more = 3; };
__attribute__((noinline)) int ask(const Gauge &gauge) { return gauge.level(4); }
__attribute__((noinline)) int plain(int (*call)(int), int value) { return call(value); }
int twice(int value) { return 2 * value; }
int main() { return ask(tide::Float()) + ask(Quiet()) + ask(Gauge()) + plain(twice, 3) == 19 ? 0 : 1; }
)");
  for (const char* width : {"-m64", "-m32"}) {
    for (const char* compiler : {"g++", "clang++"}) {
      ASSERT_EQ(run({compiler, width, "-g", "-O0", "-o", folder / "v", folder / "v.cpp"}).status, 0);
      const json said = traced({folder / "v"});
      EXPECT_EQ(said["exit"]["status"], 0);
      std::string found;
      for (const json& one : calls_of(said)) {
        if (one["by"] == "pointer")
          found += one["function"].get<std::string>() + " of " +
                   (one["object"].is_null() ? "none" : one["object"].get<std::string>()) + "; ";
      }
      EXPECT_EQ(found,
                "tide::Float::level(int) const of tide::Float; Gauge::level(int) const of Quiet; "
                "Gauge::level(int) const of Gauge; twice(int) of none; ")
          << compiler << width;
    }
  }
}

TEST(CallRules, TheFloatingPointUnitIsLeftEmpty) {
  const char* main = "void outer(void); int main(void) { outer(); return 0; }";
  const auto routine = [](const std::string& code) {
    return ".globl outer\n.type outer, @function\nouter: " + code + "\nret\n";
  };
  EXPECT_EQ(checked(routine("fld1\nfldpi"), main), Found{"x87_stack_left!"});
  EXPECT_EQ(checked(routine("fldz\nfldz\nfld1\nfaddp"), main), Found{"x87_stack_left!"});
  EXPECT_EQ(checked(routine("mov $5, %eax\nmovd %eax, %mm0"), main), Found{"mmx_state_left"});
  EXPECT_EQ(checked(routine("pxor %mm1, %mm1\npaddb %mm1, %mm2"), main), Found{"mmx_state_left"});
  EXPECT_EQ(checked(routine("fldpi"), main), Found{"x87_stack_left!"}) << "its caller declares that it returns nothing";
  EXPECT_EQ(checked(routine("fldpi"), "long double outer(void); int main(void) { return outer() > 4; }"), Found{})
      << "the result";
  EXPECT_EQ(checked(routine("fld1\nfldpi\nfaddp\nfstp %st(0)"), main), Found{});
  EXPECT_EQ(checked(routine("mov $5, %eax\nmovd %eax, %mm0\nemms"), main), Found{});
}

TEST(CallRules, VariadicCallsCountTheirVectorRegisters) {
  const char* main =
      "double level = 2.5; char format[] = \"%f\", text[20]; void outer(void); "
      "int main(void) { outer(); return 0; }";
  const auto routine = [](const std::string& count) {
    return ".globl outer\n.type outer, @function\nouter: sub $8, %rsp\nmovsd level(%rip), %xmm0\n"
           "lea text(%rip), %rdi\nlea format(%rip), %rsi\n" +
           count + "\ncall sprintf@PLT\nadd $8, %rsp\nret\n";
  };
  EXPECT_EQ(checked(routine("xor %eax, %eax"), main), Found{"variadic_count!"});
  EXPECT_EQ(checked(routine("mov $0x300, %eax"), main), Found{"variadic_count!"});
  EXPECT_EQ(checked(routine("mov $1, %eax"), main), Found{});
  EXPECT_EQ(checked(routine("mov $8, %eax"), main), Found{});
}

TEST(CallRules, ArgumentsAreInTheOrderOfTheirTypes) {
  const char* main =
      "char text[20] = \"level\"; long scale(const char *of, long by) { return of == 0; }"
      "void outer(void); int main(void) { outer(); return 0; }";
  const auto routine = [](const std::string& code) {
    return ".globl outer\n.type outer, @function\nouter: sub $8, %rsp\n" + code + "\nadd $8, %rsp\nret\n";
  };
  EXPECT_EQ(checked(routine("mov $17, %edi\nlea text(%rip), %rsi\ncall scale"), main), Found{"exchanged_arguments!"});
  EXPECT_EQ(checked(routine("mov $1, %edi\nmov $5, %esi\nlea text(%rip), %rdx\ncall write@PLT"), main),
            Found{"exchanged_arguments!"});
  EXPECT_EQ(checked(routine("lea text(%rip), %rdi\nmov $17, %esi\ncall scale"), main), Found{});
  EXPECT_EQ(checked(routine("mov $1, %edi\nlea text(%rip), %rsi\nmov $5, %edx\ncall write@PLT"), main), Found{});
  const std::string narrow = ".globl outer\n.type outer, @function\nouter: sub $4, %esp\n";
  EXPECT_EQ(
      checked(narrow + "push $text\npush $17\ncall scale\nadd $12, %esp\nret\n", main, {"gcc", "-m32", "-no-pie"}),
      Found{"exchanged_arguments!"});
  EXPECT_EQ(
      checked(narrow + "push $17\npush $text\ncall scale\nadd $12, %esp\nret\n", main, {"gcc", "-m32", "-no-pie"}),
      Found{});
}

TEST(CallRules, CompiledProgramsKeepThem) {
  for (const Words& build : {Words{"gcc", "-O0"}, Words{"gcc", "-O2"}, Words{"clang", "-O2"},
                             Words{"gcc", "-m32", "-O1"}, Words{"gcc", "-m32", "-O2", "-fomit-frame-pointer"}}) {
    const TempFolder folder;
    Words options = build;
    for (const char* one : {"-g", "-w"}) options.emplace_back(one);
    const json said = traced({"--check", built(folder, "lawful", kRecursive, options)});
    EXPECT_TRUE(said["findings"].empty()) << said["findings"];
  }
}

TEST(CallRules, ThePlantedMistakesAreFoundOnTheirLines) {
  const auto finding = [](const char* mistake) {
    const json said = traced({"--check", demo("ebb"), mistake});
    return said["findings"].empty() ? json::object() : said["findings"][0];
  };
  EXPECT_EQ(finding("kept")["kind"], "kept_register_changed");
  EXPECT_EQ(finding("kept")["line"], 19);
  EXPECT_EQ(finding("narrow")["kind"], "result_read_too_wide");
  EXPECT_EQ(finding("narrow")["line"], 74);
  EXPECT_EQ(finding("align")["kind"], "stack_misaligned");
  EXPECT_EQ(finding("align")["line"], 144);
  EXPECT_TRUE(finding("none").empty());
}

}  // namespace
}  // namespace deeptrace::tests
