// Hand-written assembly, as GNU as and NASM make it, with and without debug information, 64- and 32-bit: variables
// without types and sizes, labels as places, system calls.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "live_support.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

struct Build {
  bool nasm = false;
  bool wide = true;
  bool debug = false;
};

std::string name_of(const Build& build) {
  return std::string(build.nasm ? "Nasm" : "GnuAs") + (build.wide ? "64" : "32") + (build.debug ? "g" : "");
}

void must(const std::vector<std::string>& words) {
  const Outcome outcome = run(words);
  ASSERT_EQ(outcome.status, 0) << words[0] << ": " << outcome.err;
}

/// Assembles and links a source of that assembler.
std::string assembled(const TempFolder& folder, const Build& build, const std::string& path) {
  const std::string program = folder / name_of(build), object = program + ".o";
  if (!build.nasm) {
    std::vector<std::string> words = {
        "gcc", build.wide ? "-m64" : "-m32", "-nostdlib", "-static", "-no-pie", "-o", program, path};
    if (build.debug) words.insert(words.begin() + 1, "-g");
    must(words);
    return program;
  }
  std::vector<std::string> words = {"nasm", "-f", build.wide ? "elf64" : "elf32", "-o", object, path};
  if (build.debug) words.insert(words.begin() + 1, {"-g", "-F", "dwarf"});
  must(words);
  must({"ld", "-m", build.wide ? "elf_x86_64" : "elf_i386", "-o", program, object});
  return program;
}

std::string sluice_source(const Build& build) {
  return source(build.nasm ? "demo/sluice/sluice.asm" : "demo/sluice/sluice.S");
}

class HandWritten : public testing::TestWithParam<Build> {
 protected:
  HandWritten() : program_(assembled(folder_, GetParam(), sluice_source(GetParam()))) {}

  /// The row of one variable in `data`.
  json variable(const std::string& name) {
    const Outcome outcome = deeptrace({"data", "--format", "json", program_, name});
    EXPECT_EQ(outcome.status, 0) << outcome.err;
    return json::parse(outcome.out)["variables"][0];
  }
  /// The text of a command's answer.
  std::string text(std::vector<std::string> words, int status = 0) {
    const Outcome outcome = deeptrace(std::move(words));
    EXPECT_EQ(outcome.status, status) << outcome.err;
    return outcome.out;
  }

  TempFolder folder_;
  std::string program_;
};

INSTANTIATE_TEST_SUITE_P(All, HandWritten,
                         testing::Values(Build{false, true, false}, Build{false, true, true},
                                         Build{false, false, false}, Build{false, false, true},
                                         Build{true, true, false}, Build{true, true, true}, Build{true, false, false},
                                         Build{true, false, true}),
                         [](const auto& one) { return name_of(one.param); });

/// The source says what each one holds.
TEST_P(HandWritten, VariablesReachToTheNext) {
  const json drift = variable("drift"), tide = variable("tide"), heads = variable("heads"), banner = variable("banner");
  EXPECT_EQ(drift["size"], 1);
  EXPECT_EQ(drift["value"]["signed"], "-3");
  EXPECT_EQ(tide["size"], 2);
  EXPECT_EQ(tide["value"]["signed"], "-1200");
  EXPECT_EQ(tide["value"]["unsigned"], "64336");
  ASSERT_EQ(heads["size"], 12);
  ASSERT_EQ(heads["value"].size(), 6U);
  EXPECT_EQ(heads["value"][4]["signed"], "-9");
  EXPECT_EQ(banner["size"], 24);
  EXPECT_EQ(banner["value"]["text"], "sluice: sixteen results\n") << "without an end mark";
  EXPECT_EQ(variable("where")["value"]["target"], "heads");
  EXPECT_EQ(variable("gates")["value"]["signed"], "4");
  EXPECT_EQ(variable("upper")["value"]["text"], ".") << "46 is a printable character";
  const bool inferred =
      text({"data", program_, "heads"}).find("6 of 2 bytes, as instructions access it") != std::string::npos;
  EXPECT_EQ(inferred, !(GetParam().nasm && GetParam().debug)) << "NASM's debug information says it";
}

/// Two of the sixteen results are wrong on purpose, and nothing else is.
TEST_P(HandWritten, ThePlanFindsTheTwoWrongResults) {
  const Outcome outcome = deeptrace({"plan", "--format", "json", source("demo/sluice/sluice.plan"), program_});
  EXPECT_EQ(outcome.status, 1);
  std::vector<std::string> failed;
  std::size_t held = 0;
  const json all = json::parse(outcome.out);
  for (const json& row : all["rows"]) {
    for (const json& one : row["expected"]) {
      one["holds"].get<bool>() ? void(++held) : failed.push_back(one["expression"]);
    }
  }
  EXPECT_EQ(failed, (std::vector<std::string>{"backflow == -12", "half == -600"}));
  EXPECT_EQ(held, 14U);
}

TEST_P(HandWritten, ExpressionsTakeVariablesAsTheyStand) {
  const std::string answers = text({"hits", "--at", "done", "--keep",
                                    "heads[1], [i16 heads+2], [u8 banner], low_byte, wrapped == 64000, "
                                    "wrapped == -1536, [i16 where]",
                                    "--format", "csv", program_});
  const std::string row = answers.substr(answers.find('\n') + 1);
  EXPECT_NE(row.find(",-2,-2,115,80,1,1,"), std::string::npos) << row;
  // A number that 16 bits cannot hold can never be equal: that is an error before the run.
  const Outcome outcome = deeptrace({"hits", "--at", "done when total == 70000", program_});
  EXPECT_EQ(outcome.status, 2);
  EXPECT_NE(outcome.err.find("70000 does not fit 16 bits, the width of total"), std::string::npos) << outcome.err;
  EXPECT_EQ(
      deeptrace({"hits", "--at", "done when total < 4", program_}).out.find("write i16(total)") != std::string::npos,
      true)
      << "an order needs a sign";
  EXPECT_EQ(text({"hits", "--at", "done when i16(half) > 0", "--format", "none", program_}), "");
}

/// What is set is as wide as what is shown, and no wider.
TEST_P(HandWritten, SettingWritesTheWholeVariableAndNoMore) {
  const Outcome outcome =
      conversation(folder_, {program_},
                   "halt at done\nresume\nset drop = -2\nshow drop\nshow rise\nset rise = 70000\nset heads[1] = 300\n"
                   "show heads\nquit\n");
  EXPECT_NE(outcome.out.find("drop = 0xfffe / -2"), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find("rise = 0x6 / 6"), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find("does not fit 2 bytes"), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find("heads = [0x3 / 3, 0x12c / 300, 0x7 / 7"), std::string::npos) << outcome.out;
}

TEST_P(HandWritten, DataStopsWatchTheWholeVariable) {
  const json all = hits_of({"--on-write", "total", "--on-write", "where", program_});
  EXPECT_EQ(all["hits"].size(), 1U);
  EXPECT_EQ(all["hits"][0]["after"]["signed"], "4");
  EXPECT_EQ(all["hits"][0]["function"], GetParam().wide ? "next_head+0xf" : "next_head+0xe")
      << "the instruction that wrote";
}

TEST_P(HandWritten, LabelsArePlaces) {
  const json hits = hits_of({"--at", "done", "--at", "next_head", "--at", "_start", "--at", "report+0", program_});
  ASSERT_EQ(hits["hits"].size(), 9U);
  EXPECT_EQ(hits["hits"][0]["function"], "_start") << "hand-written code has no prologue to skip";
  EXPECT_EQ(hits["hits"][1]["function"], "next_head");
  EXPECT_EQ(hits["hits"][7]["function"], "done");
  EXPECT_EQ(hits["hits"][8]["function"], "report");
  // A frame that is set up and nothing else is a prologue; it is said.
  const std::string skipped = text({"hits", "--at", "report", program_});
  const std::string end = GetParam().wide ? "report+8" : "report+6";
  EXPECT_NE(skipped.find(end + ", after the prologue; report+0 is the first instruction"), std::string::npos)
      << skipped;
  EXPECT_EQ(hits_of({"--at", "done+5", program_})["hits"][0]["function"], "done+5");
  EXPECT_EQ(deeptrace({"hits", "--at", "done+4", program_}).status, 2) << "no instruction begins there";
}

TEST_P(HandWritten, UsesKnowTheWholeVariable) {
  const std::string uses = text({"uses", program_, "heads"});
  EXPECT_NE(uses.find("12 bytes"), std::string::npos) << uses;
  EXPECT_NE(uses.find("\n1 use\n"), std::string::npos) << uses;
}

/// Stepping that began in a called function goes on in its caller until it comes to the place.
TEST_P(HandWritten, StepsEndInACaller) {
  const Outcome outcome = deeptrace({"steps", "--from", "report", "--to", "done+0xc", "--format", "json", program_});
  ASSERT_EQ(outcome.status, 0) << outcome.err;
  const json all = json::parse(outcome.out);
  EXPECT_EQ(all["ended"], "to");
  EXPECT_EQ(all["steps"].back()["function"], "done");
  const Outcome inside = deeptrace({"steps", "--from", "report", "--to", "report+2", program_});
  EXPECT_EQ(inside.status, 2) << inside.out;
  EXPECT_NE(inside.err.find("lies inside an instruction"), std::string::npos) << inside.err;
}

/// The instruction that makes the call, with its number where the program put it.
TEST_P(HandWritten, CallsStandAtTheirInstruction) {
  const json all = hits_of({"--halt", "on syscall write", "--keep",
                            GetParam().wide ? "rax, ebx, [u8 rip, 2]" : "eax, ebx, [u8 eip, 2]", program_});
  ASSERT_EQ(all["hits"].size(), 1U) << "int 0x80 makes 32-bit calls in any code: 4 is write, and 1 is exit";
  const json any = hits_of(
      {"--halt", "on syscall any", "--keep", GetParam().wide ? "rax, [u8 rip, 2]" : "eax, [u8 eip, 2]", program_});
  ASSERT_EQ(any["hits"].size(), 2U);
  const json& kept = any["hits"][0]["kept"];
  EXPECT_EQ(kept[GetParam().wide ? "rax" : "eax"]["signed"], "4");
  const json& code = kept[GetParam().wide ? "[u8 rip, 2]" : "[u8 eip, 2]"];
  EXPECT_EQ(code[0]["hex"], "0xcd");
  EXPECT_EQ(code[1]["hex"], "0x80");
}

/// Everything of one thread by its own instruction: `syscall` overwrites two registers, and another number makes
/// another call.
TEST(SystemCalls, AreShownAsTheProgramMadeThem) {
  const TempFolder folder;
  write_file(
      folder / "a.s",
      "	.globl _start\n_start:\n	mov $0x1234, %ecx\n	mov $39, %eax\n	syscall\n	mov %eax, %r12d\n"
      "	mov $5, %edi\n	mov $60, %eax\n	syscall\n");
  const Build build;
  const std::string program = assembled(folder, build, folder / "a.s");
  const Outcome outcome =
      conversation(folder, {program},
                   "halt on syscall getpid\nresume\nshow rax\nshow rcx\nregs\ncode\nset rax = 110\ninto\nshow rax == "
                   "rax\nshow rip\nset rcx = 7\nshow rcx\nresume\n");
  EXPECT_NE(outcome.out.find("rax = 0x27 / 39"), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find("rcx: its value is not known here: the processor overwrites it at a system call"),
            std::string::npos)
      << outcome.out;
  EXPECT_NE(outcome.out.find("r11   unknown"), std::string::npos);
  EXPECT_NE(outcome.out.find("next  0x40100a  _start+0xa                   syscall"), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find("rip = 0x40100c -> _start+0xc"), std::string::npos) << "one step made the call";
  EXPECT_NE(outcome.out.find("rcx = 0x7 / 7"), std::string::npos);
  EXPECT_NE(outcome.out.find("the program ended with status 5"), std::string::npos);
  // What is not known has not changed; after the call it is known again.
  EXPECT_EQ(outcome.out.find("~ rcx                      now 0x40100c -> _start+0xc   was 0x0"), std::string::npos);
  // Number 110 is getppid, which gives the tracer's: not what getpid gives.
  EXPECT_NE(outcome.out.find("was 0x6e / 110"), std::string::npos) << outcome.out;
  EXPECT_EQ(outcome.out.find("add byte ptr [rax], al"), std::string::npos) << "nothing stands after the code";
}

/// Compiled without optimisation a parameter has its place in the frame only after the prologue; before, it is where
/// the caller put it. Locals are not there yet. The values are those of the source.
TEST(Frames, ParametersAreRightBeforeTheFrameIsSetUp) {
  const TempFolder folder;
  const std::string text =
      "int weigh(int a, long b, double c, short d, int e, int f, int g, int h) {\n"
      "  int own = a + 1;\n  return own + (int)b + (int)c + d + e + f + g + h;\n}\n"
      "int main(void) { return weigh(-11, -12, 1.5, -14, 15, 16, -17, 18) & 0; }\n";
  for (const char* compiler : {"gcc", "clang"}) {
    for (const char* width : {"-m64", "-m32"}) {
      const std::string program =
          built(folder, std::string("a") + compiler + width, text, {compiler, "-g", "-O0", "-w", width});
      const Outcome listing = deeptrace({"listing", "--format", "json", program, "weigh"});
      ASSERT_EQ(listing.status, 0) << listing.err;
      std::vector<std::string> words;
      const json listed = json::parse(listing.out);
      for (const json& row : listed["functions"][0]["instructions"]) {
        words.insert(words.end(), {"--at", "weigh+" + std::to_string(row["offset"].get<std::uint64_t>())});
      }
      words.insert(words.end(), {"--keep", "a, b, c, d, e, f, g, h, own", program});
      bool early = false, late = false;
      const json all = hits_of(words);
      for (const json& hit : all["hits"]) {
        const json& kept = hit["kept"];
        const auto is = [&](const char* name, const char* value) {
          if (kept[name].contains("unknown")) return;  // said, and no wrong number
          const json& number = kept[name].contains("signed") ? kept[name]["signed"] : kept[name]["text"];
          EXPECT_EQ(std::string(name) == "c" ? kept[name]["text"] : number, value)
              << compiler << width << " " << hit["function"] << " " << name;
        };
        is("a", "-11");
        is("b", "-12");
        is("c", "1.5");
        is("d", "-14");
        is("e", "15");
        is("f", "16");
        is("g", "-17");
        is("h", "18");
        const bool first = hit["function"] == "weigh";
        early |= first && kept["own"].contains("unknown") && !kept["a"].contains("unknown") &&
                 !kept["g"].contains("unknown");
        late |= kept["own"].contains("signed") && kept["own"]["signed"] == "-10" && !kept["a"].contains("unknown");
      }
      EXPECT_TRUE(early) << compiler << width << ": parameters at the first instruction, and no local";
      EXPECT_TRUE(late) << compiler << width << ": everything in the body";
    }
  }
}

/// A program that waits for input says so, shows its prompt, and can be looked at meanwhile; when a script has no more
/// the input ends.
TEST(Waiting, ForInputEndsAMotion) {
  const TempFolder folder;
  const std::string program = built(folder, "gate",
                                    "#include <stdio.h>\nint total;\nint main(void) {\n  int n;\n  for (;;) {\n"
                                    "    printf(\"gate? \");\n    fflush(stdout);\n    if (scanf(\"%d\", &n) != 1) "
                                    "break;\n    total += n;\n  }\n  return total;\n}\n");
  const auto talk = [&](const std::string& path, const std::string& words) {
    return conversation(folder, {path}, words);
  };
  const Outcome outcome = talk(program, "resume\nsend 4\nresume\nshow total\nsend 5\nresume\n");
  EXPECT_EQ(outcome.status, 0) << outcome.out << outcome.err;
  EXPECT_NE(outcome.out.find("program wrote \"gate? \""), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find("note: the program waits for input: send TEXT"), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find(", for main+"), std::string::npos) << "the own line that called";
  EXPECT_NE(outcome.out.find("total = 0x4 / 4"), std::string::npos) << outcome.out;
  EXPECT_NE(outcome.out.find("the program ended with status 9"), std::string::npos) << "the end of input was sent";

  // Its output may go elsewhere.
  const Outcome apart = conversation(folder, {"--program-output", folder / "written", program},
                                     "resume\nsend 4\nresume\nsend 5\nresume\n");
  EXPECT_NE(apart.out.find("the program ended with status 9"), std::string::npos) << apart.out << apart.err;
  EXPECT_EQ(apart.out.find("program wrote"), std::string::npos) << apart.out;
  EXPECT_EQ(read_file(folder / "written"), "gate? gate? gate? ");

  // By poll and by select as well; one that goes on waiting at the end of input is given up, not waited for.
  for (const char* wait : {"struct pollfd p = {0, POLLIN, 0}; poll(&p, 1, -1);",
                           "fd_set s; FD_ZERO(&s); FD_SET(0, &s); select(1, &s, 0, 0, 0);"}) {
    const std::string stubborn = built(
        folder, "stubborn",
        std::string("#include <poll.h>\n#include <sys/select.h>\n#include <unistd.h>\nint main(void) {\n  char c;\n"
                    "  for (;;) {\n    ") +
            wait + "\n    if (read(0, &c, 1) == 1 && c == 'q') return 3;\n  }\n}\n");
    EXPECT_NE(talk(stubborn, "resume\nresume\nsend x\nresume\nsend q\nresume\n").out.find("ended with status 3"),
              std::string::npos);
    const Outcome left = talk(stubborn, "resume\n");
    EXPECT_EQ(left.status, 4) << left.out;
    EXPECT_NE(left.err.find("still waits for input"), std::string::npos) << left.err;
  }
}

/// A call that waits stands at its instruction, with the registers as the program had them; the step is made when there
/// is input, and leaves nothing of itself.
TEST(Waiting, ACallStandsAtItsInstruction) {
  const TempFolder folder;
  write_file(folder / "ask.s", R"(.globl _start, ask, after
.bss
room: .skip 16
.text
#ifdef __x86_64__
_start: xor %eax, %eax
  xor %edi, %edi
  lea room(%rip), %rsi
  mov $16, %edx
ask: syscall
after: mov %eax, %edi
  mov $60, %eax
  syscall
#else
_start: mov $3, %eax
  xor %ebx, %ebx
  mov $room, %ecx
  mov $16, %edx
ask: int $0x80
after: mov %eax, %ebx
  mov $1, %eax
  int $0x80
#endif
)");
  for (const char* width : {"-m64", "-m32"}) {
    const bool wide = std::string(width) == "-m64";
    const std::string program = folder / (std::string("ask") + width);
    ASSERT_EQ(
        run({"gcc", width, "-nostdlib", "-static", "-x", "assembler-with-cpp", "-o", program, folder / "ask.s"}).status,
        0);
    const std::string number = wide ? "rax" : "eax";
    const Outcome outcome =
        conversation(folder, {program},
                     "to ask\nover\nshow " + number + "\n" + (wide ? "regs\n" : "") + "send tide\nover\nshow " +
                         number + "\n" + (wide ? "show r11 - rflags\n" : "") + "memory room as u8 5\nresume\n");
    EXPECT_NE(outcome.out.find("note: the program waits for input: send TEXT\nask\n"), std::string::npos)
        << outcome.out;
    EXPECT_NE(outcome.out.find(number + (wide ? " = 0x0 / 0" : " = 0x3 / 3")), std::string::npos) << outcome.out;
    EXPECT_NE(outcome.out.find(number + " = 0x5 / 5"), std::string::npos) << outcome.out;
    EXPECT_EQ(outcome.out.find("0xfffffe00"), std::string::npos) << "the kernel's own numbers";
    if (wide) {  // the table of 32-bit calls does not say yet where they write
      EXPECT_NE(outcome.out.find("room          now 74 69 64 65 0a   was 00 00 00 00 00\n"), std::string::npos)
          << "what the kernel wrote: " << outcome.out;
      EXPECT_NE(outcome.out.find("rcx   unknown"), std::string::npos) << outcome.out;
      EXPECT_NE(outcome.out.find("r11 - rflags = 0x0"), std::string::npos) << "the step's trap flag";
    }
    EXPECT_NE(outcome.out.find("ended with status 5"), std::string::npos) << outcome.out;
  }
}

TEST(Waiting, AMotionThatItEndedIsTakenUpAgain) {
  const TempFolder folder;
  const std::string program = built(folder, "asking", R"(#include <stdio.h>
#include <string.h>
static int ask(void) {
  char line[80];
  if (fgets(line, sizeof line, stdin) == NULL)
    return -1;
  return (int)strlen(line);
}
int main(void) {
  int first = ask();
  int second = ask();
  return first + second;
}
)");
  const auto talk = [&](const std::string& words) { return conversation(folder, {program}, words).out; };
  const auto has = [](const std::string& text, const char* part) { return text.find(part) != std::string::npos; };
  const std::string lines = talk("halt at ask\nresume\nline 2\nsend tide\nline\nshow line\nresume\nout\nsend x\nout\n");
  EXPECT_TRUE(has(lines, "ask+")) << lines;
  EXPECT_FALSE(has(lines, "asking.c:7\n")) << "the second line was asked for: " << lines;
  EXPECT_TRUE(has(lines, "asking.c:8\n")) << lines;
  EXPECT_TRUE(has(lines, "line = \"tide\\n\"")) << lines;
  EXPECT_TRUE(has(lines, "ask returned 0x2 / 2")) << lines;
  // One that is not taken up does not keep another from its own beginning.
  const std::string others = talk("halt at ask once\nresume\nout\nsend tide\nline\nto asking.c:7\nout\n");
  EXPECT_TRUE(has(others, "ask returned 0x5 / 5")) << others;
}

}  // namespace
}  // namespace deeptrace::tests
