// Core files: against the stopped process that they were written of, and made up byte by byte.
#include <gtest/gtest.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fstream>
#include <nlohmann/json.hpp>
#include <regex>
#include <sstream>

#include "abi/signal_names.h"
#include "base/number.h"
#include "cli/talk.h"
#include "corefile/core_file.h"
#include "fake_core.h"
#include "live_support.h"
#include "session/core_of.h"
#include "session/dead_program.h"
#include "state/extended_area.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using control::Control;
using corefile::CoreFile;
using session::DeadProgram;
using state::Reg;

// ---- the same program, stopped and dead -----------------------------------------------------------------------------

/// Builds tests/programs/leaving.c; nothing where the compiler is not here.
void build(const std::filesystem::path& program, const std::vector<std::string>& compiler) {
  std::vector<std::string> words = compiler;
  for (const std::string& word :
       {std::string("-pthread"), source("tests/programs/leaving.c"), std::string("-o"), program.string()})
    words.push_back(word);
  const Outcome built = run(words);
  ASSERT_EQ(built.status, 0) << built.err;
}

struct Answers {
  std::vector<std::string> words, texts;
};

/// What the words that look say of every thread; of the innermost frames of the first one all variables.
Answers looked_at(look::Subject& subject, const look::Stopped& stopped) {
  program::SourceText sources;
  cli::Talk talk(subject, stopped, report::Style{}, sources);
  Answers answers;
  const auto say = [&](const std::string& word) {
    std::string text;
    for (const std::string& line : talk.say(word).lines) text += line + "\n";
    answers.words.push_back(word);
    answers.texts.push_back(std::move(text));
  };
  say("modules");
  say("threads");
  for (std::size_t thread = subject.target().threads().size(); thread > 0; --thread) {
    say("in thread " + std::to_string(thread));
    for (const char* word : {"regs", "regs all", "flags", "stack 32", "frames", "vars", "code", "why", "show of_thread",
                             "memory rsp as code"})
      say(word);
  }
  for (const char* frame : {"in frame 1", "in frame 2"}) {
    say(frame);
    for (const char* word : {"vars", "regs", "show *reading"}) say(word);
  }
  for (const char* word :
       {"in frame 0", "show readings", "memory readings as fields", "memory readings", "memory &readings as u32",
        "memory factor as bits", "show factor", "find \"Grayling\" in readings[0].station..readings[0].station+64",
        "code deepest", "type struct reading", "memory 16", "show *(int *)0", "show arg(1)", "show caller",
        "memory deepest as code", "follow readings[1].level", "show no_such_name"})
    say(word);
  return answers;
}

/// A core file does not say which of the memory without a file is the heap.
std::string without_heap(const std::string& text) {
  std::string result;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    const bool region = line.find("  heap") != std::string::npos || line.find("  mapped memory") != std::string::npos;
    if (region) line = std::regex_replace(line, std::regex("  (heap|mapped memory) *"), "  memory ");
    result += line + "\n";
  }
  return result;
}

/// The file that the kernel wrote of a process in a folder; empty where it writes none there.
std::filesystem::path core_in(const std::filesystem::path& folder) {
  for (const auto& entry : std::filesystem::directory_iterator(folder))
    if (entry.path().filename().string().find("core") != std::string::npos) return entry.path();
  return {};
}

/// Where the threads stand.
std::vector<std::uint64_t> places(const state::Target& target) {
  std::vector<std::uint64_t> result;
  for (const state::ThreadId thread : target.threads()) result.push_back(target.view(thread).registers()[Reg::rip]);
  return result;
}

/// One program's end, looked at from both sides.
struct End {
  look::Stopped stopped;
  Answers live;
  std::vector<std::uint64_t> places;
  std::filesystem::path core;  ///< empty: the kernel wrote none
  std::filesystem::path ours;  ///< that we wrote
};

/// Stops a program where a signal is about to end it, looks at it, and lets it go: the kernel writes its core file.
void end_of(const std::string& program, const std::string& kind, const std::filesystem::path& folder, End& end) {
  std::filesystem::remove_all(folder);
  std::filesystem::create_directory(folder);
  control::ControlOptions options;
  options.launch.program = program;
  options.launch.arguments = {kind, source("CMakeLists.txt")};
  options.launch.folder = folder;
  auto control = Control::start(options);
  ASSERT_TRUE(control) << control.error().message;
  const auto stopped = (*control)->go({});
  ASSERT_TRUE(stopped && stopped->why == look::Stopped::Why::signal) << kind;
  const pid_t pid = (*control)->process().pid();
  // Chosen anew, so that nothing is known of the way there, as in a core file.
  ASSERT_TRUE((*control)->choose_thread(static_cast<std::uint64_t>(stopped->thread)));
  end.stopped = *stopped;
  end.stopped.at_start = true;
  end.live = looked_at(**control, end.stopped);
  end.ours = folder / "ours";
  const auto written = session::write_core_of(**control, end.ours);
  ASSERT_TRUE(written) << written.error().message;
  EXPECT_EQ(written->bytes, std::filesystem::file_size(end.ours));
  EXPECT_EQ(session::write_core_of(**control, end.ours).error().fault, Fault::usage) << "it exists";
  end.places = places((*control)->target());
  (*control)->detach();
  int status = 0;
  ::waitpid(pid, &status, 0);
  ASSERT_TRUE(WIFSIGNALED(status) && WTERMSIG(status) == stopped->number) << kind;
  end.core = core_in(folder);
}

/// A core file that was written of a program at a stop says what the program said.
void expect_same(DeadProgram& dead, const End& end, const std::string& kind) {
  EXPECT_EQ(dead.stopped().number, end.stopped.number);
  EXPECT_EQ(dead.stopped().fault_address, end.stopped.fault_address);
  EXPECT_EQ(dead.stopped().fault_address_known, end.stopped.fault_address_known);
  EXPECT_EQ(dead.stopped().notes, std::vector<std::string>());
  const Answers answers = looked_at(dead, dead.stopped());
  ASSERT_EQ(answers.texts.size(), end.live.texts.size());
  for (std::size_t i = 0; i < answers.texts.size(); ++i)
    EXPECT_EQ(without_heap(answers.texts[i]), without_heap(end.live.texts[i])) << kind << ": " << end.live.words[i];
}

class Cores : public ::testing::TestWithParam<std::vector<std::string>> {};

TEST_P(Cores, SayWhatTheStoppedProcessSaid) {
  const TempFolder folder;
  const std::string program = folder / "leaving";
  ASSERT_NO_FATAL_FAILURE(build(program, GetParam()));
  rlimit before{};
  ::getrlimit(RLIMIT_CORE, &before);
  const rlimit most{before.rlim_max, before.rlim_max};
  ::setrlimit(RLIMIT_CORE, &most);
  std::size_t compared = 0;
  for (const std::string kind : {"s", "d", "i", "a", "g"}) {
    End end;
    std::unique_ptr<DeadProgram> dead;
    // A thread that is let go begins its system call again; where the end came before that, it stands elsewhere.
    for (int attempt = 0; attempt < 20; ++attempt) {
      ASSERT_NO_FATAL_FAILURE(end_of(program, kind, folder / kind, end));
      auto ours = DeadProgram::open(end.ours, "", {});
      ASSERT_TRUE(ours) << ours.error().message;
      if (attempt == 0) expect_same(**ours, end, kind + ", our file");
      if (end.core.empty()) break;
      auto opened = DeadProgram::open(end.core, "", {});
      ASSERT_TRUE(opened) << opened.error().message;
      dead = std::move(*opened);
      if (places(dead->target()) == end.places) break;
    }
    if (!dead) continue;
    expect_same(*dead, end, kind);
    compared += end.live.texts.size();
    // Of a file that was mapped as such, the kernel keeps nothing.
    program::SourceText sources;
    cli::Talk talk(*dead, dead->stopped(), report::Style{}, sources);
    const cli::Answer chart = talk.say("memory chart + 0 as u32");
    ASSERT_TRUE(chart.failed);
    EXPECT_NE(chart.lines[0].find("was mapped, but is not in the core file"), std::string::npos) << chart.lines[0];
    EXPECT_NE(talk.say("show *chart").lines[0].find("was mapped, but"), std::string::npos);
    EXPECT_TRUE(talk.say("resume").failed);
    const nlohmann::json survey =
        nlohmann::json::parse(deeptrace({"survey", end.core, "--format", "json"}).out)["files"][0]["core"];
    EXPECT_EQ(survey["program"], program);
    EXPECT_EQ(survey["signal"], abi::signal_name(end.stopped.number));
    EXPECT_EQ(survey["threads"].size(), 8u);
    EXPECT_EQ(survey["threads"][0]["signalled"], true);
    EXPECT_EQ(survey["threads"][7]["address"], hex_text(end.places[7]));
  }
  ::setrlimit(RLIMIT_CORE, &before);
  if (compared == 0) GTEST_SKIP() << "the kernel of this machine writes no core files here";
}

INSTANTIATE_TEST_SUITE_P(All, Cores,
                         ::testing::Values(std::vector<std::string>{"gcc", "-g", "-O1"},
                                           std::vector<std::string>{"gcc", "-g", "-O0", "-m32"},
                                           std::vector<std::string>{"gcc", "-g", "-O2", "-static"},
                                           std::vector<std::string>{"gcc", "-g", "-O0", "-no-pie"},
                                           std::vector<std::string>{"clang", "-g", "-O1"},
                                           std::vector<std::string>{"clang", "-g", "-O2", "-m32", "-fno-pie",
                                                                    "-no-pie"}));

// ---- made up --------------------------------------------------------------------------------------------------------

std::vector<std::uint64_t> numbered(std::size_t count) {
  std::vector<std::uint64_t> result;
  for (std::size_t i = 0; i < count; ++i) result.push_back(0x100 + i);
  return result;
}

/// A program of the assembler's and linker's alone, with or without an identity.
std::string small_program(const TempFolder& folder, const std::string& name, const std::string& mode,
                          const std::string& text, bool identity) {
  write_file(folder / (name + ".s"), ".globl _start\n_start: " + text + "\n.data\nlevel: .long 5\n");
  const Outcome assembled = run({"as", "--" + mode, folder / (name + ".s"), "-o", folder / (name + ".o")});
  EXPECT_EQ(assembled.status, 0) << assembled.err;
  const Outcome linked =
      run({"ld", "-m", mode == "64" ? "elf_x86_64" : "elf_i386", identity ? "--build-id" : "--build-id=none",
           folder / (name + ".o"), "-o", folder / name});
  EXPECT_EQ(linked.status, 0) << linked.err;
  return folder / name;
}

std::vector<std::uint8_t> bytes_of(const std::string& path) {
  const std::string text = read_file(path);
  return {text.begin(), text.end()};
}

/// A core file of such a program: the first page of its file, and one thread.
FakeCore core_of(const std::string& program, bool wide) {
  FakeCore core(wide);
  core.thread(70, numbered(wide ? 27 : 17));
  core.process(70, "prog");
  core.signal(11, 1, 0x1234);
  const auto elf = binary::Elf::open(program);
  EXPECT_TRUE(elf);
  core.auxiliary({{9, elf->entry()}});
  std::vector<std::uint8_t> start = bytes_of(program);
  start.resize(4096);
  std::vector<FakeCore::File> files;
  for (const binary::Segment& segment : elf->segments()) {
    if (segment.type != binary::kLoadSegment) continue;
    const std::uint64_t from = segment.address / 4096 * 4096, size = 4096;
    core.memory.push_back({from, segment.offset == 0 ? start : std::vector<std::uint8_t>(), size, segment.flags});
    files.push_back({from, from + size, segment.offset / 4096, program});
  }
  core.files(files);
  return core;
}

std::unique_ptr<CoreFile> opened(const FakeCore& core, const TempFolder& folder, const std::string& program = "") {
  core.write(folder / "made");
  auto result = CoreFile::open(folder / "made", program);
  EXPECT_TRUE(result) << result.error().message;
  return result ? std::move(*result) : nullptr;
}

TEST(CoreNotes, RegistersOfBothWidthsGoWhereTheyBelong) {
  const TempFolder folder;
  // <asm/user_64.h>: r15 is the first, orig_rax the sixteenth, gs the last.
  const auto wide = opened(core_of(small_program(folder, "wide", "64", "ret", true), true), folder);
  const state::RegisterSet& r = wide->view(70).registers();
  const std::pair<Reg, std::uint64_t> expected[] = {
      {Reg::r15, 0}, {Reg::rbp, 4},     {Reg::rbx, 5},  {Reg::rax, 10}, {Reg::rdi, 14},     {Reg::rip, 16},
      {Reg::cs, 17}, {Reg::rflags, 18}, {Reg::rsp, 19}, {Reg::ss, 20},  {Reg::fs_base, 21}, {Reg::gs_base, 22},
      {Reg::ds, 23}, {Reg::es, 24},     {Reg::fs, 25},  {Reg::gs, 26}};
  for (const auto& [reg, place] : expected) EXPECT_EQ(r[reg], 0x100 + place) << state::name_of(reg);
  EXPECT_EQ(wide->auxiliary(state::Auxiliary::linker_base), std::nullopt);
  const auto signal = wide->pending_signal(70);
  ASSERT_TRUE(signal);
  EXPECT_EQ(signal->number, 11);
  EXPECT_EQ(signal->fault_address, 0x1234u);
  // <asm/user_32.h>: ebx first, orig_eax the twelfth, ss the last. The base of gs is a note of its own.
  FakeCore core = core_of(small_program(folder, "narrow", "32", "ret", true), false);
  Blob areas;
  areas.number(0x110 >> 3, 4).number(0xf7001000, 4).number(0xfffff, 4).number(0x51, 4);
  core.note("LINUX", 0x200, areas.bytes);
  core.thread(71, {0, 0, 0, 0, 0, 0, 0, 0x2b, 0x2b, 0, 0x63, 0, 0x8049000, 0x23, 0, 0xffffd000, 0x2b});
  Blob own;
  own.number(12, 4).number(0xf7fc0500, 4).number(0xfffff, 4).number(0x51, 4);
  core.note("LINUX", 0x200, own.bytes);
  const auto narrow = opened(core, folder);
  const state::RegisterSet& n = narrow->view(70).registers();
  const std::pair<Reg, std::uint64_t> expected32[] = {
      {Reg::rbx, 0}, {Reg::rcx, 1}, {Reg::rdx, 2},  {Reg::rsi, 3}, {Reg::rdi, 4},     {Reg::rbp, 5},  {Reg::rax, 6},
      {Reg::ds, 7},  {Reg::gs, 10}, {Reg::rip, 12}, {Reg::cs, 13}, {Reg::rflags, 14}, {Reg::rsp, 15}, {Reg::ss, 16}};
  for (const auto& [reg, place] : expected32) EXPECT_EQ(n[reg], 0x100 + place) << state::name_of(reg);
  EXPECT_EQ(narrow->pending_signal(70)->fault_address, 0x1234u);
  EXPECT_EQ(narrow->view(71).registers()[Reg::gs_base], 0xf7fc0500u);
  EXPECT_EQ(narrow->view(71).mode(), isa::Mode::bits32);
  EXPECT_EQ(narrow->threads(), (std::vector<state::ThreadId>{70, 71}));
}

/// The process's own thread is the first whatever the file's order; the signalled one is the file's first.
TEST(CoreNotes, ThreadsAreNumberedAsInTheRunningProgram) {
  const TempFolder folder;
  FakeCore core(true);
  for (const std::uint32_t id : {95u, 80u, 90u, 85u}) core.thread(id, numbered(27));
  core.process(85, "prog");
  core.auxiliary({{9, 0x401000}});
  const std::string program = small_program(folder, "prog", "64", "ret", true);
  const auto made = opened(core, folder, program);
  EXPECT_EQ(made->threads(), (std::vector<state::ThreadId>{85, 80, 90, 95}));
  EXPECT_EQ(made->signalled(), 95);
  EXPECT_EQ(made->pending_signal(95), std::nullopt);  // no note of it
}

TEST(CoreNotes, ASystemCallIsUnderWayWhereTheKernelBrokeItOff) {
  const TempFolder folder;
  const std::string wide = small_program(folder, "wide", "64", "ret", true),
                    narrow = small_program(folder, "narrow", "32", "ret", true);
  const auto call = [&](bool is_wide, std::uint64_t result, std::uint64_t number) {
    FakeCore core(is_wide);
    std::vector<std::uint64_t> registers(is_wide ? 27 : 17);
    registers[is_wide ? 10 : 6] = result;
    registers[is_wide ? 15 : 11] = number;
    core.thread(70, registers);
    core.auxiliary({{9, 0x401000}});
    return opened(core, folder, is_wide ? wide : narrow)->system_call(70);
  };
  EXPECT_EQ(call(true, static_cast<std::uint64_t>(-512), 202), 202u);
  EXPECT_EQ(call(true, static_cast<std::uint64_t>(-516), 230), 230u);
  EXPECT_EQ(call(true, static_cast<std::uint64_t>(-517), 230), std::nullopt);
  EXPECT_EQ(call(true, static_cast<std::uint64_t>(-4), 202), std::nullopt);  // it has returned
  EXPECT_EQ(call(true, static_cast<std::uint64_t>(-512), static_cast<std::uint64_t>(-1)), std::nullopt);
  EXPECT_EQ(call(false, 0xfffffe00, 240), 240u);
  EXPECT_EQ(call(false, 0xfffffe00, 0xffffffff), std::nullopt);
}

/// An area as the processor writes it: each component of bytes of its own.
std::vector<std::uint8_t> area(std::size_t size, std::uint64_t components,
                               const std::vector<std::pair<std::size_t, std::size_t>>& places) {
  std::vector<std::uint8_t> result(size);
  for (std::size_t i = 0; i < 16; ++i) result[160 + 16 * i] = static_cast<std::uint8_t>(i + 1);
  for (std::size_t i = 0; i < 8; ++i) result[464 + i] = static_cast<std::uint8_t>(components >> (8 * i));
  std::uint8_t mark = 0x40;
  for (const auto& [offset, count] : places)
    std::fill_n(result.begin() + static_cast<std::ptrdiff_t>(offset), count, mark++);
  return result;
}

TEST(ExtendedAreas, OfKnownProcessorsAreReadAndOthersAreSaidToBeUnknown) {
  const TempFolder folder;
  const std::string program = small_program(folder, "prog", "64", "ret", true);
  const auto extended = [&](const std::vector<std::uint8_t>& bytes, const std::vector<std::uint8_t>& layout,
                            std::size_t remarks) {
    FakeCore core = core_of(program, true);
    core.note("LINUX", 0x202, bytes);
    if (!layout.empty()) core.note("LINUX", 0x205, layout);
    const auto made = opened(core, folder);
    EXPECT_EQ(made->remarks().size(), remarks);
    return *made->view(70).extended();
  };
  // Intel's, with and without tiles; AMD's (volume 1, 13.4; AMD's manual, volume 2, 11.5.10).
  for (const std::size_t size : {std::size_t(2696), std::size_t(2688), std::size_t(11008)}) {
    const auto set = extended(area(size, 0xe7, {{576, 256}, {1088, 64}, {1152, 512}, {1664, 1024}}), {}, 0);
    EXPECT_EQ(set.vector_bits, 512u);
    EXPECT_EQ(set.vectors[3][0], 4);
    EXPECT_EQ(set.vectors[3][16], 0x40);
    EXPECT_EQ(set.masks[7], 0x4141414141414141u);
    EXPECT_EQ(set.vectors[3][32], 0x42);
    EXPECT_EQ(set.vectors[31][63], 0x43);
  }
  const auto other = extended(area(2440, 0x2e7, {{576, 256}, {832, 64}, {896, 512}, {1408, 1024}}), {}, 0);
  EXPECT_EQ(other.masks[0], 0x4141414141414141u);
  EXPECT_EQ(other.vectors[16][0], 0x43);
  EXPECT_EQ(extended(area(832, 7, {{576, 256}}), {}, 0).vector_bits, 256u);
  EXPECT_EQ(extended(area(576, 3, {}), {}, 0).vector_bits, 128u);
  // A size that nobody knows: what every area has is read. With a note of the layout, all of it is.
  const auto strange = area(3000, 0xe7, {{576, 256}, {1200, 64}, {1300, 512}, {1900, 1024}});
  EXPECT_EQ(extended(strange, {}, 1).vector_bits, 128u);
  Blob layout;
  for (const auto& [number, size, offset] :
       {std::tuple(2, 256, 576), std::tuple(5, 64, 1200), std::tuple(6, 512, 1300), std::tuple(7, 1024, 1900)})
    layout.number(static_cast<unsigned>(number), 4)
        .number(static_cast<unsigned>(size), 4)
        .number(static_cast<unsigned>(offset), 4)
        .number(0, 4);
  const auto told = extended(strange, layout.bytes, 0);
  EXPECT_EQ(told.vector_bits, 512u);
  EXPECT_EQ(told.vectors[31][0], 0x43);
}

TEST(ExtendedAreas, AreWrittenAsTheyAreRead) {
  const auto layout = *state::known_layout(0xe7, 2696);
  std::vector<std::uint8_t> bytes = area(2696, 0xe7, {{576, 256}, {1088, 64}, {1152, 512}, {1664, 1024}});
  bytes[2] = 0x00;
  bytes[3] = 0x18;  // the top of the stack is physical register 3
  bytes[4] = 0x09;  // 0 and 3 are in use: st(0) and st(5)
  const auto set = *state::extended_from(bytes, layout);
  EXPECT_EQ(set.x87_used, 0x21);
  std::vector<std::uint8_t> empty(2696);
  state::put_extended(empty, layout, set);
  EXPECT_EQ(state::extended_from(empty, layout), set);
  EXPECT_EQ(empty[4], 0x09);
  EXPECT_EQ(empty[512], 0xe7);  // all are marked as present
  EXPECT_EQ(state::extended_from(Bytes(bytes).first(511), layout), std::nullopt);
}

/// What the core file leaves out comes from the program's file, if that is proved to be the one that ran.
TEST(CoreMemory, ComesFromFilesThatAreProvedToBeTheOnesThatRan) {
  const TempFolder folder;
  std::uint8_t byte = 0;
  for (const std::string mode : {"64", "32"}) {
    const bool wide = mode == "64";
    const std::string program = small_program(folder, "prog" + mode, mode, "nop; ret", true);
    const FakeCore core = core_of(program, wide);
    const std::uint64_t entry = binary::Elf::open(program)->entry();
    const auto made = opened(core, folder);
    EXPECT_TRUE(made->remarks().empty());
    EXPECT_EQ(made->view(70).read_memory(entry, {&byte, 1}), 1u);
    EXPECT_EQ(byte, 0x90);
    // Another build in its place.
    small_program(folder, "prog" + mode, mode, "ret; nop", true);
    const auto refused = CoreFile::open(folder / "made", "");
    ASSERT_FALSE(refused);
    EXPECT_NE(refused.error().message.find("is another build than the one that ran"), std::string::npos);
    const auto insisted = CoreFile::open(folder / "made", program);
    ASSERT_TRUE(insisted);
    EXPECT_NE((*insisted)->remarks().front().find("names and lines may be wrong"), std::string::npos);
    EXPECT_EQ((*insisted)->view(70).read_memory(entry, {&byte, 1}), 0u);
    EXPECT_EQ((*insisted)->view(70).why_unreadable(entry), "was mapped, but is not in the core file");
    EXPECT_EQ((*insisted)->view(70).why_unreadable(0x1000), "cannot be read");
    EXPECT_TRUE((*insisted)->mappings().front().path.ends_with(" (another build)"));
    // No identity: the first page decides, and it is said.
    const std::string plain = small_program(folder, "plain" + mode, mode, "nop; ret", false);
    const auto taken = opened(core_of(plain, wide), folder);
    ASSERT_EQ(taken->remarks().size(), 1u);
    EXPECT_NE(taken->remarks().front().find("has no build id"), std::string::npos);
    EXPECT_EQ(taken->view(70).read_memory(entry, {&byte, 1}), 1u);
    std::filesystem::remove(plain);
    const auto missing = CoreFile::open(folder / "made", "");
    ASSERT_FALSE(missing);
    EXPECT_NE(missing.error().message.find("is not here"), std::string::npos);
  }
}

TEST(CoreMemory, IsReadAcrossRegionsAndEndsWithThem) {
  const TempFolder folder;
  FakeCore core = core_of(small_program(folder, "prog", "64", "ret", true), true);
  core.memory.push_back({0x700000, std::vector<std::uint8_t>(4096, 1), 4096, 6});
  core.memory.push_back({0x701000, std::vector<std::uint8_t>(100, 2), 4096, 6});  // the rest was not saved
  core.memory.push_back({0xfffffffffffff000, std::vector<std::uint8_t>(4095, 3), 4095, 6});
  core.many = true;
  const auto made = opened(core, folder);
  std::vector<std::uint8_t> bytes(8192);
  EXPECT_EQ(made->view(70).read_memory(0x700ff0, bytes), 116u);
  EXPECT_EQ(bytes[15], 1);
  EXPECT_EQ(bytes[16], 2);
  EXPECT_EQ(made->view(70).read_memory(0x6fffff, bytes), 0u);
  EXPECT_EQ(made->view(70).read_memory(0xfffffffffffffff0, bytes), 15u);
}

/// Without names of files the given program's own segments are known.
TEST(CoreMemory, WithoutNamesOfFilesTheProgramIsKnown) {
  const TempFolder folder;
  const std::string program = small_program(folder, "prog", "64", "nop; ret", true);
  FakeCore named = core_of(program, true), core(true);
  core.thread(70, numbered(27));
  const std::uint64_t entry = binary::Elf::open(program)->entry();
  core.auxiliary({{9, entry}});
  core.memory = named.memory;
  core.write(folder / "made");
  EXPECT_FALSE(CoreFile::open(folder / "made", ""));
  const auto made = opened(core, folder, program);
  std::uint8_t byte = 0;
  EXPECT_EQ(made->view(70).read_memory(entry, {&byte, 1}), 1u);
  EXPECT_EQ(byte, 0x90);
}

TEST(CoreFiles, DamagedOnesAreAnErrorOrARemarkAndNeverReadBeyond) {
  const TempFolder folder;
  const std::string program = small_program(folder, "prog", "64", "ret", true);
  FakeCore core = core_of(program, true);
  core.memory.push_back({0x700000, std::vector<std::uint8_t>(512, 1), 4096, 6});
  core.many = true;
  const std::vector<std::uint8_t> whole = core.bytes();
  std::size_t opens = 0;
  const auto look = [&](const std::vector<std::uint8_t>& bytes) {
    std::ofstream(folder / "made", std::ios::binary)
        .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
    const auto made = CoreFile::open(folder / "made", program);
    if (!made) return std::string("error");
    ++opens;
    std::uint8_t into[64];
    for (const state::ThreadId thread : (*made)->threads()) {
      (void)(*made)->view(thread).read_memory(0x700000, into);
      (void)(*made)->view(thread).read_memory(~std::uint64_t(0) - 8, into);
      (void)(*made)->view(thread).extended();
    }
    (void)(*made)->mappings();
    return (*made)->remarks().empty() ? std::string() : (*made)->remarks().back();
  };
  EXPECT_EQ(look(whole), "");
  EXPECT_EQ(look({whole.begin(), whole.end() - 100}), "the core file is cut off: 100 bytes of memory are missing");
  for (std::size_t size = 1; size < whole.size(); size += size < 1400 ? 7 : 101) {
    const std::string said = look({whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(size)});
    EXPECT_NE(said, "") << size;
  }
  for (std::size_t at = 0; at < 1600; at += 3) {
    for (const std::uint8_t value : {std::uint8_t(0), std::uint8_t(0xff)}) {
      std::vector<std::uint8_t> damaged = whole;
      damaged[at] = value;
      (void)look(damaged);
    }
  }
  EXPECT_GT(opens, 500u);
}

TEST(CoreFiles, AreSurveyed) {
  const TempFolder folder;
  const std::string program = small_program(folder, "prog", "64", "ret", true);
  FakeCore core = core_of(program, true);
  std::vector<std::uint64_t> registers(27);
  registers[16] = 0x401000;
  core.thread(66, registers);
  core.memory.push_back({0x700000, std::vector<std::uint8_t>(512, 1), 8192, 6});
  core.write(folder / "made");
  const std::string text = deeptrace({"survey", folder / "made"}).out;
  for (const char* wanted :
       {"core file, x86-64", "process   70\n", "ended by  SIGSEGV; it concerns address 0x1234\n", "threads   2\n",
        "       1        70  0x110   the signal was for it\n", "       2        66  0x401000  prog+0x1000\n",
        "0x700000..0x702000                         8,192            512  rw-\n"})
    EXPECT_NE(text.find(wanted), std::string::npos) << wanted << text;
  const nlohmann::json json =
      nlohmann::json::parse(deeptrace({"survey", folder / "made", "--format", "json"}).out)["files"][0]["core"];
  EXPECT_EQ(json["fault_address"], "0x1234");
  EXPECT_EQ(json["memory"].back(), (nlohmann::json{{"from", "0x700000"},
                                                   {"to", "0x702000"},
                                                   {"saved", 512},
                                                   {"access", "rw-"},
                                                   {"file", nullptr},
                                                   {"offset", 0}}));
  EXPECT_TRUE(
      nlohmann::json::parse(deeptrace({"survey", program, "--format", "json"}).out)["files"][0]["core"].is_null());
}

/// Not the core file's words: a program of one's own that could not be started anew.
TEST(Talk, AProgramThatCouldNotBeStartedCanBeLater) {
  const TempFolder folder;
  std::filesystem::copy_file(demo("tidelog"), folder / "tidelog");
  control::ControlOptions options;
  options.launch.program = folder / "tidelog";
  options.launch.arguments = {demo("readings.txt")};
  program::SourceText sources;
  cli::Talk talk(options, report::Style{}, sources, nullptr);
  ASSERT_FALSE(talk.begin());
  ASSERT_FALSE(talk.say("halt at level_sum").failed);
  std::filesystem::rename(folder / "tidelog", folder / "elsewhere");
  EXPECT_TRUE(talk.say("restart").failed);
  EXPECT_EQ(talk.prompt(), "no program: ");
  for (const char* word : {"halts", "resume", "frames", "set rax = 1"}) {
    const cli::Answer answer = talk.say(word);
    EXPECT_TRUE(answer.failed) << word;
    EXPECT_NE(answer.lines.at(0).find("`restart`"), std::string::npos) << answer.lines.at(0);
  }
  std::filesystem::rename(folder / "elsewhere", folder / "tidelog");
  EXPECT_FALSE(talk.say("restart").failed);
  EXPECT_FALSE(talk.say("frames").failed);
}

TEST(CoreFiles, ErrorsSayWhatIsWrong) {
  const TempFolder folder;
  const std::string program = demo("tidelog");
  const auto said = [&](std::vector<std::string> words) {
    words.insert(words.begin(), "console");
    const Outcome outcome = deeptrace(std::move(words));
    EXPECT_TRUE(outcome.out.empty());
    return std::to_string(outcome.status) + " " + outcome.err;
  };
  EXPECT_EQ(said({"--core", program}), "3 deeptrace: " + program + ": is a program, not a core file\n");
  EXPECT_EQ(said({"--core", folder / "none"}), "3 deeptrace: " + (folder / "none").string() + ": no such file\n");
  FakeCore core = core_of(small_program(folder, "prog", "64", "ret", true), true);
  core.write(folder / "made");
  EXPECT_EQ(said({"--core", folder / "made", "--attach", "1"}), "2 deeptrace: --attach: a core file cannot run\n");
  EXPECT_EQ(said({"--core", folder / "made", program, "readings.txt"}),
            "2 deeptrace: console: --core takes a core file and its program; leave out readings.txt\n");
  FakeCore bare(true);
  bare.auxiliary({{9, 0x401000}});
  bare.write(folder / "bare");
  EXPECT_TRUE(said({"--core", folder / "bare"})
                  .starts_with("3 deeptrace: " + (folder / "bare").string() + ": has no thread's registers"));
  FakeCore placeless(true);
  placeless.thread(70, numbered(27));
  placeless.write(folder / "placeless");
  EXPECT_NE(said({"--core", folder / "placeless", program}).find("has no auxiliary vector"), std::string::npos);
  const std::string narrow = small_program(folder, "narrow", "32", "ret", true);
  EXPECT_NE(said({"--core", folder / "made", narrow}).find("bits, the program of the core file had 64"),
            std::string::npos);
}

}  // namespace
}  // namespace deeptrace::tests
