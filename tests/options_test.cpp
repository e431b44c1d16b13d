// Every option of every command through the built program: what it changes, and that no option is left out here.
#include <gtest/gtest.h>

#include <algorithm>
#include <cctype>
#include <map>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>

#include "cli/command.h"
#include "report/output.h"
#include "support.h"
#include "terminal.h"

namespace deeptrace::tests {
namespace {

using Words = std::vector<std::string>;

std::string levels_plan() { return std::string(SOURCE_FOLDER) + "/demo/tidelog/levels.plan"; }

/// An ordinary use of each command whose results have forms.
const std::map<std::string, Words>& uses_of_commands() {
  static const std::map<std::string, Words> uses = {
      {"survey", {demo("tidelog")}},
      {"listing", {demo("tidelog"), "level_sum"}},
      {"lines", {demo("tidelog"), "levels.c:30..36"}},
      {"data", {demo("tidelog")}},
      {"uses", {demo("tidelog"), "log_read"}},
      {"explain", {"bytes", "0fafc1"}},
      {"compare", {demo("tidelog"), demo("tidelog-O2"), "level_sum"}},
      {"hits", {"--at", "levels.c:34", "--keep", "sum", demo("tidelog"), demo("readings.txt")}},
      {"steps", {"--from", "level_sum", "--count", "20", demo("tidelog"), demo("readings.txt")}},
      {"plan", {levels_plan(), demo("tidelog"), demo("readings.txt")}},
      {"fault", {demo("reef"), "number"}},
      {"syscalls", {"--only", "write", demo("tidelog"), demo("readings.txt")}},
      {"calls", {demo("tidelog"), demo("readings.txt")}},
  };
  return uses;
}

/// Which options were tried, by command.
using Tried = std::map<std::string, std::set<std::string>>;

Words joined(Words first, const Words& more) {
  first.insert(first.end(), more.begin(), more.end());
  return first;
}

std::string all_of(const Outcome& outcome) { return outcome.out + outcome.err; }

/// One option with what it brings about: a text that is there with it and not without. Without a text it is only
/// accepted here, since this program's answer stays as it is.
struct Case {
  std::string command;
  Words option;
  Words rest;
  std::string text;
  int status = 0;
  bool gone = false;  ///< the other way round: the text is there without it only
};

void try_case(const Case& one, Tried& tried) {
  const Outcome with = deeptrace(joined(joined({one.command}, one.option), one.rest));
  const Outcome without = deeptrace(joined({one.command}, one.rest));
  SCOPED_TRACE(one.command + " " + one.option.front() + ": " + one.text);
  EXPECT_EQ(with.status, one.status) << with.err;
  EXPECT_EQ(all_of(with).find(one.text) != std::string::npos, !one.gone) << all_of(with).substr(0, 3000);
  EXPECT_EQ(all_of(without).find(one.text) != std::string::npos, one.gone) << all_of(without).substr(0, 3000);
  tried[one.command].insert(one.option.front());
}

std::vector<Case> cases(const TempFolder& folder) {
  write_file(folder / "short.txt", "400 1 0\n500 2 0\n");
  const std::string tidelog = demo("tidelog"), fast = demo("tidelog-O2"), station = demo("station"),
                    readings = demo("readings.txt"), plan = levels_plan();
  const Words program = {tidelog, readings}, hits = {"--at", "level_sum", tidelog, readings},
              steps = {"--from", "level_sum", "--count", "5", tidelog, readings}, planned = {plan, tidelog, readings};
  std::vector<Case> result = {
      {"survey", {"--all"}, {tidelog}, "16, 16 own"},
      {"survey", {"--check"}, {tidelog}, "own functions keep the rules of the calling convention"},
      {"survey", {"--own", "/nowhere"}, {tidelog}, "functions                    16, 0 own"},
      {"survey", {"--mangled"}, {station}, "_ZN4tide6report"},
      {"listing", {"--all"}, {tidelog}, "PLT stub of puts"},
      {"listing", {"--own", "/nowhere"}, {tidelog}, "holds no own code", 1},
      {"listing", {"--mangled"}, {station}, "_ZN4tide6report"},
      {"listing", {"--syntax", "att"}, {tidelog, "level_sum"}, "mov %rsp, %rbp"},
      {"listing", {"--meaning"}, {tidelog, "level_sum"}, "rsp is copied to rbp"},
      {"listing", {"--without-source"}, {tidelog, "level_sum"}, "sum += ", 0, true},
      {"listing", {"--exact"}, {tidelog, "level_sum", "--format", "assembler"}, ".L0:"},
      {"lines", {"--at", "level_sum+4"}, {tidelog}, "level_sum+4   "},
      {"lines", {"--own", "/nowhere"}, {tidelog}, "levels.c", 1, true},
      {"lines", {"--mangled"}, {station, "station.cpp"}, "_ZN4tide6report"},
      {"lines", {"--syntax", "att"}, {tidelog, "levels.c:34"}, "%rbp"},
      {"data", {"--all"}, {tidelog}, "stdin"},
      {"data", {"--own", "/nowhere"}, {tidelog}, "station_number", 1, true},
      {"data", {"--mangled"}, {station, "--all"}, "_ZN4tide10FloatGauge"},
      {"data", {"--as", "u8"}, {tidelog, "station_name"}, "0x47 / 71"},
      {"uses", {"--all"}, {tidelog, "stderr"}, ""},
      {"uses", {"--own", "/nowhere"}, {tidelog, "log_read"}, ""},
      {"uses", {"--syntax", "att"}, {tidelog, "log.0"}, "(%rip)"},
      {"uses", {"--syscall", "write"}, {demo("beacon")}, "system call", 0},
      {"explain", {"--bits", "32"}, {"bytes", "40"}, "inc eax"},
      {"explain", {"--syntax", "att"}, {"bytes", "0fafc1"}, "imul %ecx, %eax"},
      {"compare", {"--all"}, {tidelog, fast}, "16 functions", 1},
      {"compare", {"--own", "/nowhere"}, {tidelog, fast}, "level_sum", 0, true},
      {"compare", {"--syntax", "att"}, {tidelog, fast, "level_sum"}, "%eax", 1},
      {"compare", {"--frame"}, {tidelog, fast, "level_sum"}, "the stack in A", 1},
      {"compare", {"--unfolded"}, {tidelog, tidelog, "log_read"}, "instructions that are the same", 0, true},
      {"hits", {"--input", folder / "short.txt"}, {"--at", "main", "/bin/cat"}, "400 1 0"},
      {"hits", {"--keep", "log->count"}, hits, "log->count"},
      {"hits", {"--card"}, hits, " next "},
      {"hits", {"--count", "1"}, {"--at", "levels.c:34", tidelog, readings}, "levels.c:34: 1 hit\n"},
      {"hits",
       {"--core-at-hit", folder / "cores"},
       {"--at", "levels.c:34", "--count", "1", tidelog, readings},
       "h1-1.core"},
      {"hits", {"--let-finish"}, {"--count", "1", "--at", "levels.c:34", tidelog, readings}, "ended with status"},
      {"hits",
       {"--later"},
       {"--at", "levels.c:34", "--at", "nothing", tidelog, readings},
       "no library that was loaded"},
      {"explain", {"--convention", "microsoft-64"}, {"passing", "int f(int a)"}, "ecx"},
      {"hits", {"--on-write", "station_number"}, {"--at", "level_sum", tidelog, readings}, "on write station_number"},
      {"hits", {"--on-access", "station_number"}, hits, "on access station_number"},
      {"hits", {"--on-change", "log.0.count"}, {"--at", "main", tidelog, readings}, "log.0.count (4 bytes"},
      {"hits", {"--on-return", "level_sum"}, hits, "on return level_sum: 1 hit"},
      {"hits", {"--halt", "on syscall read"}, hits, "on syscall read"},
      {"hits", {"--at", "log_read"}, hits, "at log_read: 1 hit"},
      {"steps", {"--to", "next_row"}, {"--from", "level_sum", tidelog, readings}, "next_row", 2},
      {"steps", {"--from", "by_level"}, {"--count", "3", tidelog, readings}, "from by_level"},
      {"steps", {"--count", "7"}, {"--from", "level_sum", tidelog, readings}, "7 instructions stepped"},
      {"steps", {"--stack"}, steps, "return address: print_summary+0x18  tidelog.c:11"},
      {"steps", {"--thread", "2"}, {"--from", "level_sum", "--count", "3", tidelog, readings}, "before it came to", 4},
      {"plan", {"--check"}, planned, "station 17", 0, true},
      {"fault", {"--core", readings}, {}, "is not an ELF file", 3},
      {"fault", {"--deep"}, {demo("reef"), "number"}, "the value was made at reef::number()"},
      {"syscalls", {"--only", "nanosleep"}, {demo("beacon")}, "3 calls;"},
      {"syscalls", {"--except", "nanosleep"}, {demo("beacon")}, "5 calls;"},
      {"syscalls", {"--bytes", "4"}, {demo("beacon")}, "\"Gray\" and 18 more bytes"},
      {"syscalls", {"--count", "2"}, {demo("beacon")}, "2 calls;"},
      {"syscalls", {"--limit", "3"}, {demo("beacon")}, "5 more calls not listed"},
      {"syscalls", {"--totals", "call"}, {demo("beacon")}, "calls  errors        bytes"},
      {"calls", {"--of", "level_sum"}, program, "1 call;"},
      {"calls", {"--depth", "1"}, program, "1 call;"},
      {"calls", {"--count", "3"}, program, "3 calls;"},
      {"calls", {"--limit", "2"}, program, "more calls not listed"},
      {"calls", {"--every-instruction"}, program, " instructions"},
      {"calls", {"--inlined"}, {demo("tidelog-O2"), demo("readings.txt")}, "(inlined)"},
      {"calls", {"--check"}, program, "the calling convention was kept by all of them"},
  };
  // What all commands that run a program share.
  const std::map<std::string, Words> runs = {{"hits", hits},     {"steps", steps},      {"plan", planned},
                                             {"fault", program}, {"syscalls", program}, {"calls", program}};
  for (const auto& [command, rest] : runs) {
    const Words start = {rest.begin(), rest.end() - 2};
    const int usual = command == "fault" ? 1 : 0;  // this program ends without one
    result.push_back({command, {"--program-output", folder / "written"}, rest, "station 17", usual, true});
    result.push_back({command, {"--work-dir", "/nowhere"}, rest, "/nowhere", 4});
    result.push_back({command, {"--env", "novalue"}, rest, "--env novalue", 2});
    result.push_back({command, {"--input", "/nowhere"}, rest, "/nowhere", 4});
    result.push_back({command, {"--children", "kept"}, rest, "--children kept", 2});
    result.push_back({command, {"--attach", "none"}, start, "--attach none", 2});
    result.push_back({command, {"--stop-with", "luck"}, rest, "--stop-with luck", 2});
    result.push_back(
        {command, {"--own", "/nowhere"}, rest, "", command == "syscalls" || command == "calls" ? 1 : usual});
    result.push_back({command, {"--debug-dir", "/nowhere"}, rest, "", usual});
  }
  return result;
}

/// What the options of results do, the same for every command.
void try_results(const std::string& command, const Words& rest, Tried& tried) {
  SCOPED_TRACE(command);
  const auto say = [&](const Words& options) {
    for (const std::string& option : options) {
      if (option.starts_with("--")) tried[command].insert(option);
    }
    return deeptrace(joined(joined({command}, options), rest));
  };
  const int usual = say({}).status;
  const Outcome json = say({"--format", "json"});
  EXPECT_EQ(json.status, usual) << json.err;
  EXPECT_EQ(nlohmann::json::parse(json.out, nullptr, false).value("command", ""), command) << json.out.substr(0, 300);
  EXPECT_EQ(say({"--format", "none"}).out, "");
  const Outcome wrong = say({"--format", "yaml"});
  EXPECT_EQ(wrong.status, 2);
  EXPECT_EQ(std::ranges::count(wrong.err, '\n'), 1) << wrong.err;

  const TempFolder folder;
  const std::string into = folder / "result";
  EXPECT_EQ(say({"--save", into, "--save-formats", "json,text"}).status, usual);
  EXPECT_FALSE(read_file(into + "/" + command + ".txt").empty());
  EXPECT_TRUE(nlohmann::json::accept(read_file(into + "/" + command + ".json")));
  EXPECT_FALSE(std::filesystem::exists(into + "/" + command + ".csv"));
  const Outcome again = say({"--save", into});
  EXPECT_EQ(again.status, 2) << "another run's files are kept";
  EXPECT_NE(again.err.find("--replace"), std::string::npos) << again.err;
  EXPECT_EQ(say({"--save", into, "--replace"}).status, usual);
  EXPECT_EQ(say({"--save", into, "--replace", "--save-formats", "yaml"}).status, 2);

  EXPECT_NE(say({"--colour", "always"}).out.find("\x1b["), std::string::npos);
  EXPECT_EQ(say({"--colour", "never"}).out.find("\x1b["), std::string::npos);
  EXPECT_EQ(say({"--colour", "mostly"}).status, 2);
  const auto widest = [&](const Words& options) {
    const Words words = joined(joined({DEEPTRACE_PROGRAM, command}, options), rest);
    std::istringstream lines(without_colours(on_terminal(words, {.columns = 40}).out));
    unsigned result = 0;
    for (std::string line; std::getline(lines, line);) result = std::max(result, report::columns_of(line));
    return result;
  };
  EXPECT_LE(widest({}), 40U);
  EXPECT_GT(widest({"--uncut"}), 40U);
  tried[command].insert("--uncut");
}

/// Where sources and debug information lie elsewhere than the program says.
void try_places(Tried& tried) {
  const TempFolder folder;
  std::filesystem::create_directories(folder / "old");
  std::filesystem::create_directories(folder / "debug/.build-id/12");
  write_file(folder / "old/tide.c",
             "int level = 7;\nint level_of(int n)\n{\n  return level + n;\n}\nint main(int argc, char **argv)\n{\n"
             "  if (argc > 1) level = *(volatile int *)0;\n  return level_of(-7);\n}\n");
  const std::string program = folder / "tide";
  ASSERT_EQ(run({"gcc", "-g", "-Wl,--build-id=0x1234abcd", "-o", program, folder / "old/tide.c"}).status, 0);
  std::filesystem::rename(folder / "old", folder / "new");
  write_file(folder / "tide.plan", "at level_of: keep n\n");
  const std::string moved = (folder / "old").string() + "=" + (folder / "new").string();
  for (const auto& [command, rest] : std::map<std::string, Words>{{"listing", {program}},
                                                                  {"lines", {program}},
                                                                  {"uses", {program, "level_of"}},
                                                                  {"steps", {"--from", "level_of", program}},
                                                                  {"hits", {"--at", "level_of", "--card", program}}})
    try_case({command, {"--source-moved", moved}, rest, "return level", 0}, tried);
  try_case({"fault", {"--source-moved", moved}, {program, "now"}, "volatile int", 0}, tried);
  for (const char* command : {"survey", "data", "compare", "plan", "syscalls", "calls"}) {
    // Accepted by all, shown by those that show sources.
    Words rest = {program};
    if (std::string(command) == "compare") rest = {program, program};
    if (std::string(command) == "plan") rest = {folder / "tide.plan", program};
    if (std::string(command) == "syscalls") rest = {demo("beacon")};
    EXPECT_EQ(deeptrace(joined({command, "--source-moved", moved}, rest)).status, 0) << command;
    EXPECT_EQ(deeptrace(joined({command, "--source-moved", "nothing"}, rest)).status, 2) << command;
    tried[command].insert("--source-moved");
  }
  // The debug information in a file of its own, found by build identity: the whole program serves as that file.
  ASSERT_EQ(run({"cp", program, folder / "debug/.build-id/12/34abcd.debug"}).status, 0);
  const std::string bare = folder / "bare";
  ASSERT_EQ(run({"gcc", "-s", "-Wl,--build-id=0x1234abcd", "-o", bare, folder / "new/tide.c"}).status, 0);
  const std::string place = folder / "debug";
  for (const Case& one : {Case{"survey", {"--debug-dir", place}, {bare}, "DWARF 5"},
                          {"listing", {"--debug-dir", place}, {bare, "--all"}, "level_of"},
                          {"lines", {"--debug-dir", place}, {bare, "tide.c"}, "level_of"},
                          {"data", {"--debug-dir", place}, {bare, "--all"}, "level   "},
                          {"uses", {"--debug-dir", place}, {bare, "level_of"}, "main"},
                          {"compare", {"--debug-dir", place}, {bare, bare, "level_of"}, "level_of"},
                          {"steps", {"--debug-dir", place}, {"--from", "level_of", "--count", "1", bare}, "level_of"},
                          {"hits", {"--debug-dir", place}, {"--at", "level_of", bare}, "h1 at level_of"},
                          {"fault", {"--debug-dir", place}, {bare, "now"}, "tide.c:8"}}) {
    const Outcome with = deeptrace(joined(joined({one.command}, one.option), one.rest));
    EXPECT_LE(with.status, 0) << one.command << with.err;
    EXPECT_NE(all_of(with).find(one.text), std::string::npos) << one.command << all_of(with);
    tried[one.command].insert(one.option.front());
  }
}

/// The options that a command's help names.
std::set<std::string> options_of(const std::string& command) {
  std::istringstream lines(deeptrace({command, "--help"}).out);
  std::set<std::string> result;
  for (std::string line; std::getline(lines, line);) {
    const std::size_t dashes = line.find("--");
    if (dashes == std::string::npos || line.find_first_not_of(' ') != dashes || dashes > 8) continue;
    std::size_t end = dashes + 2;
    while (end < line.size() && (std::islower(line[end]) != 0 || line[end] == '-')) ++end;
    result.insert(line.substr(dashes, end - dashes));
  }
  return result;
}

TEST(Options, EachChangesWhatItSays) {
  Tried tried;
  const TempFolder folder;
  for (const Case& one : cases(folder)) {
    if (one.text.empty()) {
      EXPECT_EQ(deeptrace(joined(joined({one.command}, one.option), one.rest)).status, one.status) << one.command;
      tried[one.command].insert(one.option.front());
    } else {
      try_case(one, tried);
    }
  }
  for (const auto& [command, rest] : uses_of_commands()) try_results(command, rest, tried);
  try_places(tried);
  // Those of runs that are attached to, of children and of randomised addresses have tests of their own in
  // live_test.cpp and children_test.cpp; the console's in talk_test.cpp and live_test.cpp; the tour's in
  // report_test.cpp.
  const std::set<std::string> elsewhere = {"--help", "--randomise", "--all", "--mangled", "--data-as-code"};
  for (const auto& [command, rest] : uses_of_commands()) {
    for (const std::string& option : options_of(command)) {
      if (elsewhere.contains(option)) continue;
      EXPECT_TRUE(tried[command].contains(option)) << command << " " << option << " is not tried";
    }
  }
}

/// Sets a variable for as long as it lives.
class Environment {
 public:
  Environment(const char* name, const std::string& value) : name_(name) {
    if (const char* before = std::getenv(name)) before_ = before;
    ::setenv(name, value.c_str(), 1);
  }
  ~Environment() { before_ ? ::setenv(name_, before_->c_str(), 1) : ::unsetenv(name_); }

 private:
  const char* name_;
  std::optional<std::string> before_;
};

TEST(Options, AreSetByFiles) {
  const TempFolder folder;
  const auto listing = [](std::vector<std::string> more) {
    more.insert(more.begin(),
                {"env", "-u", "DEEPTRACE_CONFIG", DEEPTRACE_PROGRAM, "listing", demo("tidelog"), "level_sum"});
    return run(more).out;
  };
  std::filesystem::create_directories(folder / "deeptrace");
  write_file(folder / "deeptrace/config.toml", "syntax = \"att\"  # as at sea\nuncut = true\nown = [\"/nowhere\"]\n");
  const std::filesystem::path before = std::filesystem::current_path();
  const Environment user("XDG_CONFIG_HOME", folder.path());
  EXPECT_NE(listing({}).find("%rbp"), std::string::npos);
  EXPECT_EQ(listing({"--syntax", "intel"}).find("%rbp"), std::string::npos) << "the command line counts most";
  std::filesystem::current_path(folder.path());
  write_file(folder / ".deeptrace.toml", "syntax = \"intel\"\n");
  EXPECT_EQ(listing({}).find("%rbp"), std::string::npos) << "the current folder counts more than the user's";
  write_file(folder / "deeptrace/config.toml", "mangled = true\nown = []\n");
  const auto names = [] {
    return run({"env", "-u", "DEEPTRACE_CONFIG", DEEPTRACE_PROGRAM, "listing", demo("station")}).out;
  };
  write_file(folder / ".deeptrace.toml", "");
  EXPECT_NE(names().find("_ZN4tide"), std::string::npos);
  write_file(folder / ".deeptrace.toml", "mangled = false\n");
  EXPECT_EQ(names().find("_ZN4tide"), std::string::npos) << "a flag can be switched off again";
  std::filesystem::current_path(before);
  // Commands without an option leave it alone; lists add up with what the command line has.
  EXPECT_EQ(deeptrace({"explain", "nop"}).status, 0);
  const Environment one("DEEPTRACE_CONFIG", folder / "deeptrace/config.toml");
  EXPECT_EQ(deeptrace({"survey", "--own", SOURCE_FOLDER, demo("tidelog")}).status, 0);
}

TEST(Options, FilesThatAreWrongAreRefused) {
  const TempFolder folder;
  const std::string file = folder / "config.toml";
  const Environment one("DEEPTRACE_CONFIG", file);
  for (const auto& [text, error] : std::vector<std::pair<std::string, std::string>>{
           {"syntax = att\n", ":1:"},
           {"\nsyntx = \"att\"\n", ":2:1: syntx: cannot be set here"},
           {"save = \"here\"\n", ":1:1: save: cannot be set here"},
           {"own = \"/src\"\n", "own: takes a list of texts in brackets"},
           {"uncut = 1\n", "uncut: takes true or false"},
           {"syntax = \"nasm\"\n", "--syntax nasm: is one of intel, att"}}) {
    write_file(file, text);
    const Outcome outcome = deeptrace({"listing", demo("tidelog"), "level_sum"});
    EXPECT_EQ(outcome.status, 2) << text;
    EXPECT_NE(outcome.err.find(error), std::string::npos) << text << outcome.err;
    EXPECT_EQ(std::ranges::count(outcome.err, '\n'), 1) << outcome.err;
  }
  std::filesystem::remove(file);
  EXPECT_EQ(deeptrace({"listing", demo("tidelog"), "level_sum"}).status, 2) << "a file that was named has to be there";
}

}  // namespace
}  // namespace deeptrace::tests
