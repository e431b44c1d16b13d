// C++ in expressions: the program prints what its compiler makes of each, the tool evaluates the same text. Objects of
// the library and of polymorphic classes as what they are; locals before their declaration.
#include <gtest/gtest.h>

#include <set>
#include <sstream>

#include "inspect/wide_text.h"
#include "live_support.h"
#include "program/name_match.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

constexpr const char* kStation = R"(
#include <any>
#include <array>
#include <atomic>
#include <bitset>
#include <chrono>
#include <complex>
#include <cstdio>
#include <deque>
#include <functional>
#include <list>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <tuple>
#include <type_traits>
#include <unordered_map>
#include <valarray>
#include <variant>
#include <vector>
namespace tide {
enum Colour { red, green = 5, blue };
enum class State : unsigned char { idle, open = 3, shut };
template <typename T> struct Box { static int made; T held; enum Mode { quiet, loud = 7 }; static constexpr int kLimit = 42; };
template <typename T> int Box<T>::made = 11;
struct Instrument { virtual ~Instrument() = default; virtual int read() { return 1; } int serial = 9; static int count; };
int Instrument::count = 77;
struct Gauge : Instrument { int read() override { return 2; } int level = -6; };
struct Left : virtual Instrument { int left = 21; };
struct Right : virtual Instrument { int right = 22; };
struct Both : Left, Right { int both = 23; };
}
using namespace tide;
static void say(const char *text, std::string_view value) { printf("%s\t\"%.*s\"\n", text, (int)value.size(), value.data()); }
template <class T> requires std::is_integral_v<T> || std::is_enum_v<T>
void say(const char *text, T value) { printf("%s\t%ld\n", text, (long)value); }
static void say(const char *text, std::vector<bool>::reference value) { say(text, (bool)value); }
#define ASK(...) say(#__VA_ARGS__, __VA_ARGS__)
__attribute__((noinline)) void look() { __asm__ volatile(""); }
int twice(int x) { return 2 * x; }

int main() {
  std::string name = "north pier", other = "pier", empty;
  std::string_view view = name; view.remove_prefix(6);
  std::vector<int> levels = {12, -6, 301};
  std::vector<bool> bits = {true, false, true, true};
  for (int i = 0; i < 100; i++) bits.push_back(i % 3 == 0);
  std::map<std::string, int> by_name = {{"north", 12}, {"south", -6}};
  std::map<int, std::string> by_number = {{3, "three"}, {5, "five"}};
  std::unordered_map<std::string, int> hash = {{"east", 31}, {"west", 32}};
  std::set<int> numbers = {4, 2, 9};
  std::list<int> chain = {5, 6, 7};
  std::deque<int> queue = {1, 2, 3};
  std::array<short, 3> fixed = {1, 2, 3};
  auto map_at = by_name.find("south"), map_end = by_name.end();
  auto list_at = std::next(chain.begin()), list_end = chain.end();
  auto vector_at = levels.begin() + 2;
  auto set_at = numbers.begin();
  auto hash_at = hash.find("west"), hash_end = hash.end();
  std::unique_ptr<Gauge> owner = std::make_unique<Gauge>();
  std::shared_ptr<Gauge> shared = std::make_shared<Gauge>(), again = shared, gone = std::make_shared<Gauge>();
  std::weak_ptr<Gauge> weak = shared, late = gone;
  gone.reset();
  std::unique_ptr<int> none;
  Instrument *instrument = owner.get();
  std::unique_ptr<Instrument> base_owner = std::make_unique<Gauge>();
  Both both; Left *left = &both;
  Instrument &reference = both;
  __int128 wide = (__int128)-5 * 1000000000000000000 * 1000;
  unsigned __int128 whole = ~(unsigned __int128)0;
  std::complex<double> z(1.5, -2.0);
  std::bitset<70> mask(0x2a5);
  mask[69] = true;
  std::tuple<int, std::string, double> triple(4, "four", 4.5);
  std::variant<int, std::string> choice = std::string("chosen"), choice2 = 17;
  std::any anything = 55, text = std::string("a string that does not fit"), nothing;
  std::function<int(int)> action = [&levels](int x) { return levels[0] + x; }, plain = twice, unset;
  std::wstring wide_text = L"w\u00e4it"; std::u16string u16 = u"se\U0001f30ahs"; std::u32string u32 = U"drei\u00dfig";
  const wchar_t *wide_pointer = L"pointer"; wchar_t wide_array[8] = L"array";
  char32_t c32 = U'\u00e4'; char8_t c8 = u8'x';
  std::valarray<int> values = {3, 1, 4};
  int offset = 30;
  auto lambda = [offset, &levels](int x) { look(); return x + offset + (int)levels.size(); };
  std::atomic<int> counter{42};
  std::optional<int> maybe = 0, nope;
  std::nullptr_t null = nullptr;
  Colour colour = green; State state = State::shut;
  Box<int> box{13}; Box<int>::Mode mode = Box<int>::loud;
  const int &limit = Box<int>::kLimit;
  std::chrono::milliseconds wait{250};

  ASK(name == "north pier"); ASK(view == "pier"); ASK(other == view); ASK(name != other); ASK("pier" == other);
  ASK(empty == ""); ASK(name[0]); ASK(view[1]); ASK(name[name.size() - 1]); ASK(other.back());
  ASK(name.size()); ASK(name.length()); ASK(empty.empty()); ASK(view.size()); ASK(levels.size());
  ASK(levels.front()); ASK(levels.back() + 1); ASK(levels.at(1)); ASK(levels.data()[2]); ASK(*levels.data());
  ASK(by_name["south"]); ASK(by_name.at("north") * 2); ASK(by_number[5]); ASK(by_number[5] == "five");
  ASK(by_name.size()); ASK(hash["west"]); ASK(hash.size()); ASK(queue.back()); ASK(chain.size()); ASK(chain.back());
  ASK(fixed.size()); ASK(fixed.back()); ASK(numbers.empty());
  ASK(map_at->second); ASK(map_at->first); ASK(*list_at); ASK(*vector_at); ASK(*set_at); ASK(hash_at->second);
  ASK(vector_at[-1]);
  ASK(owner->level); ASK((*owner).level); ASK(shared->serial); ASK(owner.get()->level); ASK(shared.use_count());
  ASK(!none); ASK(!owner); ASK(instrument->serial); ASK(base_owner->serial);
  ASK(both.serial); ASK(left->serial); ASK(left->left); ASK(both.left + both.right + both.both);
  ASK(wide == -5); ASK(wide < 0); ASK((int)(wide / 1000000000000000000 / 1000)); ASK(whole > 5); ASK((int)(whole >> 126));
  ASK(wide * 2 == wide + wide); ASK(-wide > wide);
  ASK(green); ASK(tide::green); ASK(tide::Colour::green); ASK(State::open); ASK(tide::State::open);
  ASK(state == State::shut); ASK(state == State::open); ASK(colour + 1); ASK(Box<int>::loud); ASK(mode == Box<int>::loud);
  ASK(tide::Box<int>::made); ASK(Box<int>::made); ASK(Box<int>::kLimit); ASK(Instrument::count);
  ASK(tide::Instrument::count); ASK(box.held); ASK(sizeof(tide::Box<int>)); ASK(sizeof(Gauge)); ASK(limit < 43);
  ASK(bits[2]); ASK(bits[103]); ASK(bits.size()); ASK(values[2]); ASK(values.size());
  ASK(*maybe); ASK(maybe.has_value()); ASK(nope.has_value()); ASK(!maybe); ASK(!nope); ASK(maybe == 0);
  ASK(maybe ? 1 : 2); ASK(counter == 42); ASK(counter + 1); ASK(null == 0);
  puts("end");
  fflush(stdout);
  look();
  int inner = offset + (int)z.real();
  { int deepest = inner + (int)mask.count(); look(); offset = deepest; }
  return lambda(inner) + action(1) + plain(2) + (nothing.has_value() || unset) + (int)wait.count() + (int)c32 + (int)c8 +
         reference.serial + (map_end == map_at) + (list_end == list_at) + (hash_end == hash_at) + late.expired() +
         (int)choice.index() + (int)choice2.index() + (text.has_value() != anything.has_value()) + (int)std::get<0>(triple) +
         (int)u16.size() + (int)u32.size() + (int)wide_text.size() + (int)wide_pointer[0] + (int)wide_array[0] > 0;
})";

struct Build {
  std::string name;
  std::vector<std::string> options;
  friend std::ostream& operator<<(std::ostream& out, const Build& build) { return out << build.name; }
};
class Cpp : public testing::TestWithParam<Build> {
 protected:
  std::string program(const TempFolder& folder) {
    std::vector<std::string> options = GetParam().options;
    options.insert(options.end(), {"-std=c++20", "-w"});
    std::string text = kStation;
    // Where there is no __int128, and what clang does not take of one.
    if (GetParam().name == "gcc -m32") {
      for (const auto& [from, to] :
           std::vector<std::pair<std::string, std::string>>{{"unsigned __int128", "unsigned long long"},
                                                            {"__int128", "long long"},
                                                            {"* 1000000000000000000 * 1000", "* 1000"},
                                                            {"/ 1000000000000000000 / 1000", "/ 1000"},
                                                            {"whole >> 126", "whole >> 62"}}) {
        for (std::size_t at = 0; (at = text.find(from, at)) != std::string::npos; at += to.size())
          text.replace(at, from.size(), to);
      }
    }
    return built(folder, "station", text, options);
  }
};

TEST_P(Cpp, ExpressionsAreWhatTheCompilerMakesOfThem) {
  const TempFolder folder;
  const std::string station = program(folder);
  std::istringstream lines(run({station}).out);
  std::vector<std::pair<std::string, std::string>> expected;
  for (std::string line; std::getline(lines, line) && line != "end";)
    expected.emplace_back(line.substr(0, line.find('\t')), line.substr(line.find('\t') + 1));
  ASSERT_GT(expected.size(), 80U);
  std::string words = "halt at look\nresume\nout\n";
  for (const auto& [text, value] : expected) words += "show " + text + "\n";
  const std::string talk = conversation(folder, {station}, words).out;
  for (const auto& [text, value] : expected) {
    // "NAME = 0x5 · 5", "NAME = green (0x5 · 5)", "NAME = true"
    const std::size_t at = talk.find("\n" + text + " = ");
    ASSERT_NE(at, std::string::npos) << text << talk.substr(talk.find("show " + text), 200);
    std::string shown = talk.substr(at + text.size() + 4);
    shown = shown.substr(0, shown.find('\n'));
    const bool boolean = shown.starts_with("true") || shown.starts_with("false");
    const std::string wanted = value.starts_with('"') ? value
                               : boolean              ? (value == "0" ? "false" : "true")
                                                      : " / " + value;
    const std::size_t place = shown.find(wanted);
    ASSERT_NE(place, std::string::npos) << text << ": " << shown << ", not " << value;
    const std::size_t end = place + wanted.size();
    EXPECT_TRUE(end == shown.size() || std::string(" )").find(shown[end]) != std::string::npos)
        << text << ": " << shown;
  }
}

TEST_P(Cpp, ObjectsAreShownAsWhatTheyHold) {
  const TempFolder folder;
  const std::string station = program(folder);
  const std::vector<std::pair<std::string, std::string>> expected = {
      {"owner", "   std::unique_ptr<tide::Gauge>"},
      {"shared", ", 2 owners, 1 watcher"},
      {"late", ", expired"},
      {"none", "= null"},
      {"map_at", " -> {first \"south\", second 0xfffffffa / -6}"},
      {"map_end", "= past the end"},
      {"hash_end", "= past the end"},
      {"z", "= {real 1.5, imaginary -2}"},
      {"triple", "= [0x4 / 4, \"four\", 4.5]"},
      {"triple[1]", "= \"four\""},
      {"choice", "= \"chosen\""},
      {"choice2", "= 0x11 / 17"},
      {"anything", "= 0x37 / 55"},
      {"text", "a string that does not fit"},
      {"nothing", "= nothing"},
      {"unset", "= nothing"},
      {"plain", " -> twice"},
      {"wide_text", "= \"w\\u00e4it\""},
      {"wide_pointer", " -> \"pointer\""},
      {"wide_array", "= \"array\""},
      {"null", "= null"},
      {"wait", "= 0xfa / 250"},
      {"mask[69]", "= true"},
      {"mask[68]", "= false"},
      {"instrument", ", a tide::Gauge"},
      {"instrument->level", "= 0xfffffffa / -6"},
      {"*instrument", "tide::Gauge (declared as tide::Instrument)"},
      {"left", ", a tide::Both"},
      {"reference", "tide::Both (declared as tide::Instrument)"},
      {"lambda", "{offset 0x1e / 30, levels "},
      {"inner", "= not yet set here: declared on line "},
      {"*nope", "it holds nothing"},
      {"*map_end", "it is past the end"},
      {"by_name[\"west\"]", "it has no such key"},
      {"levels.at(3)", "there are 3 elements, from 0"},
      {"name.substr(2)", "no code of the program is run for an expression"},
      {"name == 5", "a string is compared with strings only"},
      {"tide::yellow", "no register, variable or function of that name here"},
  };
  std::string words = "halt at look\nresume\nout\n";
  for (const auto& [text, value] : expected) words += "show " + text + "\n";
  words += "resume\nout\nshow inner\nvars\n";
  const std::string talk = conversation(folder, {station}, words).out;
  for (const auto& [text, value] : expected) {
    const std::size_t at = talk.find("show " + text + "\n");
    ASSERT_NE(at, std::string::npos) << text;
    const std::string answer = talk.substr(at, talk.find("\n", at + text.size() + 6) - at);
    std::string wanted = value;
    if (answer.find("ä") != std::string::npos) wanted = "w\xc3\xa4it";
    EXPECT_NE(answer.find(wanted), std::string::npos) << answer;
  }
  const std::string after = talk.substr(talk.rfind("show inner"));
  EXPECT_NE(after.find("inner = 0x1f / 31"), std::string::npos) << after.substr(0, 200);
  EXPECT_EQ(after.find("not yet set here"), std::string::npos) << after;
}

INSTANTIATE_TEST_SUITE_P(Builds, Cpp,
                         testing::Values(Build{"gcc", {"g++", "-g", "-O0"}},
                                         Build{"gcc -m32", {"g++", "-g", "-O0", "-m32"}},
                                         Build{"clang", {"clang++", "-g", "-O0", "-fstandalone-debug"}}),
                         [](const auto& build) { return "Build" + std::to_string(build.index); });

TEST(CppNames, LocalsAreNotSetBeforeTheirDeclaration) {
  const TempFolder folder;
  const std::string program = built(folder, "order", R"(#include <stdio.h>
int gauge(int i) {
  int sum = i;
  for (int k = 0; k < 3; k++) {
    int inside = k * 2;
    sum += inside;
  }
  int last = sum;
  return last;
}
int main(void) { return gauge(4) != 10; }
)");
  // Where: what is not set there. The second time round `inside` is not set again until its line.
  const auto shown = [&](const std::string& at, const std::string& name) {
    const json hits = hits_of({"--at", at, "--keep", name, program});
    std::vector<bool> set;
    for (const json& hit : hits["hits"]) set.push_back(!hit["kept"][name].contains("unknown"));
    return set;
  };
  EXPECT_EQ(shown("order.c:3", "sum"), std::vector<bool>{false});
  EXPECT_EQ(shown("order.c:6", "sum"), (std::vector<bool>{true, true, true}));
  EXPECT_EQ(shown("order.c:5", "inside"), (std::vector<bool>{false, false, false}));
  EXPECT_EQ(shown("order.c:6", "inside"), (std::vector<bool>{true, true, true}));
  EXPECT_EQ(shown("order.c:6", "last"), (std::vector<bool>{false, false, false}));
  EXPECT_EQ(shown("order.c:9", "last"), std::vector<bool>{true});
  EXPECT_EQ(shown("order.c:3", "i"), std::vector<bool>{true});
}

TEST(CppNames, LiteralsHaveTheSignOfWhatTheyAreComparedWith) {
  const TempFolder folder;
  const std::string program = built(folder, "wide", R"(
long level = -6;
unsigned char mark = 250;
int main(void) { return level != -6; }
)");
  write_file(folder / "plan", "at main: expect level == -5; expect mark == 5\n");
  const Outcome outcome = run({DEEPTRACE_PROGRAM, "plan", folder / "plan", program});
  EXPECT_EQ(outcome.status, 1);
  EXPECT_NE(outcome.out.find("0xfffffffffffffffb / -5"), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find("0x5 / 5"), std::string::npos) << outcome.out;
  // What `show` shows is in JSON as well.
  write_file(folder / "plan", "at main: show level; show memory &mark as bytes 1\n");
  const Outcome shown = run({DEEPTRACE_PROGRAM, "plan", "--format", "json", folder / "plan", program});
  const json rows = json::parse(shown.out)["rows"];
  ASSERT_EQ(rows.size(), 1U) << shown.out;
  EXPECT_EQ(rows[0]["shown"][0]["words"], "level");
  EXPECT_NE(rows[0]["shown"][0]["lines"][0].get<std::string>().find("· -6"), std::string::npos) << rows[0].dump();
  EXPECT_EQ(rows[0]["shown"].size(), 2U);
}

TEST(CppNames, ThreadLocalsOfSplitDebugInformationAreFound) {
  const TempFolder folder;
  for (const char* compiler : {"gcc", "clang"}) {
    for (const char* width : {"-m64", "-m32"}) {
      const std::string program = built(folder, "local", R"(
__thread int depth = 7;
static __thread long own = 9;
int main(void) { own++; return depth + (int)own - 17; }
)",
                                        {compiler, width, "-g", "-gsplit-dwarf", "-w"});
      const json kept = hits_of({"--at", "main", "--keep", "depth,own", program})["hits"][0]["kept"];
      EXPECT_EQ(kept["depth"]["signed"], "7") << compiler << width;
      EXPECT_EQ(kept["own"]["signed"], "9") << compiler << width;
    }
  }
}

TEST(CppNames, FlexibleArraysReachToTheirSymbolsEnd) {
  const TempFolder folder;
  const std::string program = built(folder, "flexible", R"(
struct series { int count; char tag; short levels[]; };
struct series table = {3, 'x', {7, 8, -9}};
struct series none = {0, 'y'};
int main(void) { return table.levels[1] != 8; }
)");
  const json hit = hits_of({"--at", "main", "--keep", "table,none,table.levels[2]", program})["hits"][0]["kept"];
  ASSERT_TRUE(hit["table"]["levels"].is_array()) << hit.dump();
  ASSERT_GE(hit["table"]["levels"].size(), 3U);
  EXPECT_EQ(hit["table"]["levels"][2]["signed"], "-9");
  EXPECT_EQ(hit["none"]["levels"].size(), 0U);
  EXPECT_EQ(hit["table.levels[2]"]["signed"], "-9");
}

TEST(CppNames, AreBareWithoutWhatCarriesNothing) {
  using program::bare_name;
  EXPECT_EQ(bare_name("tide::Log::read(char const*, int) const"), "tide::Log::read");
  EXPECT_EQ(bare_name("int tide::Box<int>::get<long>(long)"), "tide::Box::get");
  EXPECT_EQ(bare_name("std::vector<int, std::allocator<int> >::size() const"), "std::vector::size");
  EXPECT_EQ(bare_name("tide::operator<<(std::ostream&, tide::Log const&)"), "tide::operator<<");
  EXPECT_EQ(bare_name("tide::Log::operator()(int)"), "tide::Log::operator()");
  EXPECT_EQ(bare_name("tide::Log::operator bool() const"), "tide::Log::operator bool");
  EXPECT_EQ(bare_name("tide::Log::operator->() const"), "tide::Log::operator->");
  EXPECT_EQ(bare_name("(anonymous namespace)::read(int)"), "(anonymous namespace)::read");
  EXPECT_EQ(bare_name("main::{lambda(int)#1}::operator()(int) const"), "main::{lambda(int)#1}::operator()");
  EXPECT_EQ(bare_name("tide::read(int)::Local::get() const"), "tide::read::Local::get");
  EXPECT_EQ(bare_name("tide::Log::name[abi:cxx11]() const"), "tide::Log::name");
  EXPECT_EQ(bare_name("log_read"), "log_read");
  EXPECT_EQ(bare_name("void tide::each<tide::Log::read(int)::{lambda(char)#1}>(int)"), "tide::each");
}

TEST(CppNames, FitWhatIsWritten) {
  using Match = program::NameMatch;
  const std::string get = "int tide::Box<int>::get<long>(long)", read = "tide::Log::read(char const*)";
  EXPECT_EQ(Match("read").fits(read), Match::How::tail);
  EXPECT_EQ(Match("Log::read").fits(read), Match::How::tail);
  EXPECT_EQ(Match("og::read").fits(read), std::nullopt);
  EXPECT_EQ(Match("Log").fits(read), Match::How::member);
  EXPECT_EQ(Match("tide").fits(read), std::nullopt) << "neither the class nor the function";
  EXPECT_EQ(Match("tide::*").fits(read), Match::How::pattern);
  EXPECT_EQ(Match("*::re*d").fits(read), Match::How::pattern);
  EXPECT_EQ(Match("Log::*").fits(read), Match::How::pattern);
  EXPECT_EQ(Match("re*x").fits(read), std::nullopt);
  EXPECT_EQ(Match("Box::get").fits(get), Match::How::tail);
  EXPECT_EQ(Match("Box").fits(get), Match::How::member);
  EXPECT_EQ(Match("Box<int>::get<long>").fits(get), Match::How::tail);
  EXPECT_EQ(Match("Box<long>::get<long>").fits(get), std::nullopt);
  EXPECT_EQ(Match("read(char const*)").fits(read), Match::How::tail);
  EXPECT_EQ(Match("read(int)").fits(read), std::nullopt);
  EXPECT_EQ(Match("operator<<").fits("tide::operator<<(int)"), Match::How::tail);
}

constexpr const char* kShortNames = R"(#include <cstdio>
namespace tide {
template <class T> struct Box { T held; __attribute__((noinline)) T get() { return held; } };
struct Log { __attribute__((noinline)) int read(int n) { return n + 1; }
             __attribute__((noinline)) int count() { return 2; } };
struct Gauge { __attribute__((noinline)) int read() { return 3; } };
inline __attribute__((always_inline)) int blend(int a) { printf("%d\n", a); return a; }
}
__attribute__((noinline)) int read_all(tide::Log &log) { return log.read(4) + log.count(); }
int main() {
  tide::Log log; tide::Gauge gauge; tide::Box<int> box{5}; tide::Box<long> wide{6};
  return read_all(log) + gauge.read() + box.get() + (int)wide.get() + tide::blend(1) - 22;
}
)";

TEST(CppNames, ShortOnesFindFunctions) {
  const TempFolder folder;
  for (const std::vector<std::string>& compiler :
       {std::vector<std::string>{"g++", "-g", "-O1", "-w"}, std::vector<std::string>{"clang++", "-g", "-O1", "-w"}}) {
    const std::string path = built(folder, "short", kShortNames, compiler);
    const auto hits = [&](const std::string& at) {
      std::multiset<std::string> functions;
      const json found = hits_of({"--at", at, path});
      for (const json& hit : found["hits"]) {
        const std::string name = hit["function"];
        functions.insert(name.substr(0, name.find_first_of("+(")));
      }
      return functions;
    };
    using Names = std::multiset<std::string>;
    EXPECT_EQ(hits("Log::read"), Names{"tide::Log::read"});
    EXPECT_EQ(hits("count"), Names{"tide::Log::count"});
    EXPECT_EQ(hits("Log"), (Names{"tide::Log::count", "tide::Log::read"}));
    EXPECT_EQ(hits("Gauge"), Names{"tide::Gauge::read"});
    EXPECT_EQ(hits("tide::*::read"), (Names{"tide::Gauge::read", "tide::Log::read"}));
    EXPECT_EQ(hits("Box::get"), (Names{"tide::Box<int>::get", "tide::Box<long>::get"}));
    EXPECT_EQ(hits("Box<long>::get"), Names{"tide::Box<long>::get"});
    EXPECT_EQ(hits("read_*"), Names{"read_all"});
    EXPECT_EQ(hits("blend"), Names{"main"}) << "inlined only";
    // The C library has a `read`: it is what the name says.
    EXPECT_EQ(run({DEEPTRACE_PROGRAM, "hits", "--at", "read", path}).status, 1);
    const Outcome both = run({DEEPTRACE_PROGRAM, "listing", path, "read"});
    EXPECT_EQ(both.status, 2);
    EXPECT_NE(both.err.find("read: could be each of tide::Gauge::read, tide::Log::read"), std::string::npos)
        << both.err;
    const Outcome box = run({DEEPTRACE_PROGRAM, "listing", path, "Box"});
    EXPECT_EQ(box.status, 0) << box.err;
    EXPECT_NE(box.out.find("tide::Box<int>::get()"), std::string::npos) << box.out;
    EXPECT_NE(box.out.find("tide::Box<long>::get()"), std::string::npos) << box.out;
    EXPECT_EQ(box.out.find("read"), std::string::npos) << box.out;
    EXPECT_EQ(run({DEEPTRACE_PROGRAM, "uses", path, "Log::count"}).status, 0);
    EXPECT_EQ(run({DEEPTRACE_PROGRAM, "compare", path, path, "Gauge::read"}).status, 0);
  }
}

TEST(CppNames, ShortOnesTakeNothingFromWhatIsNamedInFull) {
  const TempFolder folder;
  const std::string path = built(folder, "gauge", R"(
int level = 5;
struct Gauge { __attribute__((noinline)) int level() { return 1; } __attribute__((noinline)) int depth() { return 2; } };
struct Tally { int __count = 3; int operator()() const { return __count; } } tally;
int main() { Gauge gauge; return gauge.level() + gauge.depth() + ::level + tally() - 11; }
)",
                                 {"g++", "-g", "-O0", "-w"});
  // A variable's uses, not those of a function whose name ends with it.
  EXPECT_NE(run({DEEPTRACE_PROGRAM, "uses", path, "level"}).out.find("level   variable"), std::string::npos);
  EXPECT_NE(run({DEEPTRACE_PROGRAM, "uses", path, "depth"}).out.find("Gauge::depth()   function"), std::string::npos);
  const Outcome several = run({DEEPTRACE_PROGRAM, "uses", path, "Gauge"});
  EXPECT_EQ(several.status, 2);
  EXPECT_NE(several.err.find("could be each of Gauge::depth, Gauge::level"), std::string::npos) << several.err;
  // In expressions a short name is no function: a condition with it can never hold.
  for (const char* name : {"depth", "Gauge"}) {
    EXPECT_EQ(run({DEEPTRACE_PROGRAM, "hits", "--halt", std::string("at main when ") + name + " == 2", path}).status,
              2);
  }
  // Only what a lambda captures loses its underscores.
  const json kept = hits_of({"--at", "main", "--keep", "tally", path})["hits"][0]["kept"];
  EXPECT_TRUE(kept["tally"].contains("__count")) << kept.dump();
}

TEST(CppNames, NoneIsPrintedWholeThatFillsThePage) {
  const TempFolder folder;
  std::string list;
  for (int i = 0; i < 60; ++i) list += (i == 0 ? "" : ", ") + std::string("tide::Level<") + std::to_string(i) + ">";
  const std::string path = built(folder, "long",
                                 R"(
namespace tide { template <int> struct Level {}; template <class... T> struct Table {
  __attribute__((noinline)) int sum() { return (int)sizeof...(T); } }; }
__attribute__((noinline)) int )" + std::string(600, 'x') +
                                     R"(() { return 1; }
int main() { tide::Table<)" + list + R"(> table; return table.sum() + )" +
                                     std::string(600, 'x') + R"(() - 61; }
)",
                                 {"g++", "-g", "-O0", "-w"});
  const std::vector<std::vector<std::string>> commands = {{"listing", path, "--all"},
                                                          {"lines", path, "long.cpp"},
                                                          {"survey", path},
                                                          {"uses", path, "sum"},
                                                          {"compare", path, path},
                                                          {"hits", "--at", "sum", path},
                                                          {"steps", "--from", "main", "--count", "9", path}};
  for (std::vector<std::string> words : commands) {
    words.insert(words.begin(), DEEPTRACE_PROGRAM);
    std::istringstream lines(run(words).out);
    for (std::string line; std::getline(lines, line);) {
      // The source's own lines are what they are.
      const bool source = line.find("int main()") != std::string::npos || line.find("noinline") != std::string::npos;
      EXPECT_TRUE(source || line.size() < 500) << words[1] << ": " << line.substr(0, 200) << " (" << line.size() << ")";
    }
  }
  const std::string whole = run({DEEPTRACE_PROGRAM, "listing", path, "sum", "--uncut"}).out;
  EXPECT_NE(whole.find("tide::Level<59>"), std::string::npos) << "--uncut";
}

TEST(CppNames, WideCharactersBecomeUtf8) {
  using inspect::utf8_of;
  const auto units = [](std::initializer_list<unsigned> of, std::size_t size) {
    std::vector<std::uint8_t> bytes;
    for (const unsigned one : of) {
      for (std::size_t i = 0; i < size; ++i) bytes.push_back(static_cast<std::uint8_t>(one >> 8 * i));
    }
    return bytes;
  };
  EXPECT_EQ(utf8_of(units({'a', 0xe4, 0x20ac}, 2), 2), "a\xc3\xa4\xe2\x82\xac");
  EXPECT_EQ(utf8_of(units({0xd83c, 0xdf0a}, 2), 2), "\xf0\x9f\x8c\x8a") << "a pair";
  EXPECT_EQ(utf8_of(units({0xd83c, 'x'}, 2), 2), "\xed\xa0\xbcx") << "half of one";
  EXPECT_EQ(utf8_of(units({0x1f30a}, 4), 4), "\xf0\x9f\x8c\x8a");
  EXPECT_EQ(utf8_of(units({0xe4}, 1), 1), "\xe4");
}

}  // namespace
}  // namespace deeptrace::tests
