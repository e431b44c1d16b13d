// `explain frame`: where variables and saved registers lie, against what the program prints of itself and what the
// compiler's unwind directives say; and what each instruction of hand-written prologues is for.
#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>
#include <string>
#include <vector>

#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;
using Words = std::vector<std::string>;

json frame_of(const std::string& file, const std::string& function) {
  const Outcome outcome = deeptrace({"explain", "--format", "json", "frame", file, function});
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  return outcome.status == 0 ? json::parse(outcome.out)["frame"] : json();
}

/// Each variable prints where it lies, counted from where the stack pointer stood before the call.
constexpr const char* kTalking = R"(
#include <stdio.h>
#include <string.h>
#define PLACE(variable) \
  printf(#variable " %ld %u\n", (long)((char *)&variable - (char *)__builtin_dwarf_cfa()), (unsigned)sizeof variable)
struct level { int metres; double at; short place; };
__attribute__((noinline)) long plain(int count, const char *text) {
  char buffer[21];
  struct level level = {count, 1.5, 3};
  long sum = count;
  strcpy(buffer, text);
  PLACE(buffer); PLACE(level); PLACE(sum);
  return sum + level.place + buffer[0];
}
__attribute__((noinline)) int blocks(int count) {
  int total = 0;
  if (count > 2) { short inner[5] = {1, 2, 3}; PLACE(inner); total += inner[1]; }
  for (int i = 0; i < count; ++i) { unsigned char deep[3] = {4, 5}; PLACE(deep); total += deep[i]; }
  PLACE(total);
  return total;
}
__attribute__((noinline)) int many(int a, int b, int c, int d, int e, int f, int g, short h) {
  int kept[4] = {a + b, c + d, e + f, g + h};
  PLACE(kept);
  return kept[0] * kept[1] + a * printf("%d%d%d\n", b, c, d) + e + f + kept[2];
}
__attribute__((noinline)) int large(int value) {
  char room[70000];
  int after = value;
  memset(room, value, sizeof room);
  PLACE(room); PLACE(after);
  return room[value] + after;
}
int main(int argc, char **argv) {
  puts("> plain"); long all = plain(argc, "basin");
  puts("> blocks"); all += blocks(3);
  puts("> many"); all += many(1, 2, 3, 4, 5, 6, 7, 8);
  puts("> large"); all += large(9);
  return argv == 0 ? (int)all : 0;
}
)";

struct Build {
  const char* words;
};
std::vector<std::string> options_of(const Build& build) {
  std::istringstream stream(build.words);
  std::vector<std::string> words;
  for (std::string word; stream >> word;) words.push_back(word);
  return words;
}
class FrameOf : public testing::TestWithParam<Build> {};

TEST_P(FrameOf, VariablesLieWhereTheProgramFindsThem) {
  const TempFolder folder;
  write_file(folder / "talking.c", kTalking);
  Words words = options_of(GetParam());
  words.insert(words.end(), {"-g", "-w", "-o", folder / "talking", folder / "talking.c"});
  ASSERT_EQ(run(words).status, 0);
  std::istringstream said(run({folder / "talking"}).out);
  json frame;
  std::size_t checked = 0;
  const std::string build = GetParam().words;
  const bool clang_optimises = build.starts_with("clang") && build.find("-O0") == std::string::npos;
  for (std::string line; std::getline(said, line);) {
    std::istringstream stream(line);
    std::string name;
    long offset = 0;
    std::uint64_t size = 0;
    if (line.starts_with("> ")) {
      frame = frame_of(folder / "talking", line.substr(2));
      continue;
    }
    if (!(stream >> name >> offset >> size)) continue;
    // clang describes by their values what only has its address taken.
    if (size <= 8 && clang_optimises) continue;
    bool found = false;
    for (const json& slot : frame["stack"]) {
      if (slot["name"].is_null()) continue;
      std::istringstream words_of_name(slot["name"].get<std::string>());
      bool named = false;
      for (std::string word; words_of_name >> word;) named |= word.substr(0, word.find_first_of("[,")) == name;
      found |= named && slot["offset"] == offset && slot["size"] == size;
    }
    EXPECT_TRUE(found) << frame["function"] << ": " << line << "\n" << frame["stack"].dump();
    ++checked;
  }
  EXPECT_EQ(checked, clang_optimises ? 5U : 11U);
}

/// By function: registers with their offsets from the CFA, and the largest distance of the stack pointer from it.
struct Directives {
  std::map<std::string, std::set<std::pair<std::string, long>>> saved;
  std::map<std::string, long> deepest;
};
/// gcc writes registers by their numbers, clang by their names.
Directives directives_of(const std::string& assembly, bool wide) {
  const std::vector<std::string> names =
      wide ? std::vector<std::string>{"rax", "rdx", "rcx", "rbx", "rsi", "rdi", "rbp", "rsp",
                                      "r8",  "r9",  "r10", "r11", "r12", "r13", "r14", "r15"}
           : std::vector<std::string>{"eax", "ecx", "edx", "ebx", "esp", "ebp", "esi", "edi"};
  const auto name = [&](const std::string& said) { return said[0] == '%' ? said.substr(1) : names[std::stoul(said)]; };
  Directives result;
  std::istringstream lines(assembly);
  std::string function;
  bool by_stack = true;
  for (std::string line; std::getline(lines, line);) {
    std::ranges::replace(line, ',', ' ');
    std::istringstream stream(line);
    std::string word, first, second;
    stream >> word >> first >> second;
    if (word.ends_with(":") && word[0] != '.') function = word.substr(0, word.size() - 1);
    if (word == ".cfi_startproc") by_stack = true;
    if (word == ".cfi_offset") result.saved[function].insert({name(first), std::stol(second)});
    if (word == ".cfi_def_cfa" || word == ".cfi_def_cfa_register") by_stack = name(first) == (wide ? "rsp" : "esp");
    if (word != ".cfi_def_cfa" && word != ".cfi_def_cfa_offset") continue;
    const long depth = std::stol(word == ".cfi_def_cfa" ? second : first);
    if (by_stack) result.deepest[function] = std::max(result.deepest[function], depth);
  }
  return result;
}

TEST_P(FrameOf, SavedRegistersLieWhereTheCompilersUnwindDirectivesSay) {
  const TempFolder folder;
  write_file(folder / "talking.c", kTalking);
  Words words = options_of(GetParam()), assemble = words;
  words.insert(words.end(), {"-w", "-S", "-o", folder / "talking.s", folder / "talking.c"});
  ASSERT_EQ(run(words).status, 0);
  assemble.insert(assemble.end(), {"-w", "-o", folder / "talking", folder / "talking.c"});
  ASSERT_EQ(run(assemble).status, 0);
  const bool wide = std::string(GetParam().words).find("-m32") == std::string::npos;
  Directives told = directives_of(read_file(folder / "talking.s"), wide);
  for (const std::string function : {"plain", "blocks", "many", "large"}) {
    const json frame = frame_of(folder / "talking", function);
    std::set<std::pair<std::string, long>> found;
    for (const json& slot : frame["stack"]) {
      if (slot["kind"] == "saved") found.insert({slot["name"].get<std::string>(), slot["offset"].get<long>()});
    }
    const auto& expected = told.saved[function];
    EXPECT_EQ(found, expected) << function << "\n" << frame.dump();
    if (!frame["frame_pointer"].get<bool>())
      EXPECT_EQ(frame["size"].get<long>() + (wide ? 8 : 4), told.deepest.at(function)) << function << frame.dump();
    for (const json& exit : frame["epilogues"]) {
      EXPECT_EQ(exit["steps"].back()["role"], "returns");
      std::size_t restored = 0;
      for (const json& step : exit["steps"]) restored += step["role"] == "restores" || step["role"] == "leaves" ? 1 : 0;
      EXPECT_EQ(restored, expected.size()) << function << "\n" << exit.dump();
    }
  }
}

INSTANTIATE_TEST_SUITE_P(Builds, FrameOf,
                         testing::Values(Build{"gcc -O0"}, Build{"gcc -O2 -fno-inline"}, Build{"gcc -O2 -m32"},
                                         Build{"gcc -O0 -m32 -fno-pie -no-pie"},
                                         Build{"gcc -O1 -fstack-protector-all -fstack-clash-protection"},
                                         Build{"gcc -O2 -fno-omit-frame-pointer"}, Build{"clang -O0"},
                                         Build{"clang -O2 -fno-omit-frame-pointer"}, Build{"clang -O1 -m32"}),
                         [](const auto& one) { return "build" + std::to_string(one.index); });

/// "saves rbx; reserves 24; …" of the prologue, then each way out after a "|".
std::string roles_in(const std::string& code, const std::string& width = "-m64", const std::string& more = "") {
  const TempFolder folder;
  write_file(folder / "r.s", ".intel_syntax noprefix\n.globl routine\n.type routine, @function\nroutine:\n" + code +
                                 "\n.size routine, .-routine\n" + more);
  EXPECT_EQ(run({"gcc", width, "-c", "-o", folder / "r.o", folder / "r.s"}).status, 0) << code;
  const json frame = frame_of(folder / "r.o", "routine");
  std::string text;
  const auto add = [&](const json& steps) {
    for (const json& step : steps) {
      text += " " + step["role"].get<std::string>();
      if (!step["subject"].is_null()) text += ":" + step["subject"].get<std::string>();
      if (step["bytes"] != 0) text += ":" + std::to_string(step["bytes"].get<int>());
      if (step["in_all"] != 0) text += ":" + std::to_string(step["in_all"].get<int>());
    }
  };
  add(frame["prologue"]);
  for (const json& exit : frame["epilogues"]) {
    text += " |";
    add(exit["steps"]);
    if (!exit["similar"].empty()) text += " x" + std::to_string(exit["similar"].size() + 1);
  }
  return text + (frame["only_on_some_ways"].get<bool>() ? " on some ways" : "");
}

TEST(Frame, EachInstructionOfHandWrittenCodeIsSaidToBeWhatItIs) {
  EXPECT_EQ(roles_in("ret"), " | returns");
  EXPECT_EQ(roles_in("ret 12", "-m32"), " | returns:12");
  EXPECT_EQ(roles_in("push rbp\nmov rbp, rsp\nsub rsp, 32\nmov [rbp-8], rdi\nmov [rbp-12], esi\nleave\nret"),
            " saves:rbp sets_frame_pointer reserves:32 keeps_argument:rdi keeps_argument:esi | leaves returns");
  EXPECT_EQ(roles_in("enter 16, 0\npush ebx\nmov ebx, [ebp+8]\npop ebx\nleave\nret", "-m32"),
            " enters:ebp:16 saves:ebx | restores:ebx leaves returns");
  EXPECT_EQ(roles_in("sub rsp, 24\nmov [rsp+8], rbx\nmov ebx, 1\nmov rbx, [rsp+8]\nadd rsp, 24\nret"),
            " reserves:24 saves:rbx | restores:rbx releases:24 returns");
  EXPECT_EQ(roles_in("mov ebx, 1\nmov [rsp-8], rbx\nret"), " | returns") << "not the caller's value any more";
  EXPECT_EQ(roles_in("push rbp\nmov rbp, rsp\nand rsp, -64\nsub rsp, 64\nmov rsp, rbp\npop rbp\nret"),
            " saves:rbp sets_frame_pointer aligns:64 reserves:64 | sets_stack:rbp restores:rbp returns");
  EXPECT_EQ(roles_in("push rbx\nsub rsp, 16\nlea rbp, [rsp+4]\nadd rsp, 16\npop rbx\nret"),
            " saves:rbx reserves:16 | releases:16 restores:rbx returns")
      << "the address of a variable is no frame pointer";
  EXPECT_EQ(roles_in("lea r11, [rsp-0x5000]\n1: sub rsp, 0x1000\nor qword ptr [rsp], 0\ncmp rsp, r11\njne 1b\n"
                     "sub rsp, 0x10\nadd rsp, 0x5010\nret"),
            " reserves:4096:20480 touches reserves:16 | releases:20496 returns");
  EXPECT_EQ(roles_in("push rbp\nmov rbp, rsp\nsub rsp, rdi\nleave\nret"),
            " saves:rbp sets_frame_pointer reserves_unknown | leaves returns");
  EXPECT_EQ(roles_in("sub rsp, 24\nmov rax, fs:0x28\nmov [rsp+8], rax\nxor eax, eax\nmov rdx, [rsp+8]\n"
                     "sub rdx, fs:0x28\njne 1f\nadd rsp, 24\nret\n1: call __stack_chk_fail\n"),
            " reserves:24 puts_protector | checks_protector releases:24 returns");
  EXPECT_EQ(roles_in("push rax\ncall elsewhere\npop rcx\nret"), " reserves:8 | releases:8 returns");
  EXPECT_EQ(
      roles_in("sub esp, 8\nsub esp, 12\npush 7\ncall elsewhere\nadd esp, 16\ncall elsewhere\nadd esp, 8\nret", "-m32"),
      " reserves:8 | releases:8 returns")
      << "room and words of a call's arguments are no frame";
}

TEST(Frame, WaysOutAreToldApart) {
  EXPECT_EQ(roles_in("test edi, edi\nje 1f\npush rbx\nmov ebx, edi\ncall elsewhere\npop rbx\nret\n1: ret"),
            " saves:rbx | restores:rbx returns | returns on some ways");
  EXPECT_EQ(roles_in("test edi, edi\nje 1f\nmov eax, 1\nret\n1: ret"), " | returns x2");
  EXPECT_EQ(roles_in("sub rsp, 8\ncall elsewhere\nadd rsp, 8\njmp onward"), " reserves:8 | releases:8 jumps_on:onward");
  EXPECT_EQ(roles_in("jmp [rdi]"), " | jumps_on");
}

TEST(Frame, PeopleReadWhatItIsFor) {
  const std::string said = deeptrace({"explain", "frame", demo("tidelog"), "level_sum"}).out;
  for (const char* words : {"rbp marks the frame", "prologue", "epilogue", "return address", "saved rbp",
                            "puts the argument in rdi (log) into the frame"})
    EXPECT_NE(said.find(words), std::string::npos) << words << "\n" << said;
  EXPECT_NE(deeptrace({"explain", "frame", demo("sluice"), "_start"}).out.find("prologue"), std::string::npos);
  const Outcome both = deeptrace({"compare", "--frame", demo("tidelog"), demo("tidelog-O2"), "level_sum"});
  EXPECT_NE(both.out.find("the stack in A, from above"), std::string::npos) << both.out;
  EXPECT_NE(both.out.find("saved rbp"), std::string::npos) << both.out;
  EXPECT_EQ(deeptrace({"explain", "frame", demo("tidelog"), "no_such"}).status, 2);
  EXPECT_EQ(deeptrace({"explain", "frame", "level_sum"}).status, 2);
  EXPECT_EQ(deeptrace({"explain", "frame", "/nowhere/tidelog", "level_sum"}).status, 3);
}

}  // namespace
}  // namespace deeptrace::tests
