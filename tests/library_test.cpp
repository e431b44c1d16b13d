// Objects of the C++ library against what the program itself prints of them.
#include <gtest/gtest.h>

#include <sstream>

#include "live_support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

/// Each line of the program's output: a name, and its elements or characters as the library gives them.
constexpr const char* kHolds = R"(
#include <array>
#include <atomic>
#include <cstdio>
#include <deque>
#include <forward_list>
#include <list>
#include <map>
#include <memory>
#include <optional>
#include <queue>
#include <set>
#include <stack>
#include <string>
#include <string_view>
#include <unordered_map>
#include <unordered_set>
#include <vector>

struct Gauge { std::string name; std::vector<short> levels; };
struct alignas(16) Wide { char c; long double level; };

static void say(const std::string &text) { printf("\"%s\"", text.c_str()); }
static void say(std::string_view text) { printf("\"%.*s\"", (int)text.size(), text.data()); }
static void say(char c) { printf("%d", c); }
template <class T> requires std::is_arithmetic_v<T> void say(T number) { printf("%ld", (long)number); }
template <class A, class B> void say(const std::pair<A, B> &pair) { say(pair.first); printf(":"); say(pair.second); }
static void say(const Gauge &gauge) { say(gauge.name); for (short one : gauge.levels) printf(" %d", one); }
static void say(const Wide &wide) { say((int)wide.c); }
template <class T> void all(const char *name, const T &from) {
  printf("%s", name);
  for (const auto &one : from) { printf(" "); say(one); }
  printf("\n");
}
__attribute__((noinline)) void look() { __asm__ volatile(""); }

int main() {
  std::string small = "tide", large = "Grayling Sound, a text that does not fit into the object itself", none;
  std::string_view view(large.data() + 9, 5);
  std::vector<int> numbers;
  std::deque<int> queue;
  std::deque<Wide> wide;
  std::map<std::string, int> marks;
  std::set<long> few;
  std::multimap<short, char> many;
  std::list<std::string> chain;
  std::forward_list<int> forward;
  std::unordered_map<int, std::string> table;
  std::unordered_set<std::string> words;
  std::vector<Gauge> gauges{{"north", {3, -1}}, {"south", {}}};
  std::map<char, Wide> aligned;
  std::vector<int> empty;
  std::array<unsigned short, 3> three{7, 8, 31000};
  std::stack<int> stack;
  for (int i = 0; i < 50; i++) {
    numbers.push_back(i * i - 7);
    queue.push_back(i);
    if (i % 3 == 0) queue.pop_front();
    if (i % 7 == 0) queue.push_front(-i);
    wide.push_back({(char)i, 1});
    marks["mark " + std::to_string(i * 37 % 50)] = -i;
    few.insert(i * 91 % 53);
    many.emplace(i % 5, i);
    chain.push_front(std::string(i, 'a'));
    forward.push_front(i);
    table[i * 1001] = "t" + std::to_string(i);
    words.insert("word " + std::to_string(i % 9));
    aligned[i] = {(char)(i + 1), 2};
    stack.push(i);
  }
  auto owned = std::make_unique<Gauge>(gauges[0]);
  auto shared = std::make_shared<int>(36);
  std::unique_ptr<int> nobody;
  std::optional<int> maybe = 5, not_now;
  std::atomic<int> counter{12};
  const std::vector<int> &reference = numbers;
  auto second = numbers.begin() + 1;
  all("small", std::vector<std::string>{small}); all("large", std::vector<std::string>{large});
  all("none", std::vector<std::string>{none}); all("view", std::vector<std::string_view>{view});
  all("numbers", numbers); all("queue", queue); all("wide", wide); all("marks", marks); all("few", few);
  all("many", many); all("chain", chain); all("forward", forward); all("table", table); all("words", words);
  all("gauges", gauges); all("aligned", aligned); all("empty", empty); all("three", three);
  all("reference", reference);
  all("numbers[7]", std::vector<int>{numbers[7]}); all("queue[31]", std::vector<int>{queue[31]});
  all("gauges[0].levels[1]", std::vector<short>{gauges[0].levels[1]});
  all("owned->name", std::vector<std::string>{owned->name}); all("*shared", std::vector<int>{*shared});
  all("*maybe", std::vector<int>{*maybe}); all("counter", std::vector<int>{counter.load()});
  all("*second", std::vector<int>{*second}); all("three[2]", std::vector<unsigned short>{three[2]});
  fflush(stdout);
  look();
  return (int)(nobody == nullptr) - 1 + not_now.has_value();
})";

/// A value from JSON as the program writes it.
std::string said(const json& value) {
  if (value.is_null()) return "null";
  if (value.is_array()) {
    std::string text;
    for (const json& one : value) text += (text.empty() ? "" : " ") + said(one);
    return text;
  }
  if (value.contains("first")) return said(value["first"]) + ":" + said(value["second"]);
  if (value.contains("name")) {
    const std::string levels = said(value["levels"]);
    return said(value["name"]) + (levels.empty() ? "" : " " + levels);
  }
  if (value.contains("level")) return said(value["c"]);
  if (value.contains("unsigned") && value.contains("signed")) return value["signed"];
  if (value.contains("text")) return "\"" + std::string(value["text"]) + "\"";
  return value.dump();
}

struct Build {
  std::string name;
  std::vector<std::string> options;
  friend std::ostream& operator<<(std::ostream& out, const Build& build) { return out << build.name; }
};
class Library : public testing::TestWithParam<Build> {};

TEST_P(Library, ObjectsAreWhatTheProgramSays) {
  const TempFolder folder;
  std::vector<std::string> options = GetParam().options;
  options.insert(options.end(), {"-std=c++20", "-w"});
  const std::string program = built(folder, "holds", kHolds, options);
  std::istringstream lines(run({program}).out);
  std::vector<std::string> words = {"--at", "look"};
  std::vector<std::pair<std::string, std::string>> expected;
  for (std::string line; std::getline(lines, line);) {
    const std::string name = line.substr(0, line.find(' '));
    expected.emplace_back(name, line.find(' ') == std::string::npos ? "" : line.substr(line.find(' ') + 1));
  }
  ASSERT_EQ(expected.size(), 28U);
  // They lie in the caller's frame: `console` looks there.
  write_file(folder / "words", [&] {
    std::string text = "halt at look\nresume\nout\n";
    for (const auto& [name, value] : expected) text += "show " + name + "\n";
    return text + "show *nobody\nshow *not_now\nshow not_now\nshow numbers[50]\n";
  }());
  std::string keep;
  for (const auto& [name, value] : expected) keep += (keep.empty() ? "" : ",") + name;
  const json told = hits_of({"--halt", "on return look", "--keep", keep, program});
  ASSERT_EQ(told["hits"].size(), 1U);
  const json& kept = told["hits"][0]["kept"];
  for (const auto& [name, value] : expected) {
    EXPECT_EQ(said(kept[name]), value) << name << " " << kept[name].dump().substr(0, 300);
  }
  const Outcome talk = run(
      {"/bin/sh", "-c", std::string(DEEPTRACE_PROGRAM) + " console " + program + " < " + (folder / "words").string()});
  for (const char* part : {"numbers[50]: there are 50 elements, from 0", "*not_now: it holds nothing",
                           "not_now = nothing", "memory at 0 cannot be read"})
    EXPECT_NE(talk.out.find(part), std::string::npos) << part;
}

/// Locks, times, fixed spans, coroutines and lambdas; each line of the output: a name, and what is wanted of its text.
constexpr const char* kStates = R"(
#include <chrono>
#include <coroutine>
#include <cstdio>
#include <ctime>
#include <mutex>
#include <shared_mutex>
#include <span>
#include <unistd.h>
#include <vector>
struct Task {
  struct promise_type {
    int level = 0;
    Task get_return_object() { return {std::coroutine_handle<promise_type>::from_promise(*this)}; }
    std::suspend_always initial_suspend() noexcept { return {}; }
    std::suspend_always final_suspend() noexcept { return {}; }
    std::suspend_always yield_value(int v) noexcept { level = v; return {}; }
    void return_void() {}
    void unhandled_exception() {}
  };
  std::coroutine_handle<promise_type> handle;
};
Task rise(int from, int to) { for (int level = from; level < to; level++) co_yield level * 10; }
__attribute__((noinline)) void look() { __asm__ volatile(""); }
int main() {
  int offset = 7;
  std::vector<int> levels{4, 5, 6};
  std::span<int, 2> two(levels.data() + 1, 2);
  std::mutex held, free_one;
  std::recursive_mutex twice;
  std::shared_mutex shared;
  std::unique_lock<std::mutex> owning(held), apart(free_one, std::defer_lock);
  twice.lock(); twice.lock(); shared.lock_shared();
  std::chrono::milliseconds pause(250);
  std::chrono::duration<double, std::ratio<3600>> half(0.5);
  std::chrono::system_clock::time_point moment{std::chrono::seconds(1790000000)}, early{std::chrono::nanoseconds(-1)};
  Task task = rise(3, 4), ended = rise(3, 3);
  task.handle.resume(); ended.handle.resume();
  char date[64], before[64];
  time_t seconds = std::chrono::system_clock::to_time_t(moment), one = -1;
  strftime(date, sizeof date, "%F %T UTC", gmtime(&seconds));
  strftime(before, sizeof before, "%F %T UTC", gmtime(&one));
  auto by_reference = [&offset, &levels](int x) { look(); return x + offset + (int)levels.size(); };
  printf("two [0x5 / 5, 0x6 / 6]\nheld locked by thread id %d\nfree_one free\n", gettid());
  printf("twice locked by thread id %d, 2 times\nshared locked by 1 reader\n", gettid());
  printf("owning locked by thread id %d\napart not locked by this\n", gettid());
  printf("pause 0xfa / 250 ms\nhalf 0.5 h\nmoment ns, %s\nearly ns, %s\n", date, before);
  printf("task {level 0x1e / 30}, rise\nended at its end\nby_reference -> 0x7 / 7\n");
  fflush(stdout);
  look();
  return by_reference(1) == 0;
})";

TEST(LibraryStates, AreWhatTheProgramMadeThem) {
  const TempFolder folder;
  for (const std::vector<std::string>& compiler :
       {std::vector<std::string>{"g++"}, {"g++", "-m32"}, {"clang++", "-fstandalone-debug"}}) {
    SCOPED_TRACE(compiler.back());
    std::vector<std::string> options = compiler;
    options.insert(options.end(), {"-g", "-O0", "-std=c++20", "-w"});
    const std::string program = built(folder, "states", kStates, options);
    const std::string said =
        conversation(folder, {program}, "halt at look\nresume\nin frame 1\nvars\nresume\nin frame 1\nvars\n").out;
    std::size_t lines = 0;
    std::istringstream expected(run({program}).out);
    // Thread ids differ from run to run: what was held by the program itself is held by the one thread there is.
    for (std::string line; std::getline(expected, line); ++lines) {
      const std::string name = line.substr(0, line.find(' '));
      std::string wanted = line.substr(name.size() + 1);
      std::string after;
      if (const std::size_t id = wanted.find("thread id "); id != std::string::npos) {
        const std::size_t end = std::min(wanted.find_first_not_of("0123456789", id + 10), wanted.size());
        after = wanted.substr(end);
        wanted.resize(id + 10);
      }
      const std::size_t at = said.find("            " + name + " ");
      ASSERT_NE(at, std::string::npos) << name << "\n" << said;
      const std::string row = said.substr(at, said.find('\n', at) - at);
      EXPECT_NE(row.find(wanted), std::string::npos) << wanted << ": " << row;
      EXPECT_NE(row.find(after), std::string::npos) << after << ": " << row;
    }
    EXPECT_EQ(lines, 14U);
    // In the lambda's body, what it captured.
    const std::size_t body = said.rfind("vars");
    EXPECT_NE(said.find(" offset           0x7 / 7", body), std::string::npos) << said.substr(body);
    EXPECT_NE(said.find(" levels           [0x4 / 4", body), std::string::npos) << said.substr(body);
  }
}

INSTANTIATE_TEST_SUITE_P(Builds, Library,
                         testing::Values(Build{"gcc", {"g++", "-g", "-O0"}},
                                         Build{"gcc -m32", {"g++", "-g", "-O0", "-m32"}},
                                         Build{"gcc -gdwarf-4", {"g++", "-gdwarf-4", "-O0", "-fdebug-types-section"}},
                                         Build{"clang", {"clang++", "-g", "-O0", "-fstandalone-debug"}}),
                         [](const auto& build) { return "Build" + std::to_string(build.index); });

}  // namespace
}  // namespace deeptrace::tests
