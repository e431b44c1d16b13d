// The words of the stack: what each is, against what the source passes and keeps.
#include <gtest/gtest.h>

#include <fstream>
#include <map>
#include <nlohmann/json.hpp>
#include <sstream>

#include "live_support.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using Json = nlohmann::json;

constexpr const char* kDeep = R"(
int sink;
__attribute__((noinline)) int inner(int a, int b, int c, int d, int e, int f, int seventh, int eighth) {
  volatile int local = 0x1234567;
  local += a + b + c + d + e + f + seventh + eighth;
  return local;
}
__attribute__((noinline)) int outer(int x) {
  volatile long kept = 0x7654321;
  sink = inner(1, 2, 3, 4, 5, 6, 0x777, 0x888);
  return sink + (int)kept + x;
}
int main(void) { return outer(3) & 1; }
)";

/// The stacks of the rows of `steps --stack`, with the text of the instruction.
std::vector<std::pair<std::string, Json>> stacks_of(const std::string& program, const std::string& from,
                                                    const std::string& count) {
  const Outcome outcome =
      deeptrace({"steps", "--format", "json", "--stack", "--from", from, "--count", count, program});
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  std::vector<std::pair<std::string, Json>> result;
  const Json parsed = Json::parse(outcome.out, nullptr, false);
  EXPECT_FALSE(parsed.is_discarded()) << outcome.out.substr(0, 300);
  if (parsed.is_discarded()) return result;
  for (const Json& row : parsed["steps"]) {
    if (row.contains("stack")) result.emplace_back(row["text"], row["stack"]);
  }
  return result;
}

std::map<std::string, Json> by_meaning(const Json& stack) {
  std::map<std::string, Json> result;
  for (const Json& word : stack) {
    if (word["meaning"].is_string()) result[word["meaning"]] = word;
  }
  return result;
}

TEST(Stack, ShowsACallAndItsReturnWordByWord) {
  for (const char* compiler : {"gcc", "clang"}) {
    for (const char* width : {"-m64", "-m32"}) {
      SCOPED_TRACE(std::string(compiler) + " " + width);
      const bool wide = std::string(width) == "-m64";
      const TempFolder folder;
      const std::string program =
          built(folder, "deep", kDeep, {compiler, width, "-g", "-O0", "-w", "-fno-pic", "-no-pie"});
      const auto rows = stacks_of(program, "outer", "40");
      ASSERT_GT(rows.size(), 5U);
      // The first row of all that moves the stack: the frame pointer of the caller.
      const std::string pointer = wide ? "rbp" : "ebp";
      EXPECT_EQ(rows[0].first, "push " + pointer);
      const auto first = by_meaning(rows[0].second);
      ASSERT_TRUE(first.contains(pointer + " of main")) << rows[0].second;
      EXPECT_EQ(first.at(pointer + " of main")["kind"], "kept register");
      EXPECT_EQ(first.at(pointer + " of main")["changed"], true);
      // The call: a return address, and what was passed on the stack above it.
      const auto call = std::ranges::find_if(rows, [](const auto& row) { return row.first.starts_with("call"); });
      ASSERT_NE(call, rows.end());
      const Json& stack = call->second;
      EXPECT_EQ(stack[0]["kind"], "return address") << stack;
      EXPECT_EQ(stack[0]["changed"], true);
      EXPECT_TRUE(std::string(stack[0]["meaning"]).starts_with("return address: outer+")) << stack[0];
      const auto passed = by_meaning(stack);
      for (const auto& [meaning, value] : std::map<std::string, std::string>{
               {"argument 7 (seventh) of inner", "0x777"}, {"argument 8 (eighth) of inner", "0x888"}}) {
        ASSERT_TRUE(passed.contains(meaning)) << meaning << " " << stack;
        EXPECT_EQ(passed.at(meaning)["value"], value);
      }
      EXPECT_EQ(passed.contains("argument 1 (a) of inner"), !wide);
      // A variable where it is written.
      const bool written = std::ranges::any_of(rows, [](const auto& row) {
        return std::ranges::any_of(row.second, [](const Json& word) {
          return word["kind"] == "variable" && word["changed"] == true &&
                 std::string(word["meaning"]).starts_with("kept");
        });
      });
      EXPECT_TRUE(written);
    }
  }
}

TEST(Stack, ProtectorAndRedZoneAreKnown) {
  const TempFolder folder;
  const std::string program = built(folder, "guarded", R"(
#include <string.h>
__attribute__((noinline)) int leaf(int x) {
  volatile int twice = x;
  return twice + x;
}
__attribute__((noinline)) int guarded(int x) {
  char name[24];
  memset(name, x, sizeof name);
  return name[3] + leaf(x);
}
int main(void) { return guarded(65) == 0; }
)",
                                    {"gcc", "-g", "-O0", "-w", "-fstack-protector-all"});
  const Outcome talk =
      conversation(folder, {program}, "halt at guarded\nresume\nline\nstack 12\nhalt at leaf\nresume\nstack 4\nquit\n");
  EXPECT_NE(talk.out.find("stack protector"), std::string::npos) << talk.out;
  const std::string plain = built(folder, "plain", R"(
__attribute__((noinline)) int leaf(int x) {
  volatile int twice = x;
  return twice + x;
}
int main(void) { return leaf(7) == 0; }
)",
                                  {"gcc", "-g", "-O0", "-w", "-fno-stack-protector"});
  const Outcome red = conversation(folder, {plain}, "halt at leaf\nresume\nline\nstack 4\nquit\n");
  EXPECT_NE(red.out.find("red  0x"), std::string::npos) << red.out;
  EXPECT_NE(red.out.find("twice"), std::string::npos) << red.out;
}

/// Two of the three words that `measure` takes are used by none of its instructions; nor is there any unwind table.
TEST(Stack, PaddingIsRoomThatNothingUses) {
  const TempFolder folder;
  std::ofstream(folder / "padded.s") << R"(.globl main, measure, look
.text
look:
  ret
measure:
  sub $24, %rsp
  movq $0x77, 8(%rsp)
  call look
  add $24, %rsp
  ret
opened:
  sub $24, %rsp
  lea 8(%rsp), %rdi
  call look
  add $24, %rsp
  ret
main:
  sub $8, %rsp
  call measure
  call opened
  xor %eax, %eax
  add $8, %rsp
  ret
)";
  const std::string program = (folder / "padded").string();
  ASSERT_EQ(run({"gcc", (folder / "padded.s").string(), "-o", program}).status, 0);
  const Outcome talk =
      conversation(folder, {program}, "halt at look\nresume\nstack 4\nframes\nresume\nstack 4\nquit\n");
  std::istringstream lines(talk.out);
  std::vector<bool> padding;
  for (std::string line; std::getline(lines, line);) {
    const bool word = line.find("  0x7ff") != std::string::npos && line.find("frame") == std::string::npos;
    if (word && line.find(" rsp ") == std::string::npos) padding.push_back(line.find("padding") != std::string::npos);
  }
  // The return address, then the words: of `opened` those above the address that is taken may be anything.
  const std::vector<bool> wanted = {false, true, false, true, false, true, false, false};
  EXPECT_EQ(padding, wanted) << talk.out;
  EXPECT_NE(talk.out.find("found by code, not by a table"), std::string::npos) << talk.out;
}

TEST(Stack, IsDrawn) {
  const TempFolder folder;
  const std::string into = folder / "drawn";
  const Outcome outcome =
      deeptrace({"steps", "--stack", "--from", "level_between", "--count", "30", "--save", into, demo("gauge32")});
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  const std::string figure = read_file(into + "/steps.svg");
  EXPECT_TRUE(figure.starts_with("<?xml")) << figure.substr(0, 80);
  EXPECT_GT(figure.size(), 5000U);
  EXPECT_TRUE(read_file(into + "/steps.png").starts_with("\x89PNG"));
}

}  // namespace
}  // namespace deeptrace::tests
