// Live control against what programs say of themselves: their own log of writes, their own values, their own stacks,
// their plain runs.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <pty.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <cstddef>
#include <fstream>
#include <nlohmann/json.hpp>
#include <random>
#include <thread>

#include "abi/signal_names.h"
#include "control/control.h"
#include "live_support.h"
#include "look/places.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using control::Control;
using look::Stopped;
using nlohmann::json;

std::unique_ptr<Control> started(const std::string& program) {
  control::ControlOptions options;
  options.launch.program = program;
  const int nowhere = ::open("/dev/null", O_WRONLY);
  options.launch.output = nowhere;
  auto control = Control::start(options);
  ::close(nowhere);
  EXPECT_TRUE(control) << control.error().message;
  return control ? std::move(*control) : nullptr;
}

bool halt_at(Control& control, const std::string& rule) {
  const auto parsed = control::parse_halt_rule(rule);
  EXPECT_TRUE(parsed) << parsed.error().message;
  const auto number = control.add(*parsed);
  EXPECT_TRUE(number) << number.error().message;
  const auto stopped = control.go({});
  return stopped && stopped->why == Stopped::Why::halt;
}

// ---- expressions ----------------------------------------------------------------------------------------------------

/// Expressions of C that have a value for every state: no division by zero, no shift beyond the width, no overflow of
/// signed numbers.
std::string expression(std::mt19937& random, int depth) {
  static const std::vector<std::string> kLeaves = {
      "a",      "b",      "c",       "d",        "e",  "f", "g",      "h",   "v[2]", "v[b & 3]",    "p->x",
      "(*p).y", "p->low", "p->high", "t.part.z", "*q", "3", "0x7fff", "'k'", "q[1]", "2000000000u", "1L"};
  const auto pick = [&](std::size_t most) { return random() % most; };
  if (depth == 0 || pick(6) == 0) return kLeaves[pick(kLeaves.size())];
  const std::string left = expression(random, depth - 1), right = expression(random, depth - 1);
  switch (pick(12)) {
    case 0: return "((" + left + ") & (" + right + "))";
    case 1: return "((" + left + ") | (" + right + "))";
    case 2: return "((" + left + ") ^ (" + right + "))";
    case 3: return "((" + left + ") == (" + right + "))";
    case 4: return "((" + left + ") < (" + right + "))";
    case 5: return "((" + left + ") >= (" + right + "))";
    case 6: return "((unsigned)(" + left + ") + (" + right + " & 0xff))";
    case 7: return "((" + left + " & 0xfff) - (" + right + " & 0xff))";
    case 8: return "((" + left + ") / ((" + right + " & 7) + 1))";
    case 9: return "((" + left + ") >> ((" + right + ") & 7))";
    case 10: return "(" + left + " ? " + right + " : ~(" + left + "))";
    default: return "((" + left + ") && !(" + right + "))";
  }
}

TEST(Expressions, HaveTheValuesThatTheCompilerGivesThem) {
  std::mt19937 random(20261126);
  std::vector<std::string> all;
  std::string prints;
  for (int i = 0; i < 400; ++i) {
    all.push_back(expression(random, 4));
    prints += "  printf(\"%llu\\n\", (unsigned long long)(" + all.back() + "));\n";
  }
  // Pointers, sizes and floating point as well.
  for (const char* more : {"sizeof(struct whole)", "sizeof(v)", "&v[3] - &v[1]", "(long)(fl * 4)", "(int)db", "fl < db",
                           "(long)(db + a)", "*(unsigned char *)&e", "((struct whole *)p)->x", "v == &v[0]", "m[1][2]",
                           "(short)e", "(unsigned char)g", "-c", "+b", "!p", "p != 0"}) {
    all.emplace_back(more);
    prints += std::string("  printf(\"%llu\\n\", (unsigned long long)(") + more + "));\n";
  }
  const TempFolder folder;
  const std::string program = built(folder, "values", R"(
#include <stdio.h>
struct whole { int x; unsigned char y; unsigned low : 3; int high : 5; struct { long z; } part; };
void place(void) {}
int main(void) {
  signed char a = -7; unsigned char b = 200; short c = -1234; unsigned short d = 54321; int e = -123456789;
  unsigned f = 3456789012u; long g = -1234567890123L; unsigned long h = 17000000000000000000ul;
  float fl = 2.75f; double db = -10.5; int v[5] = {5, -4, 3, -2, 1}, m[2][3] = {{1, 2, 3}, {4, 5, 6}};
  struct whole s = {-5, 9, 6, -3, {77}}, *p = &s, t = {1, 2, 3, 4, {-88}};
  short w[2] = {-30000, 30000}, *q = w;
  place();
)" + prints + "  return 0;\n}\n");
  std::istringstream printed(run({program}).out);
  const auto control = started(program);
  ASSERT_TRUE(control);
  ASSERT_TRUE(halt_at(*control, "on return place"));
  look::Scope scope(control->modules(), control->view());
  for (const std::string& text : all) {
    std::string line;
    ASSERT_TRUE(std::getline(printed, line));
    const auto parsed =
        inspect::Expression::parse(text, [&](std::string_view name) { return scope.type_named(name).has_value(); });
    ASSERT_TRUE(parsed) << parsed.error().message;
    auto datum = parsed->evaluate(scope, false);
    ASSERT_TRUE(datum) << datum.error().message;
    const auto value = inspect::number_of(*datum, scope);
    ASSERT_TRUE(value) << text << ": " << value.error().message;
    EXPECT_EQ(std::to_string(*value), line) << text;
  }
}

TEST(Expressions, AskForTheSignOfRegisters) {
  const auto control = started(demo("tidelog"));
  ASSERT_TRUE(control);
  look::Scope scope(control->modules(), control->view());
  const auto message = [&](const char* text) {
    const auto parsed = inspect::Expression::parse(text);
    if (!parsed) return parsed.error().message;
    const auto holds = parsed->holds(scope);
    return holds ? std::string(*holds ? "true" : "false") : holds.error().message;
  };
  EXPECT_EQ(message("eax < 0"), "eax < 0: is eax signed or unsigned? write i32(eax) or u32(eax)");
  EXPECT_EQ(message("i32(eax) < 0"), "false");
  EXPECT_EQ(message("rsp == rsp && (rsp & 7) == 0"), "true");
  EXPECT_EQ(message("al == -1 || al != 0xff"), "true");
  EXPECT_EQ(message("[u64 rsp] == 1"), "true");  // the number of arguments, at the entry
  EXPECT_EQ(message("1 +"), "1 +: at character 4: expected a name, a number, or what '(', '[' or '\"' begins");
  EXPECT_EQ(message("[rsp]"),
            "[rsp]: at character 2: expected a shape such as u32 (one of u8, u16, u32, u64, i8, i16, i32, i64, f32, "
            "f64, f80, ptr, string, bytes)");
  EXPECT_NE(message("station_nam == 0").find("similar names: station_name"), std::string::npos);
}

// ---- frames ---------------------------------------------------------------------------------------------------------

TEST(Frames, AreThoseOfTheCLibrary) {
  const TempFolder folder;
  const std::string text = R"(
#include <execinfo.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
__attribute__((noinline)) void told(int how) {
  void *all[64];
  int count = backtrace(all, 64);
  for (int i = 1; i < count; i++) printf("%p ", all[i]);
  printf("\n");
  fflush(stdout);
}
__attribute__((noinline)) int deep(int n, char *room) {
  char own[64 + n * 16];
  own[n] = room[0];
  if (n == 0) told(own[0]); else deep(n - 1, own);
  return own[n] + n;
}
static int compare(const void *a, const void *b) { deep(2, (char *)a); return *(const int *)a - *(const int *)b; }
static void handler(int number) { deep(1, (char *)&number); }
int main(void) {
  int v[3] = {2, 1, 3};
  char c = 1;
  deep(5, &c);
  qsort(v, 3, sizeof v[0], compare);
  signal(SIGUSR1, handler);
  raise(SIGUSR1);
  return 0;
}
)";
  int which = 0;
  for (const std::vector<std::string>& options :
       std::vector<std::vector<std::string>>{{"gcc", "-g", "-O0"},
                                             {"gcc", "-g", "-O2"},
                                             {"clang", "-g", "-O1", "-fomit-frame-pointer"},
                                             {"gcc", "-O2"}}) {
    SCOPED_TRACE(options.back() + options[0]);
    std::vector<std::string> all = options;
    all.insert(all.end(), {"-w", "-no-pie"});
    const std::string program = built(folder, "stack" + std::to_string(which++), text, all);
    const auto control = started(program);
    ASSERT_TRUE(control);
    std::istringstream printed(run({"/usr/bin/setarch", "-R", program}).out);
    const auto rule = control::parse_halt_rule("at told+0");
    ASSERT_TRUE(control->add(*rule));
    unsigned compared = 0;
    for (std::string line; std::getline(printed, line); ++compared) {
      const auto stopped = control->go({});
      ASSERT_TRUE(stopped && stopped->why == Stopped::Why::halt);
      std::istringstream numbers(line);
      std::vector<std::uint64_t> expected, found;
      for (std::string one; numbers >> one;) expected.push_back(std::stoull(one, nullptr, 16));
      for (const inspect::Frame& frame : look::frames_of(control->modules(), control->view())) {
        if (frame.how != inspect::Frame::How::innermost) found.push_back(frame.address());
      }
      EXPECT_EQ(found, expected) << line;
    }
    EXPECT_GE(compared, 3U);
  }
}

TEST(Frames, WithoutUnwindTablesTheCodeTells) {
  const TempFolder folder;
  const std::string text = R"(
volatile int out;
__attribute__((noinline)) void last(int n) { out = n; }
__attribute__((noinline)) int inner(int n) { volatile int a[20]; a[n] = n; last(n + 1); return a[n]; }
__attribute__((noinline)) int outer(int n, int m) { int r = inner(n) + inner(m); return r + n; }
int main(void) { return outer(1, 2) & 0; }
)";
  int which = 0;
  for (const char* level : {"-O0", "-O1", "-O2"}) {
    const std::string program = built(folder, "bare" + std::to_string(which++), text,
                                      {"gcc", "-w", level, "-fno-asynchronous-unwind-tables", "-fno-unwind-tables"});
    const auto control = started(program);
    ASSERT_TRUE(control);
    ASSERT_TRUE(halt_at(*control, "at last+0"));
    std::vector<std::string> names;
    for (const inspect::Frame& frame : look::frames_of(control->modules(), control->view())) {
      const program::Function* function = control->modules().function_at(frame.inside());
      names.push_back(function != nullptr ? function->name.str() : "?");
    }
    names.resize(4);
    EXPECT_EQ(names, (std::vector<std::string>{"last", "inner", "outer", "main"})) << level;
  }
}

TEST(Frames, ACallOfNowhereLeadsBackToItsCaller) {
  const TempFolder folder;
  const std::string program = built(folder, "nowhere", "int main(void) { int (*f)(void) = 0; return f(); }\n");
  const auto control = started(program);
  ASSERT_TRUE(control);
  const auto stopped = control->go({});
  ASSERT_TRUE(stopped && stopped->why == Stopped::Why::signal);
  const auto frames = look::frames_of(control->modules(), control->view());
  ASSERT_GE(frames.size(), 2U);
  EXPECT_EQ(control->modules().function_at(frames[1].inside())->name.str(), "main");
}

// ---- data stops -----------------------------------------------------------------------------------------------------

TEST(DataStops, FindEveryWriteThatTheProgramLogs) {
  std::mt19937 random(7);
  for (int round = 0; round < 6; ++round) {
    // Four fields of widths 1 to 8, packed so that some are not aligned, with neighbours that are written too.
    const std::vector<std::string> types = {"unsigned char", "unsigned short", "unsigned int", "unsigned long"};
    std::string fields, writes;
    std::vector<std::size_t> widths;
    for (int i = 0; i < 4; ++i) {
      const std::size_t t = random() % types.size();
      widths.push_back(std::size_t(1) << t);
      fields += "unsigned char near" + std::to_string(i) + "; " + types[t] + " f" + std::to_string(i) + "; ";
    }
    for (int i = 0; i < 60; ++i) {
      const unsigned f = random() % 4;
      if (random() % 3 == 0) {
        writes += "  s.near" + std::to_string(f) + " = " + std::to_string(random() % 256) + ";\n";
        continue;
      }
      const std::string value = std::to_string(random() % 7);  // the same value again now and then
      writes +=
          "  s.f" + std::to_string(f) + " = " + value + "; printf(\"" + std::to_string(f) + " " + value + "\\n\");\n";
    }
    const TempFolder folder;
    const std::string program = built(folder, "writes",
                                      "#include <stdio.h>\nstruct __attribute__((packed)) { " + fields +
                                          "} s;\nint main(void) {\n" + writes + "  return 0;\n}\n");
    std::map<std::string, std::vector<std::string>> logged, seen;
    std::istringstream log(run({program}).out);
    for (std::string field, value; log >> field >> value;) logged[field].push_back(value);
    const unsigned together = 1 + round % 2;  // each may need two registers
    for (unsigned first = 0; first < 4; first += together) {
      std::vector<std::string> words;
      for (unsigned f = first; f < first + together; ++f)
        words.insert(words.end(), {"--on-write", "s.f" + std::to_string(f)});
      words.push_back(program);
      const json told = hits_of(words);
      std::map<std::string, std::string> fields_of;
      for (const json& halt : told["stops"]) {
        fields_of[halt["stop"]] = std::string(halt["rule"]).back();
        EXPECT_NE(std::string(halt["how"]).find("debug register"), std::string::npos) << halt.dump();
      }
      const json& rows = told["hits"];
      for (const json& hit : rows) {
        seen[fields_of[hit["stop"]]].push_back(hit["after"]["unsigned"]);
        EXPECT_NE(std::string(hit["function"]).find("main"), std::string::npos);
      }
    }
    EXPECT_EQ(seen, logged) << "round " << round;
  }
}

TEST(DataStops, BeyondTheRegistersGoByStepping) {
  const TempFolder folder;
  const std::string program = built(folder, "many", R"(
#include <stdio.h>
long table[6];
int main(void) {
  for (int i = 0; i < 12; i++) { table[i % 6] = i; printf("%d\n", i); }
  return 0;
})");
  const json told = hits_of({"--on-write", "table", program});
  EXPECT_NE(std::string(told["stops"][0]["how"]).find("by stepping"), std::string::npos);
  EXPECT_EQ(told["hits"].size(), 12U);
}

TEST(DataStops, SayWhatTheKernelWrote) {
  const TempFolder folder;
  const std::string program = built(folder, "kernel", R"(
#include <unistd.h>
int level;
int main(void) {
  int both[2];
  pipe(both);
  for (int i = 1; i < 4; i++) { write(both[1], &i, sizeof i); read(both[0], &level, sizeof level); }
  level = 9;
  return 0;
})");
  const json told = hits_of({"--on-write", "level", program});
  ASSERT_EQ(told["hits"].size(), 4U);
  for (int i = 0; i < 3; ++i) {
    EXPECT_EQ(told["hits"][i]["by"], "system call read");
    EXPECT_EQ(told["hits"][i]["after"]["unsigned"], std::to_string(i + 1));
  }
  EXPECT_FALSE(told["hits"][3].contains("by"));
}

TEST(DataStops, OfALocalEndWithItsFrame) {
  const TempFolder folder;
  const std::string program = built(folder, "local", R"(
int other(int n) { int mine = n; mine += 2; return mine; }
int watched(int n) { int mine = n; mine *= 3; return mine; }
int main(void) { int r = watched(5); r += other(1); r += watched(r); return r & 0; }
)");
  const auto control = started(program);
  ASSERT_TRUE(control);
  ASSERT_TRUE(halt_at(*control, "at watched once"));
  const auto number = control->add(*control::parse_halt_rule("on write mine"));
  ASSERT_TRUE(number) << number.error().message;
  std::vector<std::string> notes;
  std::size_t writes = 0;
  for (;;) {
    const auto stopped = control->go({});
    ASSERT_TRUE(stopped);
    notes.insert(notes.end(), stopped->notes.begin(), stopped->notes.end());
    if (stopped->program_is_gone()) break;
    writes += stopped->hits.size();
  }
  EXPECT_EQ(writes, 2U);
  ASSERT_EQ(notes.size(), 1U);
  EXPECT_EQ(notes[0], "h2 ended with its frame");
}

TEST(DataStops, OfABitFieldLeaveItsNeighboursOut) {
  const json told = hits_of({"--on-write", "page.device.status.battery", demo("buoy")});
  ASSERT_GE(told["hits"].size(), 2U);
  std::string last = "0";
  for (const json& hit : told["hits"]) {
    EXPECT_NE(hit["before"]["unsigned"], hit["after"]["unsigned"]);
    EXPECT_EQ(hit["before"]["unsigned"], last);
    last = hit["after"]["unsigned"];
  }
}

// ---- threads --------------------------------------------------------------------------------------------------------

constexpr const char* kThreads = R"(
#include <pthread.h>
#include <stdio.h>
enum { THREADS = 5, PASSES = 40 };
volatile long total;
pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
__attribute__((noinline)) void pass(int n) {
  pthread_mutex_lock(&lock);
  total += n;
  pthread_mutex_unlock(&lock);
}
static void *worker(void *unused) { for (int i = 0; i < PASSES; i++) pass(i); return 0; }
int main(void) {
  pthread_t all[THREADS];
  for (int i = 0; i < THREADS; i++) pthread_create(&all[i], 0, worker, 0);
  for (int i = 0; i < THREADS; i++) pthread_join(all[i], 0);
  printf("%ld\n", total);
  return 0;
})";

TEST(Threads, EveryPassOfEveryThreadIsAHit) {
  const TempFolder folder;
  const std::string program = built(folder, "threads", kThreads);
  for (int round = 0; round < 3; ++round) {
    const json told = hits_of({"--at", "pass", "--on-write", "total", "--on-return", "pass", "--keep", "n",
                               "--program-output", folder / "out", program});
    EXPECT_EQ(told["counts"]["h1"], 200);
    EXPECT_EQ(told["counts"]["h2"], 200);
    EXPECT_EQ(told["counts"]["h3"], 200);
    std::map<std::uint64_t, unsigned> by_thread;
    const json& rows = told["hits"];
    for (const json& hit : rows) by_thread[hit["thread"]]++;
    EXPECT_EQ(by_thread.size(), 5U);
    for (const auto& [thread, count] : by_thread) EXPECT_EQ(count, 120U) << thread;
    EXPECT_EQ(read_file(folder / "out"), "3900\n");
  }
}

TEST(Threads, ConditionsAndCountsAreExact) {
  const TempFolder folder;
  const std::string program = built(folder, "threads", kThreads);
  json told = hits_of({"--halt", "at pass from hit 3 every 5 when n % 4 == 1", "--keep", "n", program});
  // 10 of 40 passes of each of 5 threads; hits 3, 8, 13 … 48 of 50.
  EXPECT_EQ(told["counts"]["h1"], 50);
  EXPECT_EQ(told["hits"].size(), 10U);
  const json& rows = told["hits"];
  for (const json& hit : rows) EXPECT_EQ(std::stoi(std::string(hit["kept"]["n"]["signed"])) % 4, 1);
  told = hits_of({"--halt", "at pass for thread 3", program});
  EXPECT_EQ(told["hits"].size(), 40U);
  told = hits_of({"--halt", "at pass once", program});
  EXPECT_EQ(told["hits"].size(), 1U);
}

/// The library's own copies, those of a library loaded later included; each thread says what it has in its own.
TEST(Threads, LibrariesKeepVariablesForEach) {
  const TempFolder folder;
  write_file(folder / "tide.c", R"(
__thread int level = 5;
static __thread long marks[3] = {1, 2, 3};
__attribute__((noinline)) void mark(int level_now, long second) { __asm__ volatile("" : : "r"(&marks)); }
void tide(int own) { for (int i = 0; i < 3; i++) { level += own; marks[1] = level * 7; mark(level, marks[1]); } })");
  write_file(folder / "main.c", R"(
#include <dlfcn.h>
#include <pthread.h>
#ifdef LATER
static void (*tide)(int);
#else
void tide(int);
#endif
static void *work(void *own) { tide((int)(long)own); return 0; }
int main(int argc, char **argv) {
#ifdef LATER
  tide = (void (*)(int))dlsym(dlopen(argv[1], RTLD_NOW), "tide");
#endif
  pthread_t all[3];
  for (long i = 0; i < 3; i++) pthread_create(&all[i], 0, work, (void *)(i * 100));
  for (int i = 0; i < 3; i++) pthread_join(all[i], 0);
  return 0;
})");
  for (const std::string width : {"-m64", "-m32"}) {
    const std::string library = folder / ("libtide" + width + ".so");
    ASSERT_EQ(run({"gcc", "-g", width, "-fPIC", "-shared", "-o", library, folder / "tide.c"}).status, 0);
    for (const bool later : {false, true}) {
      SCOPED_TRACE(width + (later ? ", loaded later" : ""));
      const std::string program = folder / ("main" + width + (later ? "later" : ""));
      std::vector<std::string> words = {"gcc", "-g", "-w", width, "-o", program, folder / "main.c", "-lpthread"};
      words.push_back(later ? "-DLATER" : library);
      ASSERT_EQ(run(words).status, 0);
      const json told = hits_of(
          {"--at", "libtide" + width + ".so:mark", "--keep", "level,level_now,marks[1],second", program, library});
      const json& rows = told["hits"];
      EXPECT_EQ(rows.size(), 9U);
      for (const json& row : rows) {
        EXPECT_EQ(row["kept"]["level"]["signed"], row["kept"]["level_now"]["signed"]) << row.dump();
        EXPECT_EQ(row["kept"]["marks[1]"]["signed"], row["kept"]["second"]["signed"]);
      }
    }
  }
}

/// A name that nothing has yet waits for the library that brings it, twice where that is unloaded and loaded again.
TEST(Places, OfLibrariesThatComeLaterAreWaitedFor) {
  const TempFolder folder;
  write_file(folder / "rise.c", R"(int raised = 3;
__attribute__((noinline)) int rise(int by) {
  raised += by;
  return raised;
})");
  for (const std::string width : {"-m64", "-m32"}) {
    SCOPED_TRACE(width);
    const std::string library = folder / ("rise" + width + ".so");
    ASSERT_EQ(run({"gcc", "-g", width, "-fPIC", "-shared", "-o", library, folder / "rise.c"}).status, 0);
    const std::string program = built(folder, "host" + width, R"(
#include <dlfcn.h>
int main(int argc, char **argv) {
  int sum = 0;
  for (int turn = 0; turn < 2; turn++) {
    void *library = dlopen(argv[1], RTLD_NOW);
    int (*rise)(int) = (int (*)(int))dlsym(library, "rise");
    for (int i = 1; i < 4; i++) sum += rise(i);
    dlclose(library);
  }
  return sum;
})",
                                      {"gcc", "-g", "-O0", "-w", width});
    const Outcome unknown = deeptrace({"hits", "--at", "rise", program, library});
    EXPECT_EQ(unknown.status, 2);
    EXPECT_NE(unknown.err.find("with `later` the stop point waits for a library that has it"), std::string::npos);
    EXPECT_EQ(deeptrace({"hits", "--later", "--at", "main+2", program, library}).status, 2) << "inside an instruction";
    const json told = hits_of({"--later", "--at", "rise", "--halt", "at rise.c:4 when by == 2", "--on-return", "rise",
                               "--at", "nowhere", "--keep", "raised", program, library});
    EXPECT_EQ(told["counts"], json({{"h1", 6}, {"h2", 2}, {"h3", 6}, {"h4", 0}}));
    EXPECT_EQ(told["exit"]["status"], 2 * (4 + 6 + 9));
    const json written = hits_of({"--later", "--on-write", "raised", "--count", "3", "--let-finish", program, library});
    std::vector<std::string> after;
    for (const json& row : written["hits"]) after.push_back(row["after"]["signed"]);
    EXPECT_EQ(after, (std::vector<std::string>{"4", "6", "9"}));
    // Names of conditions are judged when the place is there.
    const Outcome wrong = deeptrace({"hits", "--halt", "at rise when bye == 2 later", program, library});
    EXPECT_EQ(wrong.status, 1);
    EXPECT_NE(wrong.out.find("note: h1: its condition cannot hold: bye: no register, variable or function"),
              std::string::npos)
        << wrong.out;
  }
}

/// Each thread's copy of a variable, watched in all threads, in one, and in the first; the program logs its writes.
/// What does not fit the debug registers goes by stepping.
TEST(Threads, CopiesOfAVariableAreWatchedApart) {
  const TempFolder folder;
  for (const std::string width : {"-m64", "-m32"}) {
    const std::string program = built(folder, "copies" + width, R"(
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
__thread int level = 5;
static __thread char wide[200];
static FILE *log_file;
static void note(int number) { fprintf(log_file, "%d %d\n", number, level); fflush(log_file); }
static void *work(void *number) {
  for (int i = 0; i < 3; i++) {
    level += 10 * (int)(long)number;
    note((int)(long)number);
    wide[i * 60] = i + 1;
  }
  return 0;
}
int main(int argc, char **argv) {
  log_file = fopen(argv[1], "w");
  level = 7;
  note(1);
  for (long i = 2; i < 5; i++) {
    pthread_t one;
    pthread_create(&one, 0, work, (void *)i);
    pthread_join(one, 0);
  }
  level = 8;
  note(1);
  return 0;
})",
                                      {"gcc", "-g", "-O0", "-w", width});
    const auto rows = [&](const std::string& rule, std::vector<std::string> more = {}) {
      std::vector<std::string> words = {"--on-write", rule};
      words.insert(words.end(), more.begin(), more.end());
      words.insert(words.end(), {program, folder / "log"});
      return hits_of(words);
    };
    const auto logged = [&](int thread) {
      std::vector<std::string> result;
      std::istringstream lines(read_file(folder / "log"));
      for (std::string number, value; lines >> number >> value;) {
        if (thread == 0 || number == std::to_string(thread)) result.push_back(number + " " + value);
      }
      return result;
    };
    for (const std::string with : {"automatic", "byte"}) {
      SCOPED_TRACE(width + " " + with);
      const std::vector<std::string> how =
          with == "byte" ? std::vector<std::string>{"--stop-with", "byte"} : std::vector<std::string>();
      for (const auto& [rule, thread] : {std::pair("level for all threads", 0), std::pair("level for thread 3", 3),
                                         std::pair("level", 1), std::pair("level for thread 1", 1)}) {
        const json told = rows(rule, how);
        std::vector<std::string> seen;
        std::map<std::uint64_t, std::string> last = {{1, "5"}, {2, "5"}, {3, "5"}, {4, "5"}};
        for (const json& row : told["hits"]) {
          const std::uint64_t number = row["thread"];
          const std::string after = row["after"]["signed"];
          seen.push_back(std::to_string(number) + " " + after);
          EXPECT_EQ(row["before"]["signed"], last[number]) << rule << row.dump();
          last[number] = after;
        }
        EXPECT_EQ(seen, logged(thread)) << rule;
      }
    }
    const json wide = rows("wide for all threads");
    EXPECT_EQ(wide["hits"].size(), 9U);
    EXPECT_NE(std::string(wide["stops"][0]["how"]).find("by stepping"), std::string::npos);
    const json alone = rows("level");
    EXPECT_NE(std::string(alone["stops"][0]["how"]).find("the copy of thread 1 alone"), std::string::npos);
    // An address of 32-bit code that counts down from the thread's block.
    const json steps = json::parse(
        deeptrace({"steps", "--format", "json", "--from", "main", "--count", "400", program, folder / "log"}).out,
        nullptr, false);
    bool written = false;
    for (const json& row : steps["steps"]) {
      if (!row.contains("memory")) continue;
      for (const json& change : row["memory"])
        written |= change["address"] == alone["stops"][0]["addresses"][0] && change["after"] == "0x7";
    }
    EXPECT_TRUE(written);
    EXPECT_EQ(deeptrace({"hits", "--on-write", "log_file for all threads", program, folder / "log"}).status, 2);
  }
}

// ---- places that only the running program has --------------------------------------------------------------------

/// Functions that the loader chooses among several (IFUNC) are the ones that are called: the program counts its calls.
TEST(Places, AFunctionChosenAtTheStartIsTheOneThatRuns) {
  const TempFolder folder;
  for (const std::string width : {"-m64", "-m32"}) {
    const std::string program = built(folder, "calls" + width, R"(
#include <string.h>
int main(int argc, char **argv) {
  volatile char *texts[3] = {"Grayling", "Sound", ""};
  long n = 0;
  for (int i = 0; i < 3; i++) n += strlen((char *)texts[i]);
  return n;
})",
                                      {"gcc", "-g", "-O0", "-fno-builtin", width});
    json told = hits_of({"--at", "strlen+0", "--keep", "caller", program});
    std::size_t from_main = 0;
    const json& rows = told["hits"];
    for (const json& row : rows) from_main += row.contains("called_from") ? 1 : 0;
    EXPECT_EQ(from_main, 3U);
    EXPECT_EQ(told["exit"]["status"], 13);
  }
  const std::string program = built(folder, "static", "int main() { return 0; }", {"gcc", "-static"});
  const Outcome refused = deeptrace({"hits", "--at", "strlen", program});
  EXPECT_EQ(refused.status, 2);
  EXPECT_NE(refused.err.find("is chosen among several when the program starts; name the one that is meant: __strlen_"),
            std::string::npos)
      << refused.err;
}

TEST(Places, StopsStandBeforeTheConstructorsOfLibraries) {
  const TempFolder folder;
  write_file(folder / "tide.c", R"(
int level;
__attribute__((noinline)) int set_level(int to) { return level = to; }
__attribute__((constructor)) static void start_up(void) { set_level(7); }
)");
  write_file(folder / "main.c", "int set_level(int); int main(void) { return set_level(3); }");
  for (const std::string width : {"-m64", "-m32"}) {
    const std::string library = folder / ("libtide" + width + ".so"), program = folder / ("main" + width);
    ASSERT_EQ(run({"gcc", "-g", width, "-fPIC", "-shared", "-o", library, folder / "tide.c"}).status, 0);
    ASSERT_EQ(run({"gcc", "-g", width, "-o", program, folder / "main.c", library}).status, 0);
    const json told = hits_of({"--at", "set_level", "--on-write", "level", "--keep", "to", program});
    EXPECT_EQ(told["counts"]["h1"], 2);
    EXPECT_EQ(told["counts"]["h2"], 2);
    EXPECT_EQ(told["hits"][0]["kept"]["to"]["signed"], "7");
    EXPECT_EQ(told["exit"]["status"], 3);
  }
}

// ---- programs behave as alone ---------------------------------------------------------------------------------------

/// Programs of the demo, the tests and the machine; those before perl run few enough instructions of their own to be
/// stepped.
std::vector<std::vector<std::string>> programs_of_the_machine(const TempFolder& folder) {
  const std::string script = folder / "numbers";
  write_file(script, "3\n1\n2\n10\n");
  return {
      {demo("tidelog"), demo("readings.txt")},
      {demo("tidelog-O2"), demo("readings.txt")},
      {demo("gauge32")},
      {demo("buoy")},
      {demo("beacon")},
      {fixture("winding")},
      {fixture("winding-O2")},
      {fixture("winding-static")},
      {fixture("throwing")},
      {fixture("failing")},
      {"/bin/true"},
      {"/bin/false"},
      {"/bin/ls", "/"},
      {"/bin/sort", "-n", script},
      {"/bin/cat", script},
      {"/usr/bin/wc", script},
      {"/bin/echo", "a", "b"},
      {"/bin/sh", "-c", "echo $((1+2)); /bin/echo child; (exit 3)"},
      {"/bin/bash", "-c", "kill -USR1 $$; echo never"},
      {"/bin/bash", "-c", "trap 'echo caught' USR1; kill -USR1 $$; echo on; sleep 0.05 & wait; exit 7"},
      {"/usr/bin/env", "-i", "A=1"},
      {"/usr/bin/seq", "5"},
      {"/usr/bin/head", "-n", "2", script},
      {"/usr/bin/tail", "-n", "1", script},
      {"/usr/bin/cut", "-c1", script},
      {"/usr/bin/tr", "a", "b"},
      {"/usr/bin/uniq", script},
      {"/usr/bin/md5sum", script},
      {"/usr/bin/sha256sum", script},
      {"/usr/bin/basename", "/a/b"},
      {"/usr/bin/dirname", "/a/b"},
      {"/usr/bin/expr", "2", "+", "3"},
      {"/usr/bin/factor", "97", "98"},
      {"/usr/bin/printf", "%05d\\n", "27"},
      {"/usr/bin/test", "-f", script},
      {"/usr/bin/stat", "-c", "%s", script},
      {"/usr/bin/od", "-c", script},
      {"/usr/bin/base64", script},
      {"/usr/bin/nl", script},
      {"/usr/bin/tac", script},
      {"/usr/bin/paste", script, script},
      {"/usr/bin/comm", script, script},
      {"/usr/bin/fold", "-w1", script},
      {"/bin/grep", "1", script},
      {"/bin/sed", "s/1/x/", script},
      {"/usr/bin/find", script},
      {"/usr/bin/xargs", "-a", script, "/bin/echo"},
      {"/bin/date", "-d", "@0", "-u"},
      {"/bin/uname"},
      {"/usr/bin/id", "-u"},
      {"/bin/gzip", "-kc", script},
      {"/usr/bin/join", script, script},
      {"/usr/bin/pr", "-t", script},
      {"/usr/bin/diff", script, script},
      {"/usr/bin/mawk", "{print $1 * 2}", script},
      // Here the larger ones begin.
      {"/usr/bin/perl", "-e", "print join ',', map { $_ * 2 } 1..5; exit 4"},
      {"/usr/bin/python3", "-c",
       "import threading; t = [threading.Thread(target=print, args=(0,)) for i in range(3)]\n"
       "for x in t: x.start(); x.join()\nraise SystemExit(9)"},
      {"/usr/bin/gcc", "-S", "-O1", "-o", "-", source("tests/programs/plain.c")},
      {"/usr/bin/as", "-o", folder / "plain.o", source("demo/beacon/beacon.s")},
      {"/usr/bin/git", "--version"},
      {"/usr/bin/cmake", "--version"},
  };
}

/// The program ends and says what it does alone. `traced` is a command of ours with its form, before the program's
/// words.
void expect_as_alone(std::vector<std::string> traced, const std::vector<std::string>& words, const TempFolder& folder) {
  const Outcome alone = run(words);
  traced.insert(traced.end(), {"--format", "json", "--program-output", folder / "out"});
  traced.insert(traced.end(), words.begin(), words.end());
  const Outcome outcome = deeptrace(traced);
  if (outcome.status == 2) return;  // a static program without malloc
  const std::string& told = outcome.out;
  const std::size_t end = told.rfind("\"exit\":{");
  ASSERT_NE(end, std::string::npos) << words[0] << outcome.err;
  const json exit = json::parse("{" + told.substr(end, told.find('}', end) + 1 - end) + "}")["exit"];
  const json expected = alone.status >= 128 && exit.contains("signal")
                            ? json{{"signal", abi::signal_name(alone.status - 128)}}
                            : json{{"status", alone.status}};
  EXPECT_EQ(exit, expected) << words[0] << " " << words.back();
  EXPECT_EQ(read_file(folder / "out"), alone.out) << words[0] << " " << words.back();
}

TEST(Behaviour, IsThatOfAPlainRun) {
  const TempFolder folder;
  unsigned compared = 0;
  for (const std::vector<std::string>& words : programs_of_the_machine(folder)) {
    if (::access(words[0].c_str(), X_OK) != 0) continue;
    ++compared;
    // A stop point that is passed often and whose condition never holds; another one on data of the C library.
    const auto elf = binary::Elf::open(words[0]);
    const bool narrow = elf && !elf->wide();
    const std::string rule = narrow ? "at malloc when esp == 1" : "at malloc when rdi == 0x123456789";
    expect_as_alone({"hits", "--halt", rule}, words, folder);
  }
  EXPECT_GE(compared, 45U);
}

/// Every instruction of its own stepped.
TEST(Behaviour, UnderStepsIsThatOfAPlainRun) {
  const TempFolder folder;
  unsigned compared = 0;
  for (const std::vector<std::string>& words : programs_of_the_machine(folder)) {
    const auto elf = binary::Elf::open(words[0]);
    if (words[0].ends_with("perl")) break;  // millions of instructions from here on
    if (!elf) continue;
    ++compared;
    expect_as_alone({"steps", "--count", "all"}, words, folder);
    expect_as_alone({"steps", "--thread", "all", "--count", "20000"}, words, folder);
  }
  EXPECT_GE(compared, 45U);
}

/// A program that adds up its own code, as one that protects itself does.
TEST(Behaviour, WithHardwareStopsAProgramReadsItsOwnCodeUnchanged) {
  const TempFolder folder;
  const std::string program = built(folder, "self", R"(
#include <stdio.h>
__attribute__((noinline)) int level(int n) { return n * 3 + 1; }
int main(void) {
  unsigned sum = 0;
  const unsigned char *code = (const unsigned char *)level;
  for (int i = 0; i < 16; i++) sum = sum * 31 + code[i];
  printf("%d %x\n", level(4), sum);
  return 0;
})");
  const std::string alone = run({program}).out;
  const auto output = [&](const char* how) {
    const json told = hits_of({"--at", "level+0", "--stop-with", how, "--program-output", folder / "out", program});
    EXPECT_EQ(told["hits"].size(), 1U);
    return read_file(folder / "out");
  };
  EXPECT_EQ(output("hardware"), alone);
  EXPECT_NE(output("byte"), alone);
}

// ---- conversation ---------------------------------------------------------------------------------------------------

std::string console(const std::string& words, const std::vector<std::string>& program, int status = 0) {
  const TempFolder folder;
  write_file(folder / "words", words);
  std::string command = std::string(DEEPTRACE_PROGRAM) + " console";
  for (const std::string& word : program) command += " '" + word + "'";
  const Outcome outcome = run({"/bin/sh", "-c", command + " < " + (folder / "words").string()});
  EXPECT_EQ(outcome.status, status) << outcome.err << outcome.out;
  return outcome.out;
}

TEST(Console, NumbersThatDoNotFitAreRefused) {
  const TempFolder folder;
  const std::string program =
      built(folder, "a", "double level = 1e30; int whole; int main(void) { whole = (int)(level / 1e28); return 0; }\n");
  const std::string said =
      console("show (int)level\nshow u8(level)\nset whole = level\nshow (int)(level / 1e28)\n", {program}, 2);
  for (const char* const bytes : {"(int)level: the value does not fit 4 bytes",
                                  "u8(level): the value does not fit 1 bytes", "the value does not fit 4 bytes"})
    EXPECT_NE(said.find(bytes), std::string::npos) << said;
  EXPECT_NE(said.find("0x64"), std::string::npos) << said;
}

TEST(Console, RegistersOf32BitProgramsHaveTheirNames) {
  const TempFolder folder;
  const std::string program = built(folder, "a", "int main(void) { volatile int level = 5; return level * 3; }\n",
                                    {"gcc", "-m32", "-g", "-O0", "-w"});
  const std::string said = console("into 3\nwhy\ninto\nwhy\ninto\nwhy\n", {program});
  EXPECT_NE(said.find("will be"), std::string::npos) << said;
  for (const char* const wide : {"rax", "rbx", "rsp", "rbp", "rip", "rflags"})
    EXPECT_EQ(said.find(wide), std::string::npos) << wide << "\n" << said;
}

/// A program that executes another whose file the kernel can read and we cannot: it is let go and said.
TEST(Hits, AProgramThatCannotBeFollowedIsLetGo) {
  const TempFolder folder;
  const std::string quiet = built(folder, "quiet", "int main(void) { return 7; }\n", {"gcc", "-static", "-w"});
  std::string file = read_file(quiet);
  file[0x28 + 7] = 0x7f;  // the section headers lie far past the end; the kernel does not look at them
  write_file(quiet, file);
  const std::string program =
      built(folder, "a", "#include <unistd.h>\nint main(int n, char **v) { execv(v[1], v + 1); return 1; }\n");
  const Outcome outcome = deeptrace({"hits", "--format", "json", "--at", "main", program, quiet});
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  const json told = json::parse(outcome.out);
  EXPECT_EQ(told["exit"]["stopped"], "detached");
  EXPECT_NE(told["notes"].dump().find("which is let go"), std::string::npos) << outcome.out;
}

/// A live process answers what every target does.
TEST(Targets, ALiveProcessHasAllThatIsAsked) {
  control::ControlOptions options;
  options.launch.program = fixture("failing");
  options.launch.arguments = {"null"};
  auto control = Control::start(options);
  ASSERT_TRUE(control) << control.error().message;
  const auto stopped = (*control)->go({});
  ASSERT_TRUE(stopped);
  ASSERT_EQ(stopped->why, Stopped::Why::signal);
  process::Process& target = (*control)->process();
  const pid_t thread = target.threads().front();
  const auto pending = target.pending_signal(thread);
  ASSERT_TRUE(pending);
  EXPECT_EQ(pending->number, SIGSEGV);
  EXPECT_EQ(pending->code, SEGV_MAPERR);
  EXPECT_TRUE(pending->fault_address_known);
  EXPECT_EQ(pending->fault_address, stopped->fault_address);
  EXPECT_FALSE(target.system_call(thread));
  const auto entry = target.auxiliary(state::Auxiliary::entry);
  ASSERT_TRUE(entry);
  const auto mappings = target.mappings();
  const auto holder = std::ranges::find_if(mappings, [&](const auto& m) { return m.from <= *entry && *entry < m.to; });
  ASSERT_NE(holder, mappings.end());
  EXPECT_TRUE(holder->executable);
  EXPECT_EQ(std::filesystem::path(holder->path).filename(), "failing");
  const std::unique_ptr<state::StateEdit> edit = target.edit(thread);
  ASSERT_NE(edit, nullptr);
  const std::uint8_t seven[8] = {7};
  EXPECT_TRUE(edit->write_register({isa::RegisterFile::general, isa::kRbx, 0, 64}, seven));
  EXPECT_EQ(target.view(thread).registers()[state::Reg::rbx], 7U);
}

TEST(Console, StopsMovesAndLooks) {
  const std::string said = console(R"(halt at levels.c:34 when i == 3
resume
show log->readings[i]
over
line
follow sum
out
set log->count = 3
regs eax
resume
)",
                                   {demo("tidelog"), demo("readings.txt")});
  for (const char* part :
       {"h1 at levels.c:34 when i == 3, hit 1", "log->readings[i] = {minute 0x168", "tidelog level_sum+0x1d: line",
        "levels.c:33", "level_sum returned 0x3fd4", "log->count = 0x3", "eax   0x00003fd4  signed 16340",
        "program wrote \"station 17, Grayling Sound: 3 readings\\n\"", "the program ended with status 0"})
    EXPECT_NE(said.find(part), std::string::npos) << part << "\n" << said;
}

/// By whichever means a place is watched, it is met once each time, be it run to, stepped to, or left with other
/// registers.
TEST(Console, EveryKindOfStopIsMetOnce) {
  std::string words = "halt at levels.c:34\nresume\nset eax = eax\nresume\nset eax = eax\n";
  for (int i = 0; i < 20; ++i) words += "into\n";
  words += "show i\nresume\nshow i\nhalts\n";
  std::set<std::string> told;
  for (const std::string with : {"byte", "hardware", "auto"}) {
    const std::string said = console(words, {"--stop-with", with, demo("tidelog"), demo("readings.txt")});
    std::string hits;
    std::istringstream lines(said);
    for (std::string line; std::getline(lines, line);) {
      if (line.starts_with("h1") || line.starts_with("i = ")) hits += line.substr(0, line.find(" hits")) + "\n";
    }
    told.insert(hits.substr(hits.find('\n')));
  }
  EXPECT_EQ(told.size(), 1U) << *told.begin() << *told.rbegin();
  EXPECT_NE(told.begin()->find("hit 4"), std::string::npos) << *told.begin();
}

/// Stores of vector registers are carried out where a stop byte stands, without a step: memory must hold what the
/// processor would have put there, and what faults must fault.
TEST(Live, VectorStoresUnderStopBytesAreThoseOfAPlainRun) {
  const TempFolder folder;
  std::string text = ".globl main\nmain:\n movdqu first(%rip), %xmm1\n movdqu second(%rip), %xmm9\n";
  std::vector<std::string> words = {"hits", "--format", "none", "--stop-with", "byte"};
  const char* stores[] = {"movups %xmm1, ",  "movupd %xmm9, ",  "movss %xmm1, ",  "movsd %xmm9, ",
                          "movlps %xmm1, ",  "movhps %xmm9, ",  "movlpd %xmm9, ", "movhpd %xmm1, ",
                          "movaps %xmm1, ",  "movapd %xmm9, ",  "movdqa %xmm9, ", "movdqu %xmm1, ",
                          "movntps %xmm9, ", "movntdq %xmm1, ", "movd %xmm9, ",   "movq %xmm1, "};
  int number = 0;
  for (const char* store : stores) {
    text += "at" + std::to_string(number) + ": " + store + "room+" + std::to_string(32 * number) + "(%rip)\n";
    words.insert(words.end(), {"--halt", "at at" + std::to_string(number++)});
  }
  text +=
      " mov $1, %eax\n mov $1, %edi\n lea room(%rip), %rsi\n mov $512, %edx\n syscall\n"
      "last: movaps %xmm1, room+8(%rip)\n ret\n.data\n.balign 32\nfirst: .octa 0x1122334455667788fedcba9876543210\n"
      "second: .octa 0xa1b2c3d4e5f60718293a4b5c6d7e8f90\nroom: .fill 512, 1, 0xcc\n.section .note.GNU-stack\n";
  write_file(folder / "stores.s", text);
  ASSERT_EQ(run({"gcc", "-o", folder / "stores", folder / "stores.s"}).status, 0);
  words.insert(words.end(), {"--halt", "at last", "--program-output", folder / "under", folder / "stores"});
  const Outcome plain = run({folder / "stores"});
  const Outcome stopped = deeptrace(words);
  EXPECT_EQ(stopped.status, 0) << stopped.err;
  EXPECT_EQ(plain.out.size(), 512U);
  EXPECT_EQ(read_file(folder / "under"), plain.out);
  words[2] = "json";
  const json said = json::parse(deeptrace(words).out);
  EXPECT_EQ(said["hits"].size(), std::size(stores) + 1);
  EXPECT_EQ(said["exit"]["signal"], "SIGSEGV") << "the last one is misaligned";
}

/// A debug register spares stepping where the instruction has to run on the processor, and gives way to data stops.
TEST(Console, DebugRegistersGiveWay) {
  const TempFolder folder;
  const std::string program = built(folder, "spread", R"(
long a, b, c, d;
__attribute__((noinline)) double spread(double x) { __asm__ volatile("sqrtsd %0, %0" : "+x"(x)); return x; }
int main(void) { double x = 9; for (int i = 0; i < 12; ++i) { x = spread(x); a = i; } return x > 100; }
)",
                                    {"gcc", "-g", "-O1", "-w"});
  const std::string said = console(
      "halt at spread+0 when rsp == 0\nhalt at spread+0 every 2\nhalts\nresume\nhalt on write a\nhalt on write b\nhalt "
      "on "
      "write c\nhalt on write d\nhalts\nremove h3\nremove h4\nremove h5\nremove "
      "h6\nresume\nresume\nresume\nresume\nresume\nresume\n",
      {program});
  EXPECT_NE(said.find("0 hits  debug register 0"), std::string::npos) << said;
  EXPECT_NE(said.find("1 hit   stop byte"), std::string::npos) << said;
  EXPECT_NE(said.find("h2 at spread+0 every 2, hit 11"), std::string::npos) << said;
  EXPECT_NE(said.find("the program ended with status 0"), std::string::npos) << said;
}

/// The device's registers by the bit-field names of their type; what changed since the last look is reported.
TEST(Console, ShowsADeviceByItsFields) {
  const std::string said = console(R"(halt on change page.device.control
resume
memory page.device as fields
resume
memory page.device as fields
memory page.device.control.power as fields
memory 4 as fields
)",
                                   {demo("buoy")}, 2);
  for (const char* part :
       {"  .control.power      +0x0 bits 5..7   0x0", "~ .control.power      +0x0 bits 5..7   now 0x5",
        "  .control.urgent     +0x1 bit 0       0x0", "  .control.interval   +0x2 bits 0..15  0x0",
        "  .status.battery     +0x4 bits 3..7   0x1f", "+0x0 bits 5..7  0x5", "memory at 0x4 cannot be read"})
    EXPECT_NE(said.find(part), std::string::npos) << part << "\n" << said;
}

TEST(Console, SaysWhatIsWrong) {
  const std::string said = console(
      "halt at levels.c:9999\nhalt at level_sum+1\nhalt at main+2\nshow st0\nshow "
      "nothing_here\nstepp\nremove h7\nhalt "
      "on write "
      "rax\nmemory 0x10\n",
      {demo("tidelog")}, 2);
  for (const char* part :
       {"that line has no instructions", "wrong: st0: is empty; no value was pushed there", "nothing_here: no register",
        "stepp: no such word", "h7: no stop point of that name", "lies in a register", "memory at 0x10 cannot be read",
        "lies inside an instruction; instructions start at"})
    EXPECT_NE(said.find(part), std::string::npos) << part << "\n" << said;
}

TEST(Console, HoldsACrashAtTheFaultingInstruction) {
  const std::string said = console("resume\nframes\nresume\n", {fixture("failing"), "null"});
  EXPECT_NE(said.find("wrong: SIGSEGV is about to end the program"), std::string::npos) << said;
  EXPECT_NE(said.find("the program was ended by SIGSEGV"), std::string::npos) << said;
}

TEST(Console, GivesTheProgramItsInput) {
  const TempFolder folder;
  const std::string program = built(folder, "asks", R"(
#include <stdio.h>
int main(void) { int a, b; if (scanf("%d %d", &a, &b) != 2) return 1; printf("sum %d\n", a + b); return 0; }
)");
  const std::string said = console("send 12 32\nresume\n", {program});
  EXPECT_NE(said.find("program wrote \"sum 44\\n\""), std::string::npos) << said;
}

/// A terminal: what is typed, and what comes back.
class Terminal {
 public:
  explicit Terminal(std::vector<std::string> words, unsigned short rows = 40, unsigned short columns = 120) {
    winsize size{rows, columns, 0, 0};
    pid_ = ::forkpty(&master_, nullptr, nullptr, &size);
    if (pid_ == 0) {
      ::setenv("TERM", "xterm-256color", 1);
      ::setenv("LC_ALL", "C.UTF-8", 1);
      ::setenv("HOME", "/nonexistent", 1);
      words.insert(words.begin(), DEEPTRACE_PROGRAM);
      std::vector<char*> arguments;
      for (std::string& word : words) arguments.push_back(word.data());
      arguments.push_back(nullptr);
      ::execv(arguments[0], arguments.data());
      ::_exit(126);
    }
    ::fcntl(master_, F_SETFL, O_NONBLOCK);
  }
  ~Terminal() {
    ::kill(pid_, SIGKILL);
    int status = 0;
    ::waitpid(pid_, &status, 0);
    ::close(master_);
  }
  void type(const std::string& text) { (void)!::write(master_, text.data(), text.size()); }
  /// Waits until what came since the last wait holds a text.
  bool shows(const std::string& text) {
    return wait_until(
        [&] {
          char buffer[65536];
          for (ssize_t size = 0; (size = ::read(master_, buffer, sizeof buffer)) > 0;)
            seen_.append(buffer, static_cast<std::size_t>(size));
          const std::size_t at = seen_.find(text);
          if (at == std::string::npos) return false;
          seen_.erase(0, at + text.size());
          return true;
        },
        8000);
  }
  int wait() {
    int status = -1;
    wait_until([&] {
      char buffer[65536];
      while (::read(master_, buffer, sizeof buffer) > 0) {
      }
      return ::waitpid(pid_, &status, WNOHANG) == pid_;
    });
    return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
  }
  [[nodiscard]] const std::string& seen() const { return seen_; }

 private:
  int master_ = -1;
  pid_t pid_ = 0;
  std::string seen_;
};

TEST(Console, OnATerminalCtrlCStopsTheProgram) {
  const TempFolder folder;
  const std::string program = built(folder, "forever", "volatile long turns;\nint main(void) { for (;;) turns++; }\n");
  Terminal terminal({"console", program});
  ASSERT_TRUE(terminal.shows("forever main+")) << terminal.seen();
  terminal.type("resume\n");
  ::usleep(200000);
  terminal.type("\x03");
  ASSERT_TRUE(terminal.shows("note: interrupted")) << terminal.seen();
  ASSERT_TRUE(terminal.shows("forever main+")) << terminal.seen();
  terminal.type("into\n");
  ASSERT_TRUE(terminal.shows("forever main+")) << terminal.seen();
  terminal.type("\n");  // the motion once more
  ASSERT_TRUE(terminal.shows("next")) << terminal.seen();
  terminal.type("quit\n");
  EXPECT_EQ(terminal.wait(), 0);
}

TEST(FullScreen, KeepsItsPanesAndTakesTheSameWords) {
  for (const auto& [rows, columns] : {std::pair<unsigned short, unsigned short>{24, 80}, {60, 200}}) {
    SCOPED_TRACE(columns);
    Terminal terminal({"console", "--full-screen", demo("tidelog"), demo("readings.txt")}, rows, columns);
    for (const char* pane : {"source tidelog.c", "registers", "stack", "memory"})
      ASSERT_TRUE(terminal.shows(pane)) << pane << terminal.seen();
    terminal.type("halt at levels.c:34 when i == 3\r");
    ASSERT_TRUE(terminal.shows("h1 at levels.c:34")) << terminal.seen();
    terminal.type("resume\r");
    ASSERT_TRUE(terminal.shows("levels.c")) << terminal.seen();
    ASSERT_TRUE(terminal.shows("h1 at levels.c:34 when i == 3, hit 1")) << terminal.seen();
    terminal.type("resume\r");
    ASSERT_TRUE(terminal.shows("ended")) << terminal.seen();
    terminal.type("quit\r");
    EXPECT_EQ(terminal.wait(), 0);
  }
}

/// The line is readline's: characters of several bytes, keys within the line, the history.
TEST(FullScreen, EditsItsLineAsReadlineDoes) {
  Terminal terminal({"console", "--full-screen", demo("tidelog"), demo("readings.txt")}, 30, 120);
  ASSERT_TRUE(terminal.shows("conversation")) << terminal.seen();
  // A wide character is taken back as one, and so is what stands at the cursor.
  terminal.type(
      "show \xe6\xbd\xae\x7f"
      "0x2x0");
  terminal.type("\x1b[D\x7f");  // left, and the x goes
  terminal.type(
      "\x05"
      "5\r");  // at the end
  ASSERT_TRUE(terminal.shows("show 0x205")) << terminal.seen();
  ASSERT_TRUE(terminal.shows("517")) << terminal.seen();
  terminal.type(
      "\x1b[A\x7f"
      "6\r");  // the line before, with another digit
  ASSERT_TRUE(terminal.shows("show 0x206")) << terminal.seen();
  terminal.type("he\t\r");
  ASSERT_TRUE(terminal.shows("help ")) << terminal.seen();
  terminal.type("\x04");
  EXPECT_EQ(terminal.wait(), 0);
}

// ---- plans ----------------------------------------------------------------------------------------------------------

TEST(Plans, ExpectationsAreCheckedAndMissedOnesFail) {
  const TempFolder folder;
  const auto plan = [&](const std::string& text, int status) {
    write_file(folder / "a.plan", text);
    const Outcome outcome = deeptrace({"plan", folder / "a.plan", demo("tidelog"), demo("readings.txt")});
    EXPECT_EQ(outcome.status, status) << outcome.out << outcome.err;
    return outcome.out + outcome.err;
  };
  plan("at level_sum: keep log->count; expect log->count == 12\non return level_sum: expect result == 16340\n", 0);
  // Of three colons with a blank the second one ends the stop point.
  plan("at levels.c:34 when i == 3 ? 1 : 0 : expect (i == 3 ? sum : 0) == 5235\n", 0);
  const std::string wrong = plan("at levels.c:34 when i == 3: expect sum == 5236  # one too many\n", 1);
  EXPECT_NE(wrong.find("left   0x1473"), std::string::npos) << wrong;
  EXPECT_NE(wrong.find("right  0x1474"), std::string::npos) << wrong;
  EXPECT_NE(plan("at level_sum when 0: expect 1 == 1\n", 1).find("never reached"), std::string::npos);
  EXPECT_NE(plan("at level_sum keep 1\n", 2).find("a.plan:1:20: expected ': '"), std::string::npos);
  EXPECT_NE(plan("\nat level_sum: expect 1 +\n", 2).find("a.plan:2:25: expected a name"), std::string::npos);
  EXPECT_NE(plan("at level_sum: kep 1\n", 2).find("a.plan:1:15: expected keep, show or expect"), std::string::npos);
  EXPECT_NE(plan("at level_summ: keep 1\n", 2).find("similar names: level_sum"), std::string::npos);
}

}  // namespace
}  // namespace deeptrace::tests
