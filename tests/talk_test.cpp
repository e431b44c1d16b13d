// Words of the console one by one, on the demo programs: what they say and what they refuse.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>

#include "live_support.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

/// What the conversation says after the prompt with those words, up to the next prompt.
std::string answer_to(const std::string& said, const std::string& words) {
  const std::size_t at = said.find(": " + words + "\n");
  if (at == std::string::npos) return "(not said)\n" + said;
  const std::size_t from = at + words.size() + 3;
  // A prompt begins like the first one.
  const std::size_t line = said.rfind('\n', at) + 1;
  const std::string name = said.substr(line, said.find(' ', line) - line) + " ";
  std::size_t end = from;
  while (end < said.size() && said.compare(end, name.size(), name) != 0)
    end = std::min(said.size(), said.find('\n', end) + 1);
  return said.substr(from, end - from);
}

class Words : public testing::Test {
 protected:
  /// Says the words at the third reading's line of tidelog; the answer to the last of them.
  std::string said(const std::string& words) {
    const Outcome outcome = conversation(folder_, {demo("tidelog"), demo("readings.txt")},
                                         "halt at levels.c:34 when i == 2\nresume\n" + words + "\nquit\n");
    const std::size_t last = words.rfind('\n');
    return answer_to(outcome.out, words.substr(last == std::string::npos ? 0 : last + 1));
  }
  TempFolder folder_;
};

TEST_F(Words, RegistersAreShownSideBySide) {
  EXPECT_EQ(said("set rax = 0x1234\nregs al ah"), "  al = 0x34 / 52\n  ah = 0x12 / 18\n");
  EXPECT_EQ(said("set rax = -6\nregs eax, ax"), "  eax = 0xfffffffa / -6\n  ax = 0xfffa / -6\n");
  EXPECT_NE(said("regs eax nothing").find("wrong: "), std::string::npos);
}

TEST_F(Words, SeveralValuesAreFollowedAtOnce) {
  EXPECT_EQ(said("follow i, (").find("wrong"), 0U);
  const std::string two = said("follow i, log->count");
  EXPECT_NE(two.find("i                        0x2 / 2\n"), std::string::npos) << two;
  EXPECT_NE(two.find("log->count               0xc / 12\n"), std::string::npos) << two;
  EXPECT_NE(said("follow i, sum\ninto").find("  i                        0x2 / 2\n"), std::string::npos);
}

TEST_F(Words, ValuesAreSeenInOtherShapes) {
  // The third reading: 2310 millimetres.
  EXPECT_NE(said("show log->readings[2].level as u8").find("0x6 / 6"), std::string::npos)
      << said("show log->readings[2].level as u8");
  EXPECT_NE(said("show log->readings[2].level as i16 2").find("[0x906 / 2310, 0x0 / 0]"), std::string::npos);
  EXPECT_NE(said("set rax = 0xfffa\nshow ax as u16").find("0xfffa / 65530"), std::string::npos);
  EXPECT_NE(said("show i as x16").find("wrong: show: as is followed by a shape"), std::string::npos);
  EXPECT_NE(said("show i as i16 0").find("wrong: "), std::string::npos);
  const std::string four = said("memory log->readings as u32 4");
  EXPECT_EQ(std::count(four.begin(), four.end(), '\n'), 1) << four;
  EXPECT_NE(four.find("main::log.readings[0].minute"), std::string::npos) << "rows name what they hold: " << four;
  EXPECT_NE(said("help memory").find("shapes: u8, u16"), std::string::npos);
}

TEST_F(Words, AddressesHaveWhatLiesThereAndNumbersTheirDecimal) {
  EXPECT_NE(said("show log").find(" -> main::log"), std::string::npos) << said("show log");
  EXPECT_NE(said("show rip").find(" -> level_sum+0x19\n"), std::string::npos) << said("show rip");
  EXPECT_NE(said("show rsp").find("  stack, rsp\n"), std::string::npos) << said("show rsp");
  EXPECT_NE(said("show rsp + 16").find("  stack, rsp+0x10\n"), std::string::npos) << said("show rsp + 16");
  EXPECT_NE(said("set rbx = 12\nshow rbx").find("rbx = 0xc / 12\n"), std::string::npos);
  const std::string stack = said("stack 4");
  EXPECT_NE(stack.find("return address: print_summary+"), std::string::npos) << stack;
  const std::string registers = said("regs");
  EXPECT_NE(registers.find("rsp   0x00007fff"), std::string::npos);
  EXPECT_EQ(registers.find("/ 1407"), std::string::npos) << "no decimal of an address: " << registers;
}

/// A name that another frame has: where.
TEST_F(Words, NamesOfOtherFramesAreFound) {
  EXPECT_NE(said("show highest").find("; frame 1 has one: `in frame 1`"), std::string::npos) << said("show highest");
  EXPECT_EQ(said("show nowhere").find("; frame"), std::string::npos);
}

/// What is not followed is said once, not at every stop.
TEST_F(Words, LimitsAreNewsOnce) {
  const Outcome outcome = conversation(folder_, {demo("tidelog"), demo("readings.txt")},
                                       "halt at levels.c:34\nresume\nresume\nresume\nquit\n");
  const std::string limit = "what the functions that ran wrote in memory was not followed";
  const std::size_t first = outcome.out.find(limit);
  ASSERT_NE(first, std::string::npos) << outcome.out;
  EXPECT_EQ(outcome.out.find(limit, first + 1), std::string::npos) << outcome.out;
}

/// Counts of stop points stay when they are taken away at the end of --count; cards have the kept values.
TEST(Hits, CountsAndCardsAreWhole) {
  const nlohmann::json counted =
      hits_of({"--at", "levels.c:34", "--count", "2", demo("tidelog"), demo("readings.txt")});
  EXPECT_EQ(counted["hits"].size(), 2U);
  EXPECT_EQ(counted["counts"]["h1"], 2);
  const Outcome cards = deeptrace(
      {"hits", "--card", "--at", "levels.c:34 when i == 3", "--keep", "i, sum", demo("tidelog"), demo("readings.txt")});
  EXPECT_NE(cards.out.find("    i                        0x3 / 3\n"), std::string::npos) << cards.out;
  EXPECT_NE(cards.out.find("    sum                      0x1473 / 5235\n"), std::string::npos) << cards.out;
}

/// A header may make a call one of another function: a stop point stands where the program comes.
TEST(Hits, StandWhereHeadersLeadTheCall) {
  const TempFolder folder;
  const std::string program = built(folder, "a",
                                    "#include <stdio.h>\nint main(void) { int level = 0; return sscanf(\"17\", "
                                    "\"%d\", &level) == 1 ? level : 1; }\n");
  const Outcome outcome = deeptrace({"hits", "--at", "sscanf", program});
  EXPECT_EQ(outcome.status, 0) << outcome.out << outcome.err;
  EXPECT_NE(outcome.out.find("; the program calls __isoc99_sscanf for it"), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find("h1 at sscanf: 1 hit\n"), std::string::npos) << outcome.out;
}

/// Without a relocation an absolute address in an object file is of no section.
TEST(Listing, NumbersInObjectFilesAreNoPlaces) {
  const TempFolder folder;
  write_file(folder / "a.s", "\t.globl f\nf:\tmov 0x10, %eax\n\tmov table, %ebx\n\tret\n\t.data\ntable:\t.long 1\n");
  ASSERT_EQ(run({"as", "-o", folder / "a.o", folder / "a.s"}).status, 0);
  const std::string text = deeptrace({"listing", folder / "a.o"}).out;
  EXPECT_NE(text.find("mov eax, dword ptr ds:0x10\n"), std::string::npos) << text;
  EXPECT_NE(text.find("-> table\n"), std::string::npos) << text;
}

/// A function's opening line stands where its name does, its parameters in place; lines of assembly where they are.
TEST_F(Words, OpeningLinesStandAfterThePrologue) {
  const Outcome hits = deeptrace({"hits", "--at", "levels.c:30 when log->count == 12", "--keep", "log->count",
                                  demo("tidelog"), demo("readings.txt")});
  EXPECT_EQ(hits.status, 0) << hits.err;
  EXPECT_NE(hits.out.find("level_sum+8"), std::string::npos) << hits.out;
  EXPECT_NE(said("halt at levels.c:30").find("level_sum+8   stop byte, after the prologue"), std::string::npos)
      << said("halt at levels.c:30");
  EXPECT_NE(said("halt at checksum.s:7").find(" log_checksum   "), std::string::npos) << said("halt at checksum.s:7");
  const Outcome assembly = conversation(folder_, {demo("sluice32")}, "halt at sluice.asm:115\nresume\nquit\n");
  EXPECT_NE(assembly.out.find("report   sluice.asm:115\n"), std::string::npos) << assembly.out;
}

/// Each word's example, said where it can be, does what the word is for; every word of the list is here.
TEST_F(Words, EachDoesWhatItsExampleSays) {
  const std::map<std::string, std::string> answers = {
      {"into", "level_sum+0x29   levels.c:34\n"},  // five instructions on
      {"over", "next  0x"},
      {"line", "levels.c:33\n"},
      {"line into", "levels.c:33\n"},
      {"out", "level_sum returned 0x3fd4 / 16340\n"},
      {"to", "levels.c:34\n"},
      {"past loop", "levels.c:35\n"},
      {"resume", "h1 at levels.c:34 when i == 2, hit 1\n"},
      {"halt", "h3 at levels.c:34 when i == 3"},
      {"halts", "h1   at levels.c:34 when i == 2"},
      {"remove", ""},
      {"regs", "  al = 0x"},
      {"flags", "ZF 0  the result was not 0"},
      {"show", "{minute 0xf0 / 240, level 0x906 / 2310}"},
      {"memory", "stack, rsp+"},
      {"find", "0x555555556008"},
      {"stack", "return address: print_summary+0x18"},
      {"frames", "2  0x55555555533d  main+0x9c"},
      {"in", "frame 1: print_summary+0x18"},
      {"threads", "1  "},
      {"processes", "1  "},
      {"modules", "libc.so.6"},
      {"type", "int minute"},
      {"vars", "parameter log "},
      {"code", "mov qword ptr [rbp-0x18], rdi"},
      {"why", "next the 64-bit value at [rbp-0x18] is copied to rax"},
      {"follow", "log->count               0xc / 12"},
      {"unfollow", ""},
      {"mark", ""},
      {"set", "rax = 0x5 / 5"},
      {"answer", "the call is not made; it gives ECONNREFUSED"},
      {"send", ""},
      {"others", ""},
      {"save", ""},
      {"write", "seen.core: "},
      {"restart", "main+0xf   tidelog.c:24"},
      {"detach", "the program goes on by itself"},
      {"help", "memory EXPR [as SHAPE [N]] [since MARK]"},
      {"quit", ""},
  };
  const std::filesystem::path before = std::filesystem::current_path();
  std::filesystem::current_path(folder_.path());
  std::set<std::string> seen;
  std::istringstream list(said("help"));
  for (std::string line; std::getline(list, line);) {
    // "  line into [N]   to the next ..., ": the word stands before its arguments.
    if (!line.starts_with("  ") || line[2] == ' ') continue;
    std::string word = line.substr(2, line.find("  ", 2) - 2);
    word = word.substr(0, std::min(word.find_first_of("[ABCDEFGHIJKLMNOPQRSTUVWXYZ"), word.size()));
    for (const auto& [name, text] : answers) {
      if (word == name || word.starts_with(name + " ")) seen.insert(name);
    }
    if (word.starts_with("line into")) seen.insert("line into");
  }
  for (const auto& [word, text] : answers) {
    EXPECT_TRUE(seen.contains(word)) << word << " is not in the list of words";
    const std::string help = said("help " + word);
    const std::size_t at = help.find("for example: ");
    ASSERT_NE(at, std::string::npos) << word << ": " << help;
    const std::string example = help.substr(at + 13, help.find('\n', at) - at - 13);
    EXPECT_TRUE(example.starts_with(word)) << example;
    // Stop point 2, a loop that one stands in, and a mark are there.
    const std::string at_call = word == "answer" ? "halt on syscall write\nresume\n" : "";
    const std::string answer = said("halt at level_sum\n" + at_call + example);
    EXPECT_EQ(answer.find("wrong: "), std::string::npos) << example << ": " << answer;
    EXPECT_NE(answer.find(text), std::string::npos) << example << ": " << answer;
  }
  EXPECT_EQ(seen.size(), answers.size());
  EXPECT_TRUE(std::filesystem::exists("seen/console.txt"));
  std::filesystem::current_path(before);
}

}  // namespace
}  // namespace deeptrace::tests
