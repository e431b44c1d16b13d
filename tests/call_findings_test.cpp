// Findings about system calls: each mistake in a program of its own, and its twin without it in which nothing is found.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>
#include <set>

#include "live_support.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

constexpr const char* kExit64 = "mov edi, 0\nmov eax, 60\nsyscall\n";
constexpr const char* kExit32 = "mov ebx, 0\nmov eax, 1\nint 0x80\n";

/// A program in assembly: what it does, then its exit and its text.
std::string assembly(const std::string& body, const std::string& end = kExit64) {
  return ".intel_syntax noprefix\n.globl _start\n_start:\n" + body + end +
         ".data\nname: .asciz \"Grayling Sound\\n\"\npath: .asciz \"readings.txt\"\nroom: .zero 64\n";
}
constexpr const char* kHeaders = R"(
#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>
static char levels[8];
)";

struct Mistake {
  const char* what;
  std::string kind, wrong, right;
  std::vector<std::string> options;  ///< of the compiler
  std::string said, evidence;        ///< parts of the finding
  bool assembly = true;
};

const std::vector<std::string> kStatic = {"-nostdlib", "-static", "-no-pie"};
const std::vector<std::string> kPie = {"-nostdlib", "-static-pie"};
const std::vector<std::string> kNarrow = {"-nostdlib", "-static", "-no-pie", "-m32"};

/// "mov edi, 1; mov eax, 4" and the like, a line an instruction.
std::string lines(std::string text) {
  for (std::size_t at = text.find("; "); at != std::string::npos; at = text.find("; ", at)) text.replace(at, 2, "\n");
  return text + "\n";
}

std::vector<Mistake> mistakes() {
  const std::string write64 = lines("mov edi, 1; lea rsi, [rip+name]; mov edx, 15; mov eax, 1; syscall");
  const std::string write32 = lines("mov ebx, 1; mov ecx, offset name; mov edx, 15; mov eax, 4; int 0x80");
  const std::string open64 = lines("lea rdi, [rip+path]; mov esi, 0102; mov edx, 0644; mov eax, 2; syscall");
  const std::string close_it = lines("mov edi, eax; mov eax, 3; syscall");
  const auto c = [](const std::string& body) { return kHeaders + ("int main(void) {\n" + body + "return 0;\n}\n"); };
  const std::string socket =
      "struct sockaddr_in to = {.sin_family = AF_INET};\nint s = socket(AF_INET, SOCK_STREAM, 0);\n";
  const std::string none = "(struct sockaddr *)&to";
  return {
      {"two registers, 64 bits", "exchanged_arguments",
       assembly(lines("lea rdi, [rip+name]; mov esi, 1; mov edx, 15; mov eax, 1; syscall")), assembly(write64), kStatic,
       "arguments 1 and 2 of write look exchanged", "rsi was set"},
      {"address and size", "exchanged_arguments",
       assembly(lines("mov edi, 1; mov esi, 15; lea rdx, [rip+name]; mov eax, 1; syscall")), assembly(write64), kPie,
       "arguments 2 and 3 of write", "there should be an address"},
      {"three in a circle", "exchanged_arguments",
       assembly(lines("mov edx, 1; mov edi, 15; lea rsi, [rip+name]; xchg rdi, rsi; mov eax, 1; syscall")),
       assembly(write64), kStatic, "arguments 1, 2 and 3 of write", "a descriptor"},
      {"two registers, 32 bits", "exchanged_arguments",
       assembly(lines("mov ebx, 1; mov edx, offset name; mov ecx, 15; mov eax, 4; int 0x80"), kExit32),
       assembly(write32, kExit32), kNarrow, "arguments 2 and 3 of write", "ecx was set"},
      {"write by the number of 32-bit programs", "other_numbering",
       assembly(lines("mov edi, 1; lea rsi, [rip+name]; mov edx, 15; mov eax, 4; syscall")), assembly(write64), kStatic,
       "4 is write only by int 0x80; by syscall it is stat", "by syscall write is 1"},
      {"open by the number of 32-bit programs", "other_numbering",
       assembly(lines("lea rdi, [rip+path]; mov esi, 0102; mov edx, 0644; mov eax, 5; syscall")),
       assembly(open64 + close_it), kStatic, "5 is open only by int 0x80; by syscall it is fstat", "path"},
      {"a number for an address", "bad_address",
       assembly(lines("mov edi, 1; mov esi, 5; mov edx, 4; mov eax, 1; syscall")), assembly(write64), kStatic,
       "argument 2 (buf, rsi) is", "esi"},
      {"half an address", "bad_address",
       assembly(lines("mov edi, 1; lea rsi, [rip+name]; mov esi, esi; mov edx, 15; mov eax, 1; syscall")),
       assembly(write64), kPie, "argument 2 (buf, rsi) is", "the upper half was lost"},
      {"read into text that is not to be written", "bad_address",
       assembly(open64 +
                lines("mov ebx, eax; mov edi, 1; mov esi, 8; mov eax, 77; mov edi, ebx; syscall; mov edi, ebx; "
                      "lea rsi, [rip+_start]; mov edx, 8; mov eax, 0; syscall; mov eax, ebx") +
                close_it),
       assembly(open64 +
                lines("mov ebx, eax; mov edi, ebx; lea rsi, [rip+room]; mov edx, 8; mov eax, 0; syscall; mov "
                      "eax, ebx") +
                close_it),
       kStatic, "where the kernel writes", ""},
      {"no exit", "ran_past_the_end", assembly(write64, ""), assembly(write64), kStatic, "no exit call was made",
       "the last call was write"},
      {"an exit of the other numbering", "ran_past_the_end",
       assembly(write32, lines("mov ebx, 0; mov eax, 60; int 0x80")), assembly(write32, kExit32), kNarrow,
       "control ran past the end", "60 is exit only by syscall"},
      {"a descriptor that never was, and a count that could be one",
       "not_open",
       c("write(99, levels, 1);\n"),
       c("write(1, levels, 1);\n"),
       {"-g"},
       "argument 1 (fd, rdi) is 99",
       "",
       false},
      {"a length beyond the next label", "length_beyond_variable",
       assembly(lines("mov edi, 1; lea rsi, [rip+name]; mov edx, 60; mov eax, 1; syscall")), assembly(write64), kStatic,
       "argument 3 (count, rdx) is 60, and name has 16 bytes from there on", "where the next label stands"},
      {"a local array is shorter than what is written",
       "length_beyond_variable",
       c("char small[4] = \"abc\";\nwrite(1, small + 1, 12);\n"),
       c("char small[4] = \"abc\";\nwrite(1, small + 1, 3);\n"),
       {"-g"},
       "argument 3 (count, rdx) is 12, and small has 3 bytes from there on",
       "",
       false},
      {"what is read runs over an array",
       "length_beyond_variable",
       c("int f = open(\"/dev/zero\", O_RDONLY);\nread(f, levels, 24);\nclose(f);\n"),
       c("int f = open(\"/dev/zero\", O_RDONLY);\nread(f, levels, 8);\nclose(f);\n"),
       {"-g"},
       "argument 3 (count, rdx) is 24, and levels has 8 bytes",
       "16 bytes after it were overwritten",
       false},
      {"nothing looks at what a raw call gave", "result_not_read",
       assembly(lines("lea rdi, [rip+path]; mov esi, 0x10000; mov edx, 0; mov eax, 2; syscall")),
       assembly(lines("lea rdi, [rip+path]; mov esi, 0x10000; mov edx, 0; mov eax, 2; syscall; test eax, eax")),
       kStatic, "open failed with ENOENT, and nothing looks at its result", "`mov eax, 0x3c` at _start+"},
      {"nothing looks at what the library gave",
       "result_not_read",
       c("open(\"nothing here\", O_RDONLY);\nwrite(1, levels, 1);\n"),
       c("if (open(\"nothing here\", O_RDONLY) < 0) write(1, levels, 1);\n"),
       {"-g"},
       "openat failed with ENOENT",
       "is next to use its register",
       false},
      {"used after it was closed",
       "used_after_close",
       c("int f = open(\"readings.txt\", O_RDWR | O_CREAT, 0644);\nclose(f);\nwrite(f, levels, 8);\n"),
       c("int f = open(\"readings.txt\", O_RDWR | O_CREAT, 0644);\nwrite(f, levels, 8);\nclose(f);\n"),
       {"-g"},
       "no descriptor of that number is open",
       "(close, at main",
       false},
      {"the result of open is not looked at",
       "result_not_checked",
       c("int f = open(\"nothing here\", O_RDONLY);\nread(f, levels, 8);\n"),
       c("int f = open(\"nothing here\", O_RDONLY);\nif (f >= 0) read(f, levels, 8);\n"),
       {"-g"},
       "is -1",
       "failed with ENOENT, and the library returned -1",
       false},
      {"a letter is missing",
       "near_path",
       c("int f = open(\"/usr/inclde/stdio.h\", O_RDONLY);\nif (f >= 0) close(f);\n"),
       c("int f = open(\"/usr/include/stdio.h\", O_RDONLY);\nif (f >= 0) close(f);\n"),
       {"-g"},
       "there is no \"inclde\" here, but there is \"include\"",
       "/usr/inclde/stdio.h",
       false},
      {"a port without htons",
       "byte_order",
       c(socket + "to.sin_port = 8080;\nto.sin_addr.s_addr = htonl(INADDR_LOOPBACK);\nconnect(s, " + none +
         ", sizeof to);\nclose(s);\n"),
       c(socket + "to.sin_port = htons(1);\nto.sin_addr.s_addr = htonl(INADDR_LOOPBACK);\nif (connect(s, " + none +
         ", sizeof to) < 0) close(s);\n"),
       {"-g"},
       "with its bytes exchanged it is 8080",
       "htons",
       false},
      {"an address without htonl",
       "byte_order",
       c(socket + "to.sin_addr.s_addr = INADDR_LOOPBACK;\nbind(s, " + none + ", sizeof to);\nclose(s);\n"),
       c(socket + "to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);\nbind(s, " + none + ", sizeof to);\nclose(s);\n"),
       {"-g"},
       "it is 127.0.0.1",
       "htonl",
       false},
      {"the size of a pointer",
       "structure_too_short",
       c(socket + "struct sockaddr_in *at = &to;\nbind(s, (void *)at, sizeof at);\nclose(s);\n"),
       c(socket + "bind(s, " + none + ", sizeof to);\nclose(s);\n"),
       {"-g"},
       "sockaddr_in has 16 bytes",
       "",
       false},
      {"never closed",
       "never_closed",
       c("for (int i = 0; i < 3; i++)\nopen(\"/usr/include/stdio.h\", O_RDONLY);\n"),
       c("for (int i = 0; i < 3; i++)\nclose(open(\"/usr/include/stdio.h\", O_RDONLY));\n"),
       {"-g"},
       "3 descriptors that openat opened at main",
       "/usr/include/stdio.h",
       false},
      {"byte by byte",
       "single_bytes",
       c("int f = open(\"/dev/null\", O_WRONLY);\nfor (int i = 0; i < 100; i++) write(f, levels, 1);\nclose(f);\n"),
       c("int f = open(\"/dev/null\", O_WRONLY);\nfor (int i = 0; i < 100; i++) write(f, levels, 2);\nclose(f);\n"),
       {"-g"},
       "64 calls of write in a row here are for one byte each",
       "",
       false},
  };
}

json findings_of(const TempFolder& folder, const std::string& program) {
  const Outcome outcome = deeptrace({"syscalls", "--format", "json", "--work-dir", folder.path(), program});
  return json::parse(outcome.out)["findings"];
}

std::string program_of(const TempFolder& folder, const std::string& text, const Mistake& mistake) {
  const std::string source = folder / (mistake.assembly ? "a.s" : "a.c"), program = folder / "program";
  write_file(source, text);
  std::vector<std::string> words = {"gcc", "-w", "-o", program, source};
  words.insert(words.end(), mistake.options.begin(), mistake.options.end());
  const Outcome made = run(words);
  EXPECT_EQ(made.status, 0) << mistake.what << "\n" << made.err;
  return program;
}

TEST(CallFindings, EachMistakeIsFoundAndItsTwinIsSilent) {
  for (const Mistake& mistake : mistakes()) {
    const TempFolder folder;
    const json found = findings_of(folder, program_of(folder, mistake.wrong, mistake));
    ASSERT_FALSE(found.empty()) << mistake.what;
    EXPECT_EQ(found[0]["kind"], mistake.kind) << mistake.what << "\n" << found;
    EXPECT_EQ(found.size(), 1U) << mistake.what << "\n" << found;
    EXPECT_NE(found[0]["text"].get<std::string>().find(mistake.said), std::string::npos) << mistake.what << "\n"
                                                                                         << found;
    EXPECT_NE(found[0]["evidence"].dump().find(mistake.evidence), std::string::npos) << mistake.what << "\n" << found;
    EXPECT_EQ(findings_of(folder, program_of(folder, mistake.right, mistake)), json::array()) << mistake.what;
  }
}

TEST(CallFindings, TheDemosMistakes) {
  const Outcome beacon = deeptrace({"syscalls", demo("beacon32")});
  EXPECT_EQ(beacon.status, 0) << beacon.err;
  EXPECT_NE(beacon.out.find("wrong: arguments 2 and 3 of write look exchanged"), std::string::npos) << beacon.out;
  EXPECT_NE(beacon.out.find("60 is exit only by syscall"), std::string::npos) << beacon.out;
  const TempFolder folder;
  const Outcome relay = deeptrace({"syscalls", "--children", "trace", "--format", "json", demo("relay"), "turned"});
  const json found = json::parse(relay.out)["findings"];
  ASSERT_EQ(found.size(), 1U) << found;
  EXPECT_EQ(found[0]["kind"], "byte_order");
  EXPECT_NE(found[0]["evidence"].dump().find("somebody listens at port"), std::string::npos) << found;
  const Outcome right = deeptrace({"syscalls", "--children", "trace", "--format", "json", demo("relay")});
  EXPECT_EQ(json::parse(right.out)["findings"], json::array());
}

TEST(CallFindings, WhatWasNotTracedIsNotJudged) {
  // Whether something was closed is not known where close(2) is left out.
  const TempFolder folder;
  const std::string program =
      built(folder, "kept", std::string(kHeaders) + "int main(void) { close(open(\"/dev/null\", O_RDONLY)); }\n",
            {"gcc", "-g"});
  for (const std::vector<std::string>& words : {std::vector<std::string>{"--only", "openat"}, {"--except", "close"}}) {
    std::vector<std::string> all = {"syscalls", "--format", "json"};
    all.insert(all.end(), words.begin(), words.end());
    all.push_back(program);
    EXPECT_EQ(json::parse(deeptrace(all).out)["findings"], json::array());
  }
}

}  // namespace
}  // namespace deeptrace::tests
