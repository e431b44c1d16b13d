// System calls where a program is followed step by step or stopped: what cards and rows say of them, conditions on
// their arguments by name, arguments that are changed, and calls that are answered in place of being made.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "live_support.h"

namespace deeptrace::tests {
namespace {

using Json = nlohmann::json;

/// Writes with descriptor and address exchanged, then as it should, then closes what nobody opened, and exits.
std::string exchanged(const TempFolder& folder) {
  return built(folder, "exchanged", R"(
	.intel_syntax noprefix
	.globl _start
	.text
_start:
	mov edx, 9
	mov esi, 1
	lea rdi, [rip+text]
	mov eax, 1
	syscall
	mov edi, 1
	lea rsi, [rip+text]
	mov eax, 1
	syscall
	mov edi, 77
	mov eax, 3
	syscall
	xor edi, edi
	mov eax, 60
	syscall
	.data
text: .ascii "level 17\n"
)",
               {"gcc", "-x", "assembler", "-nostdlib", "-static", "-g"});
}

std::string exchanged32(const TempFolder& folder) {
  return built(folder, "exchanged32", R"(
	.intel_syntax noprefix
	.globl _start
	.text
_start:
	mov edx, 9
	mov ecx, 1
	lea ebx, text
	mov eax, 4
	int 0x80
	mov ebx, 0
	mov eax, 1
	int 0x80
	.data
text: .ascii "level 17\n"
)",
               {"gcc", "-x", "assembler", "-m32", "-nostdlib", "-static", "-no-pie", "-g"});
}

TEST(KernelCalls, StepsShowWhatWasAskedAndWhatWentWrong) {
  const TempFolder folder;
  const std::string text = deeptrace({"steps", "--program-output", "/dev/null", exchanged(folder)}).out;
  EXPECT_NE(text.find("fd 4202496"), std::string::npos) << text;
  EXPECT_NE(text.find("count 9 -> EBADF"), std::string::npos) << text;
  EXPECT_NE(text.find("wrong: arguments 1 and 2 of write look exchanged"), std::string::npos) << text;
  EXPECT_NE(text.find("write: fd 1 (/dev/null), buf \"level 17\\n\", count 9 -> 9"), std::string::npos) << text;
  const std::string narrow = deeptrace({"steps", "--program-output", "/dev/null", exchanged32(folder)}).out;
  EXPECT_NE(narrow.find("wrong: arguments 1 and 2 of write look exchanged"), std::string::npos) << narrow;
}

TEST(KernelCalls, RowsOfStepsHaveThemAsJson) {
  const TempFolder folder;
  const Outcome outcome = deeptrace({"steps", "--format", "json", "--program-output", "/dev/null", exchanged(folder)});
  const Json said = Json::parse(outcome.out);
  std::vector<Json> calls;
  const Json& rows = said["steps"];
  for (const Json& row : rows) {
    EXPECT_EQ(row.contains("call"), row["text"] == "syscall" && row != rows.back()) << row;
    if (row.contains("call")) calls.push_back(row["call"]);
  }
  ASSERT_EQ(calls.size(), 3);  // exit does not come back
  EXPECT_EQ(calls[0]["error"], "EBADF");
  EXPECT_EQ(calls[0]["findings"][0]["kind"], "exchanged_arguments");
  EXPECT_EQ(calls[1]["name"], "write");
  EXPECT_EQ(calls[1]["result"]["signed"], "9");
  EXPECT_EQ(calls[1]["arguments"][2]["name"], "count");
  EXPECT_TRUE(calls[1]["findings"].empty());
  EXPECT_EQ(calls[2]["error"], "EBADF");
}

TEST(KernelCalls, CardsAndWhySayTheSame) {
  const TempFolder folder;
  const std::string program = exchanged(folder);
  const std::string talk = conversation(folder, {program}, "halt at _start+0x16\nresume\nwhy\ninto\nwhy\nquit\n").out;
  // Before it is made, then after it, in the card and in `why`.
  const std::size_t asked = talk.find("asks the kernel for write\n       write: fd 4202496");
  ASSERT_NE(asked, std::string::npos) << talk;
  const std::size_t card = talk.find("system call write: fd 4202496", asked);
  ASSERT_NE(card, std::string::npos) << talk;
  EXPECT_NE(talk.find("note: EBADF: Bad file descriptor", card), std::string::npos) << talk;
  const std::size_t finding = talk.find("wrong: arguments 1 and 2 of write look exchanged", card);
  ASSERT_NE(finding, std::string::npos) << talk;
  EXPECT_NE(talk.find("wrong: arguments 1 and 2 of write look exchanged", finding + 1), std::string::npos) << talk;
}

TEST(KernelCalls, AStopWaitsForTheResultThatItsConditionNames) {
  const TempFolder folder;
  write_file(folder / "c.c", R"(
#include <fcntl.h>
#include <unistd.h>
int main(void) {
  int lost = open("/nowhere/at/all", O_RDONLY);
  int found = open("/dev/null", O_RDONLY);
  write(1, "eight...", 8);
  write(lost, "one", 1);
  write(1, "three", 3);
  return found < 0 || close(found);
})");
  for (const char* width : {"-m64", "-m32"}) {
    ASSERT_EQ(run({"gcc", width, "-g", "-o", folder / "c", folder / "c.c"}).status, 0);
    const auto hits = [&](const std::string& call, const std::string& when) {
      const Outcome outcome = deeptrace({"hits", "--halt", "on syscall " + call + " when " + when, "--format", "json",
                                         "--program-output", "/dev/null", folder / "c"});
      EXPECT_LE(outcome.status, 1) << outcome.err;
      std::string all;
      const nlohmann::json said = nlohmann::json::parse(outcome.out);
      for (const auto& row : said["hits"]) all += row["by"].get<std::string>() + "; ";
      return all;
    };
    EXPECT_EQ(hits("write", "result < 0"), "system call write failed: EBADF; ") << width;
    EXPECT_EQ(hits("write", "result == -9"), "system call write failed: EBADF; ") << width;
    EXPECT_EQ(hits("write", "fd == 1 && result > 3"), "system call write gave 8; ") << width;
    EXPECT_EQ(hits("write", "result != 8 && result != 1"),
              "system call write failed: EBADF; system call write gave 3; ")
        << width;
    EXPECT_EQ(hits("openat", "result == -2 && var:flags == 0"), "system call openat failed: ENOENT; ") << width;
  }
  const std::string talk =
      conversation(folder, {folder / "c"}, "halt on syscall write when result < 0\nresume\nframes\nresume\nquit\n").out;
  EXPECT_NE(talk.find("system call write failed: EBADF"), std::string::npos) << talk;
  EXPECT_NE(talk.find("c.c:8"), std::string::npos) << "the line that asked" << talk;
}

constexpr const char* kWriter = R"(
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>
int main(void) {
  int file = open("levels", O_WRONLY | O_CREAT, 0600);
  for (int i = 1; i <= 5; i++) write(i == 4 ? file : 1, "tide tide tide", i);
  errno = 0;
  int other = open("levels", O_RDONLY);
  printf("%d %s\n", other, strerror(errno));
  return 0;
}
)";

TEST(KernelCalls, ConditionsNameArguments) {
  const TempFolder folder;
  for (const char* width : {"-m64", "-m32"}) {
    const std::string program = built(folder, "writer", kWriter, {"gcc", "-g", width});
    write_file(folder / "fd.plan",
               "on syscall write when fd != 1: keep fd, count, buf\n"
               "on syscall write when count > 2 && count <= 4: keep count; expect count != 3\n"
               "on syscall openat when var:flags & O_CREAT: keep mode, var:flags\n");
    const Outcome outcome = deeptrace({"plan", "--format", "json", "--program-output", "/dev/null", "--work-dir",
                                       folder.path(), folder / "fd.plan", program});
    EXPECT_EQ(outcome.status, 1) << outcome.err;
    const Json said = Json::parse(outcome.out);
    std::vector<Json> rows = said["rows"];
    ASSERT_EQ(rows.size(), 4) << said;
    EXPECT_EQ(rows[0]["rule"], 3);
    EXPECT_EQ(rows[0]["kept"][0]["value"]["unsigned"], "384") << "0600";
    EXPECT_EQ(rows[1]["rule"], 2);
    EXPECT_EQ(rows[1]["expected"][0]["holds"], false);
    std::vector<std::string> of_fourth = {rows[2]["rule"].dump(), rows[3]["rule"].dump()};
    std::ranges::sort(of_fourth);
    EXPECT_EQ(of_fourth, (std::vector<std::string>{"1", "2"}));
    const Json& other = rows[2]["rule"] == 1 ? rows[2] : rows[3];
    EXPECT_EQ(other["kept"][1]["value"]["unsigned"], "4");
  }
}

TEST(KernelCalls, UnknownNamesInConditionsAreSaid) {
  const TempFolder folder;
  const std::string program = built(folder, "writer", kWriter);
  const std::string talk = conversation(folder, {"--work-dir", folder.path(), program},
                                        "halt on syscall write when fdd == 1\nresume\nquit\n")
                               .out;
  EXPECT_NE(talk.find("no register, variable or function of that name here; similar names: fd"), std::string::npos)
      << talk;
}

TEST(KernelCalls, AnsweredCallsAreNotMade) {
  const TempFolder folder;
  for (const char* width : {"-m64", "-m32"}) {
    const std::string program = built(folder, "writer", kWriter, {"gcc", "-g", width});
    write_file(folder / "deny.plan",
               "on syscall openat when (var:flags & O_ACCMODE) == O_RDONLY && !(var:flags & "
               "O_CLOEXEC): answer EACCES\n"
               "on syscall write when fd > 2: answer 4\n");
    const Outcome outcome = deeptrace({"plan", "--format", "json", "--program-output", folder / "out", "--work-dir",
                                       folder.path(), folder / "deny.plan", program});
    EXPECT_EQ(outcome.status, 0) << outcome.err << outcome.out;
    EXPECT_NE(read_file(folder / "out").find("-1 Permission denied"), std::string::npos) << read_file(folder / "out");
    EXPECT_EQ(read_file(folder / "levels"), "") << "what was to be written there was not";
    EXPECT_NE(outcome.out.find("\"answer\":\"EACCES\""), std::string::npos) << outcome.out;
  }
}

TEST(KernelCalls, ConsoleAnswersAndChangesArguments) {
  const TempFolder folder;
  const std::string program = exchanged(folder);
  // The first write is put right by hand, the second is not made, and gives what was said.
  const std::string talk =
      conversation(folder, {"--program-output", folder / "out", program},
                   "halt on syscall write\nresume\nset rsi = rdi\nset fd = 1\ninto\n"
                   "resume\nanswer EPIPE\ninto\nregs rax\nanswer EPIPE\nanswer nonsense\nresume\nquit\n")
          .out;
  EXPECT_EQ(read_file(folder / "out"), "level 17\n") << talk;
  EXPECT_NE(talk.find("buf \"level 17\\n\", count 9 -> 9"), std::string::npos) << talk;
  EXPECT_NE(talk.find("note: the call is not made; it gives EPIPE"), std::string::npos) << talk;
  EXPECT_NE(talk.find("count 9 -> EPIPE\n    note: the call was not made: this is what `answer` gave"),
            std::string::npos)
      << talk;
  EXPECT_NE(talk.find("0xffffffffffffffe0  signed -32"), std::string::npos) << talk;
  EXPECT_NE(talk.find("answer: the program does not stand where a system call begins"), std::string::npos) << talk;
  EXPECT_NE(talk.find("answer: is written as"), std::string::npos) << talk;
}

TEST(KernelCalls, PlansRefuseAnswersElsewhere) {
  const TempFolder folder;
  const std::string program = exchanged(folder);
  write_file(folder / "wrong.plan", "at _start: answer EPIPE\n");
  Outcome outcome = deeptrace({"plan", folder / "wrong.plan", program});
  EXPECT_EQ(outcome.status, 2);
  EXPECT_NE(outcome.err.find("expected keep, show or expect"), std::string::npos) << outcome.err;
  write_file(folder / "wrong.plan", "on syscall write: answer EPIPEE\n");
  outcome = deeptrace({"plan", folder / "wrong.plan", program});
  EXPECT_EQ(outcome.status, 2);
  EXPECT_NE(outcome.err.find("wrong.plan:1:26: expected an error's name or a number after answer"), std::string::npos)
      << outcome.err;
}

}  // namespace
}  // namespace deeptrace::tests
