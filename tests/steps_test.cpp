// `steps` against the kernel's own account of the program (through the walker, which shares no code with it), and
// against plain runs.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <map>
#include <nlohmann/json.hpp>
#include <random>
#include <set>
#include <sstream>
#include <thread>

#include "control/progress.h"
#include "live_support.h"
#include "support.h"
#include "walker.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

std::uint64_t number(const json& text) { return std::stoull(text.get<std::string>(), nullptr, 16); }

std::string text_of_hex(int value) {
  std::ostringstream text;
  text << "0x" << std::hex << value;
  return text.str();
}

std::vector<std::uint8_t> plain_bytes(const std::string& digits) {
  std::vector<std::uint8_t> result;
  for (std::size_t i = 0; i + 1 < digits.size(); i += 2)
    result.push_back(static_cast<std::uint8_t>(std::stoul(digits.substr(i, 2), nullptr, 16)));
  return result;
}

json steps_of(std::vector<std::string> words) {
  words.insert(words.begin(), {"steps", "--format", "json"});
  const Outcome outcome = deeptrace(words);
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  EXPECT_TRUE(json::accept(outcome.out)) << outcome.out.substr(0, 500);
  return json::parse(outcome.out, nullptr, false);
}

/// The bytes of a memory value: a number, or bytes in memory order when there are more than eight.
std::vector<std::uint8_t> value_bytes(const json& value, std::size_t size) {
  const std::string text = value;
  if (!text.starts_with("0x")) return plain_bytes(text);
  std::vector<std::uint8_t> bytes;
  for (std::uint64_t i = 0, rest = number(value); i < size; ++i, rest >>= 8)
    bytes.push_back(static_cast<std::uint8_t>(rest));
  return bytes;
}

/// A machine state that rows are applied to.
struct Replayed {
  std::map<std::string, std::uint64_t> registers;
  std::vector<std::uint8_t> vectors;
  std::map<std::uint64_t, std::vector<std::uint8_t>> memory;

  /// Registers by the names that rows of 64-bit or 32-bit code have for them.
  Replayed(const Walker& walker, bool wide) : vectors(walker.vectors()), memory(walker.writable_memory()) {
    const user_regs_struct r = walker.registers();
    const std::uint64_t general[] = {r.rax, r.rbx, r.rcx, r.rdx, r.rsi, r.rdi, r.rbp, r.rsp};
    for (std::size_t i = 0; const char* name : {"ax", "bx", "cx", "dx", "si", "di", "bp", "sp"})
      registers[(wide ? "r" : "e") + std::string(name)] = general[i++];
    registers.insert({{"rflags", r.eflags & ~0x10000ULL},
                      {"cs", r.cs},
                      {"ss", r.ss},
                      {"ds", r.ds},
                      {"es", r.es},
                      {"fs", r.fs},
                      {"gs", r.gs},
                      {"fs_base", r.fs_base},
                      {"gs_base", r.gs_base}});
    if (wide) {
      registers.insert({{"r8", r.r8},
                        {"r9", r.r9},
                        {"r10", r.r10},
                        {"r11", r.r11},
                        {"r12", r.r12},
                        {"r13", r.r13},
                        {"r14", r.r14},
                        {"r15", r.r15}});
    } else {
      for (auto& [name, value] : registers) value &= 0xffffffff;
      vectors.resize(8 * 16);
    }
  }

  void store(std::uint64_t address, const std::vector<std::uint8_t>& bytes) {
    for (std::size_t i = 0; i < bytes.size(); ++i) {
      auto piece = memory.upper_bound(address + i);
      if (piece == memory.begin()) continue;
      --piece;
      // Stack that grows later is not in the first account.
      if (address + i - piece->first >= piece->second.size()) continue;
      piece->second[address + i - piece->first] = bytes[i];
    }
  }

  [[nodiscard]] bool holds(std::uint64_t address) const {
    const auto piece = memory.upper_bound(address);
    return piece != memory.begin() && address - std::prev(piece)->first < std::prev(piece)->second.size();
  }

  [[nodiscard]] std::vector<std::uint8_t> load(std::uint64_t address, std::size_t size) const {
    const auto piece = std::prev(memory.upper_bound(address));
    const auto first = piece->second.begin() + static_cast<std::ptrdiff_t>(address - piece->first);
    return {first, first + static_cast<std::ptrdiff_t>(std::min<std::size_t>(size, piece->second.end() - first))};
  }

  void apply(const json& row) {
    for (const auto& [name, change] : row["changed"].items()) {
      if (name.starts_with("xmm")) {
        const auto bytes = plain_bytes(change["after"]);
        std::copy(bytes.begin(), bytes.end(), vectors.begin() + 16 * std::stol(name.substr(3)));
      } else if (!name.starts_with("st(") && name != "fcw" && name != "fsw" && name != "mxcsr") {
        EXPECT_EQ(registers[name], number(change["before"])) << name << " before row " << row["n"];
        registers[name] = number(change["after"]);
      }
    }
    EXPECT_EQ(registers["rflags"], number(row["flags"]["before"]) & ~0x10000ULL) << "flags before row " << row["n"];
    registers["rflags"] = number(row["flags"]["after"]) & ~0x10000ULL;
    for (const json& change : row["memory"]) {
      const std::uint64_t address = number(change["address"]);
      if (!change["before"].is_null() && holds(address)) {
        const std::vector<std::uint8_t> before = value_bytes(change["before"], change["size"]);
        EXPECT_EQ(load(address, before.size()), before) << "memory before row " << row["n"] << " " << row["text"];
      }
      if (!change["after"].is_null()) store(address, value_bytes(change["after"], change["size"]));
    }
  }
};

/// Where the C library of that width keeps what the kernel writes whenever it likes: the number of the processor
/// (rseq(2), glibc's <sys/rseq.h>); bytes from the thread pointer.
std::int64_t rseq_offset(bool wide) {
  static std::map<bool, std::int64_t> known;
  if (known.contains(wide)) return known[wide];
  const TempFolder folder;
  const std::string program = built(folder, "offset", R"(#include <stdio.h>
#include <sys/rseq.h>
int main(void) { printf("%ld\n", (long)__rseq_offset); return 0; })",
                                    {"gcc", wide ? "-m64" : "-m32"});
  return known[wide] = std::stol(run({program}).out);
}

/// Applies rows [first, last) to what the walker sees at the first and compares with what it sees at the last.
void expect_replay(const std::vector<std::string>& program, const json& rows, std::size_t first, std::size_t last,
                   bool wide = true) {
  const auto times = [&](std::size_t from, std::size_t to) {
    unsigned count = 0;
    for (std::size_t i = from; i <= to; ++i)
      count += rows[i]["kind"] == "instruction" && rows[i]["address"] == rows[to]["address"] ? 1 : 0;
    return count;
  };
  Walker walker(program);
  ASSERT_TRUE(walker.run_to(number(rows[first]["address"]), times(0, first))) << "row " << first;
  Replayed state(walker, wide);
  for (std::size_t i = first; i < last; ++i) state.apply(rows[i]);
  ASSERT_TRUE(walker.run_to(number(rows[last]["address"]), times(first + 1, last))) << "row " << last;
  Replayed truth(walker, wide);
  const char* const pointer = wide ? "fs_base" : "gs_base";
  for (Replayed* side : {&state, &truth}) {
    side->store(side->registers[pointer] + static_cast<std::uint64_t>(rseq_offset(wide)),
                std::vector<std::uint8_t>(32));
  }
  EXPECT_EQ(state.registers, truth.registers) << "at row " << rows[last]["n"] << " " << rows[last]["text"];
  EXPECT_EQ(state.vectors, truth.vectors) << "at row " << rows[last]["n"];
  for (const auto& [start, bytes] : state.memory) {
    const auto found = truth.memory.find(start);
    ASSERT_NE(found, truth.memory.end());
    EXPECT_TRUE(found->second == bytes) << "memory at " << std::hex << start << " at row " << std::dec
                                        << rows[last]["n"] << " " << rows[last]["text"];
  }
}

/// A row at which the walker can stop with a hardware stop: an instruction that is neither repeated nor after one
/// that shadows it.
bool can_stop_at(const json& row) {
  return row["kind"] == "instruction" && !row.contains("repetitions") &&
         row["text"].get<std::string>().find(';') == std::string::npos;
}

TEST(Replay, GivesTheKernelsRegistersAndMemory) {
  const std::vector<std::string> program = {fixture("plain")};
  const json rows = steps_of({"--from", "work", "--count", "all", program[0]})["steps"];
  ASSERT_GT(rows.size(), 1000U);
  std::mt19937 random(3);
  const std::size_t end = rows.size() - 1;
  for (int round = 0; round < 40; ++round) {
    std::size_t last = 1 + random() % (end - 1);
    // Every odd instruction stands in the first few hundred rows after the filling loop; look there more often.
    while (!can_stop_at(rows[last])) --last;
    expect_replay(program, rows, 0, last);
  }
  // And right after each row that is special.
  for (std::size_t i = 0; i + 1 < rows.size(); ++i) {
    const std::string text = rows[i]["text"];
    const bool special = rows[i]["kind"] == "kernel" || rows[i].contains("repetitions") || text.starts_with("lock") ||
                         text.starts_with("pushf") || text.starts_with("bt") || text.starts_with("enter") ||
                         text.starts_with("pop qword") || text.find("; ") != std::string::npos ||
                         text.starts_with("push -2") || text.starts_with("xchg");
    if (special && can_stop_at(rows[i + 1])) expect_replay(program, rows, 0, i + 1);
  }
}

TEST(Replay, Of32BitProgramsToo) {
  const std::vector<std::string> program = {fixture("plain32")};
  const json all = steps_of({"--from", "work", "--count", "all", program[0]});
  EXPECT_EQ(all["machine"], "x86, 32-bit");
  const json& rows = all["steps"];
  ASSERT_GT(rows.size(), 400U);
  for (std::size_t last = 1; last < rows.size(); last += last < 40 || last + 220 > rows.size() ? 3 : 17) {
    std::size_t at = last;
    while (!can_stop_at(rows[at])) --at;
    if (at > 0) expect_replay(program, rows, 0, at, false);
  }
}

/// A thread among others that wait in the kernel: its rows, alone and among all, are what the kernel says of it.
TEST(Replay, OfAThreadedProgram) {
  const TempFolder folder;
  const std::vector<std::string> program = {built(folder, "among", R"(#include <pthread.h>
#include <unistd.h>
static int ends[2];
static volatile int waiting;
static long table[16];
static void *sleeper(void *none) {
  char byte;
  __atomic_fetch_add(&waiting, 1, __ATOMIC_SEQ_CST);
  read(ends[0], &byte, 1);
  return none;
}
__attribute__((noinline)) static void clear(void) {
  volatile char room[4096];
  for (int i = 0; i < sizeof room; i++) room[i] = 0;
}
__attribute__((noinline)) long work(long n) {
  for (int i = 0; i < 12; i++) table[i] = table[(i + 15) % 16] * 3 + n + i;
  return table[11];
}
int main(void) {
  pthread_t all[3];
  pipe(ends);
  for (int i = 0; i < 3; i++) pthread_create(&all[i], 0, sleeper, 0);
  while (waiting < 3) usleep(1000);
  usleep(200000); /* until they wait */
  clear();       /* what the library left on the stack is random */
  const long sum = work(7);
  write(ends[1], "tid", 3);
  for (int i = 0; i < 3; i++) pthread_join(all[i], 0);
  return sum & 63;
})",
                                                  {"gcc", "-g", "-O0", "-pthread", "-w"})};
  const json alone = steps_of({"--from", "work", "--count", "all", program[0]});
  EXPECT_EQ(alone["ended"], "return");
  const json& rows = alone["steps"];
  ASSERT_GT(rows.size(), 200U);
  for (std::size_t last = 5; last < rows.size(); last += 31) {
    if (can_stop_at(rows[last])) expect_replay(program, rows, 0, last);
  }
  // The same instructions with the same changes when all have rows: the others have none meanwhile.
  const json all = steps_of({"--from", "work", "--count", "all", "--thread", "all", program[0]});
  std::vector<json> work;
  for (const json& row : all["steps"]) {
    if (row["function"] == "work" && row["kind"] == "instruction") work.push_back(row);
  }
  ASSERT_GE(work.size(), rows.size());
  for (std::size_t i = 0; i < rows.size(); ++i) {
    EXPECT_EQ(work[i]["text"], rows[i]["text"]);
    EXPECT_EQ(work[i]["changed"], rows[i]["changed"]) << rows[i];
    EXPECT_EQ(work[i]["memory"], rows[i]["memory"]) << rows[i];
  }
}

/// Applies what a row says of registers beyond the integer core, by the rules of docs/formats/steps.md.
void apply_wide(std::map<std::string, std::vector<std::uint8_t>>& state, const json& row) {
  if (row["changed"].contains("fsw")) state["fsw"] = value_bytes(row["changed"]["fsw"]["after"], 2);
  const int top = state["fsw"][1] >> 3 & 7;
  for (const auto& [name, change] : row["changed"].items()) {
    if (name.substr(1).starts_with("mm")) {
      std::ranges::copy(plain_bytes(change["after"]), state["zmm" + name.substr(3)].begin());
    } else if (name.starts_with("st(")) {
      std::vector<std::uint8_t>& unit = state["r" + std::to_string((name[3] - '0' + top) % 8)];
      unit[10] = change["after"].is_null() ? 0 : 1;
      if (unit[10] == 1) std::ranges::copy(plain_bytes(change["after"]), unit.begin());
    } else if (name.starts_with("mm")) {
      std::vector<std::uint8_t>& unit = state["r" + name.substr(2)];
      unit = value_bytes(change["after"], 8);
      unit.insert(unit.end(), {0xff, 0xff, 1});  // Intel SDM volume 1, 9.5.1
    } else if (state.contains(name)) {
      state[name] = value_bytes(change["after"], state[name].size());
    }
  }
}

TEST(Replay, OfFloatingPointVectorsAndMasks) {
  for (const bool wide : {true, false}) {
    const std::vector<std::string> program = {fixture(wide ? "wide" : "wide32")};
    const json rows = steps_of({"--count", "all", program[0]})["steps"];
    Walker walker(program);
    ASSERT_EQ(walker.registers().rip, number(rows[0]["address"]));
    auto state = walker.wide();
    std::set<std::string> seen;
    for (std::size_t i = 0; i + 1 < rows.size(); ++i) {
      EXPECT_FALSE(rows[i].contains("registers_followed")) << rows[i];
      apply_wide(state, rows[i]);
      for (const auto& [name, change] : rows[i]["changed"].items()) seen.insert(name);
      ASSERT_TRUE(walker.run_to(number(rows[i + 1]["address"]), 1));
      ASSERT_EQ(state, walker.wide()) << "after " << rows[i];
    }
    for (const char* const name : {"st(0)", "st(1)", "fcw", "fsw", "mm0", "mm3", "mm5", "xmm1", "xmm3", "mxcsr"})
      EXPECT_TRUE(seen.contains(name)) << name;
    std::printf("masks and 512 bits: %s\n", seen.contains("k1") && seen.contains("zmm3") ? "compared" : "not here");
  }
}

/// A register is named as it was written, and one that a number was taken off says what it was.
TEST(Steps, NamesWideRegistersAsTheyWereWritten) {
  const std::string text = deeptrace({"steps", "--count", "all", "--uncut", fixture("wide")}).out;
  EXPECT_NE(text.find("st(0)                      now 3.14159265358979323"), std::string::npos) << text;
  EXPECT_NE(text.find("mm0                        now 0x100e0c0a08060402"), std::string::npos);
  EXPECT_NE(text.find("st(7), was st(0)           now empty   was 1"), std::string::npos);
  if (text.find("vpaddb ymm5") != std::string::npos) {
    EXPECT_NE(text.find("ymm5                       now 02 04 06"), std::string::npos) << text;
  }
}

/// Far calls into 64-bit code and back, and the kernel asked by the gates of both.
TEST(Steps, FollowsIntoCodeOfTheOtherWidth) {
  const json result = steps_of({"--count", "all", fixture("gates")});
  EXPECT_EQ(result["exit"], json({{"status", 20}}));  // as a plain run; 16 of it: both gates named the same process
  EXPECT_EQ(run({fixture("gates")}).status, 20);
  std::map<std::string, json> by_text;
  for (const json& row : result["steps"]) by_text[row["text"].get<std::string>().substr(0, 24)] = row;
  const auto far = std::ranges::find_if(result["steps"], [](const json& row) {
    return row["text"].get<std::string>().ends_with("; 64-bit code follows");
  });
  ASSERT_NE(far, result["steps"].end());
  EXPECT_EQ((*far)["changed"]["cs"], json({{"before", "0x23"}, {"after", "0x33"}}));
  EXPECT_EQ((*std::next(far))["address"], by_text["movabs r8, 0x123456789"]["address"]);
  EXPECT_EQ(by_text["movabs r8, 0x123456789"]["changed"]["r8"]["after"], "0x123456789");
  EXPECT_EQ(by_text["retf; 32-bit code follow"]["changed"].size(), 2U);  // rsp and cs
  EXPECT_EQ(by_text["mov eax, 0x14"]["changed"]["eax"]["after"], "0x14");
  EXPECT_EQ(by_text["int 0x80"]["changed"].size(), 0U);  // the last one: exit
}

/// `sysenter` leaves own code for the vdso, which goes back after the call. Processors that do not have it in 32-bit
/// mode end the program alone, too.
TEST(Steps, FollowsTheGateThatReturnsElsewhere) {
  const TempFolder folder;
  write_file(folder / "entering.s", R"(.globl _start
_start: movl $20, %eax
        call enter
        movl %eax, %esi
        movl $20, %eax
        int $0x80
        xorl %ebx, %ebx
        cmpl %esi, %eax
        sete %bl
        movl $1, %eax
        int $0x80
enter:  pushl %ecx
        pushl %edx
        pushl %ebp
        movl %esp, %ebp
        sysenter
)");
  const std::string program = folder / "entering";
  ASSERT_EQ(run({"gcc", "-m32", "-nostdlib", "-static", "-no-pie", "-o", program, folder / "entering.s"}).status, 0);
  if (run({program}).status != 1) GTEST_SKIP() << "no sysenter here";
  for (const std::string thread : {"1", "all"}) {
    const json result = steps_of({"--count", "all", "--thread", thread, program});
    EXPECT_EQ(result["exit"], json({{"status", 1}}));
    const auto row = std::ranges::find_if(result["steps"], [](const json& one) { return one["text"] == "sysenter"; });
    ASSERT_NE(row, result["steps"].end());
    EXPECT_EQ((*row)["changed"]["eax"]["after"], text_of_hex((*row)["task"]));
    EXPECT_EQ((*std::next(row))["kind"], "full_speed");
    EXPECT_EQ((*std::next(row, 2))["text"], "mov esi, eax");
  }
}

TEST(Replay, HoldsBetweenPassagesOfALibraryProgram) {
  for (const auto& [name, wide] : {std::pair("tidelog", true), {"tidelog-O2", true}, {"gauge32", false}}) {
    const std::vector<std::string> program = {demo(name), demo("readings.txt")};
    const json rows = steps_of({"--count", "all", program[0], program[1]})["steps"];
    std::size_t first = 0;
    int compared = 0;
    for (std::size_t i = 1; i < rows.size(); ++i) {
      if (rows[i]["kind"] == "instruction") continue;
      // At main ecx of a 32-bit program has something random of the start-up code's.
      if ((wide || first != 0) && i - first > 8 && can_stop_at(rows[first]) && can_stop_at(rows[i - 1]) &&
          compared < 80) {
        expect_replay(program, rows, first, i - 1, wide);
        ++compared;
      }
      first = i + 1;
    }
    EXPECT_GE(compared, 4);
  }
}

TEST(Steps, OutputAndStatusEqualAPlainRun) {
  const std::vector<std::vector<std::string>> programs = {{fixture("winding"), "tide"},
                                                          {fixture("winding-O2")},
                                                          {fixture("throwing")},
                                                          {demo("tidelog"), demo("readings.txt")},
                                                          {demo("tidelog-O2"), "/nowhere"},
                                                          {fixture("plain")},
                                                          {fixture("winding-static"), "still"},
                                                          {fixture("winding-stripped"), "bare"},
                                                          {fixture("winding32"), "narrow"},
                                                          {demo("gauge32")},
                                                          {fixture("plain32")}};
  for (const auto& program : programs) {
    const Outcome plain = run(program);
    for (const char* count : {"1", "50", "all", "all threads"}) {
      const TempFolder folder;
      std::vector<std::string> words = {"steps", "--format", "json", "--program-output", folder / "output", "--count"};
      words.emplace_back(std::string(count).substr(0, 3));
      if (count == std::string("all threads")) words.insert(words.end(), {"--thread", "all"});
      words.insert(words.end(), program.begin(), program.end());
      const Outcome traced = deeptrace(words);
      ASSERT_EQ(traced.status, 0) << program[0] << traced.err;
      const json result = json::parse(traced.out);
      EXPECT_EQ(result["exit"], json({{"status", plain.status}})) << program[0];
      EXPECT_EQ(read_file(folder / "output"), plain.out) << program[0];
      EXPECT_EQ(traced.err, plain.err);
    }
  }
}

TEST(Steps, RealProgramsWithoutSymbolsRunAsAlone) {
  const std::string text = source("LICENSE");
  const std::vector<std::vector<std::string>> programs = {
      {"/bin/ls", source("docs")},
      {"/bin/sort", text},
      {"/usr/bin/wc", text},
      {"/bin/grep", "-c", "the", text},
      {"/bin/sed", "-n", "3p", text},
      {"/bin/bash", "-c", "for i in 1 2; do /bin/echo $i; done; exit 3"},
      {"/bin/false"},
      {"/usr/bin/env", "TIDE=high", "/bin/sh", "-c", "echo $TIDE"},
      {"/bin/cat", text},
      {"/usr/bin/find", source("demo"), "-name", "*.c"},
      {"/usr/bin/gcc", "-dumpversion"},
      {"/usr/bin/git", "--version"}};
  for (const auto& program : programs) {
    const Outcome plain = run(program);
    const TempFolder folder;
    std::vector<std::string> words = {"steps", "--format",         "json",           "--count",
                                      "6000",  "--program-output", folder / "output"};
    words.insert(words.end(), program.begin(), program.end());
    const Outcome traced = deeptrace(words);
    ASSERT_EQ(traced.status, 0) << program[0] << traced.err;
    EXPECT_EQ(json::parse(traced.out)["exit"], json({{"status", plain.status}})) << program[0];
    EXPECT_EQ(read_file(folder / "output"), plain.out) << program[0];
  }
}

std::vector<std::string> texts_of_kind(const json& result, const std::string& kind) {
  std::vector<std::string> texts;
  for (const json& row : result["steps"]) {
    if (row["kind"] == kind) texts.push_back(row["text"]);
  }
  return texts;
}

unsigned count_in(const json& result, const std::string& function) {
  unsigned count = 0;
  for (const json& row : result["steps"])
    count += row["kind"] == "instruction" && row["function"].is_string() &&
                     row["function"].get<std::string>().starts_with(function)
                 ? 1
                 : 0;
  return count;
}

class EveryWay : public ::testing::TestWithParam<const char*> {};
TEST_P(EveryWay, BackIntoOwnCodeIsFollowed) {
  const json result = steps_of({"--count", "all", fixture(GetParam())});
  EXPECT_EQ(result["ended"], "return");
  EXPECT_GT(count_in(result, "compare"), 30U);
  EXPECT_GT(count_in(result, "on_signal"), 8U);
  EXPECT_GT(count_in(result, "dive"), 20U);
  EXPECT_EQ(texts_of_kind(result, "signal").size(), 2U);
  EXPECT_EQ(texts_of_kind(result, "signal_return").size(), 2U);
  for (const json& row : result["steps"]) {
    if (row["kind"] == "full_speed") {
      EXPECT_EQ(row["memory_followed"], false);
    }
    EXPECT_FALSE(row["changed"].contains("rip"));
  }
  // Exit handlers run after main has returned: a start at the entry sees them too.
  const json whole = steps_of({"--from", "at_end", "--count", "all", fixture(GetParam())});
  EXPECT_GT(count_in(whole, "at_end"), 5U);
  // A longjmp out of the starting function, to a setjmp from before stepping began, ends it.
  const json left = steps_of({"--from", "dive", "--count", "all", fixture(GetParam())});
  EXPECT_EQ(left["ended"], "return");
  EXPECT_NE(texts_of_kind(left, "full_speed").back().find("until control came to main"), std::string::npos);
}
INSTANTIATE_TEST_SUITE_P(Both, EveryWay, ::testing::Values("winding", "winding32"));

/// Without symbols the unwind table gives the entries of functions that are called back.
TEST(Steps, FollowsCallsBackWithoutSymbols) {
  EXPECT_GT(steps_of({"--count", "all", fixture("winding-stripped")})["instructions"], 120);
}

TEST(Steps, FollowsExceptionsToTheirHandlers) {
  const json result = steps_of({"--from", "try_all", "--count", "all", fixture("throwing")});
  EXPECT_EQ(result["ended"], "return");
  EXPECT_EQ(result["exit"], json({{"status", 12}}));
  std::size_t arrivals = 0;
  for (const std::string& text : texts_of_kind(result, "full_speed"))
    arrivals += text.find("came to the handler at try_all") != std::string::npos ? 1 : 0;
  EXPECT_EQ(arrivals, 3U);
}

TEST(Steps, EndsWhereItIsTold) {
  const std::string program = demo("tidelog"), data = demo("readings.txt");
  const json to = steps_of({"--from", "level_sum", "--to", "levels.c:35", program, data});
  EXPECT_EQ(to["ended"], "to");
  EXPECT_EQ(to["steps"].back()["line"], 33);
  const json counted = steps_of({"--from", "level_sum", "--count", "7", program, data});
  EXPECT_EQ(counted["ended"], "count");
  EXPECT_EQ(counted["instructions"], 7);
  EXPECT_EQ(steps_of({"--from", "level_sum", program, data})["ended"], "return");
  const json library = steps_of({"--from", "main", "--to", "log_checksum", "--count", "all", program, data});
  EXPECT_EQ(library["ended"], "to");
  EXPECT_EQ(library["exit"], json({{"status", 0}}));
}

TEST(Steps, TextFoldsLoopsAndJsonHasThemAll) {
  const std::vector<std::string> rest = {"--from", "level_sum", demo("tidelog"), demo("readings.txt")};
  std::vector<std::string> words = {"steps"};
  words.insert(words.end(), rest.begin(), rest.end());
  const std::string text = deeptrace(words).out;
  EXPECT_NE(text.find("the same 11 rows 12 times, from level_sum+0x31 on"), std::string::npos) << text;
  EXPECT_NE(text.find("eax     0x4d8 / 1240   0x695 / 1685   0x906 / 2310    0xab9 / 2745    ...   0x582 / 1410\n"),
            std::string::npos)
      << text;
  EXPECT_NE(text.find("   ~  level_sum+0x2d   i       0x1 / 1        0x2 / 2        0x3 / 3"), std::string::npos)
      << "variables go by their names";
  EXPECT_NE(text.find("[rbp-8] sum                now 0x3fd4 / 16340   was 0x3a52 / 14930"), std::string::npos);
  EXPECT_NE(text.find("[rbp-0x18] log             now "), std::string::npos) << "in the prologue, too";
  EXPECT_NE(text.find("jumps: 0 is less than 12, signed\n"), std::string::npos);
  EXPECT_NE(text.find("does not jump: 12 is greater than or equal to 12, signed\n"), std::string::npos);
  EXPECT_EQ(steps_of(rest)["steps"].size(), 145U);
}

/// Of several sinks that show rows to people each has every reason.
TEST(Steps, ReasonsAreInEveryText) {
  const TempFolder folder;
  const Outcome outcome = deeptrace(
      {"steps", "--from", "level_sum", "--save", (folder / "saved").string(), demo("tidelog"), demo("readings.txt")});
  const std::string saved = read_file((folder / "saved") / "steps.txt");
  for (const std::string reason :
       {"jumps: 0 is less than 12, signed\n", "does not jump: 12 is greater than or equal to 12, signed\n"}) {
    EXPECT_NE(outcome.out.find(reason), std::string::npos);
    EXPECT_NE(saved.find(reason), std::string::npos) << saved;
  }
}

TEST(Steps, ACrashIsTheLastRow) {
  struct Case {
    std::string way, signal;
    std::uint64_t address;
  };
  for (const Case& c : {Case{"null", "SIGSEGV", 0}, Case{"wild", "SIGSEGV", 0x8000000000001234}}) {
    const json result = steps_of({"--count", "all", fixture("failing"), c.way});
    const json& last = result["steps"].back();
    EXPECT_EQ(result["exit"], json({{"signal", c.signal}}));
    EXPECT_EQ(last["completed"], false);
    EXPECT_EQ(last["function"], "store");
    EXPECT_EQ(number(last["fault_address"]), c.address);
  }
  const json divided = steps_of({"--count", "all", fixture("failing"), "divide"});
  EXPECT_TRUE(divided["steps"].back()["text"].get<std::string>().starts_with("idiv"));
  EXPECT_EQ(divided["exit"], json({{"signal", "SIGFPE"}}));
  EXPECT_EQ(steps_of({"--count", "all", fixture("failing"), "trap"})["exit"], json({{"signal", "SIGTRAP"}}));
  EXPECT_EQ(steps_of({"--count", "all", fixture("failing"), "abort"})["exit"], json({{"signal", "SIGABRT"}}));
}

/// Processes whose command line holds `word`.
std::size_t processes_with(const std::string& word) {
  std::size_t count = 0;
  for (const auto& entry : std::filesystem::directory_iterator("/proc")) {
    const std::string name = entry.path().filename();
    if (name.find_first_not_of("0123456789") != std::string::npos) continue;
    count += read_file(entry.path() / "cmdline").find(word) != std::string::npos ? 1 : 0;
  }
  return count;
}

int wait_for(pid_t child) {
  int status = 0;
  ::waitpid(child, &status, 0);
  return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

/// Writes its thread's number, and adds to what all threads add to.
constexpr const char* kSharing = R"C(#include <pthread.h>
#include <stdatomic.h>
#include <stdio.h>
static atomic_int here;
long numbers[5];
volatile int shared;
__attribute__((noinline)) void work(long number) {
  numbers[number] = number;
  for (int i = 0; i < 200; i++) __asm__ volatile("incl shared(%%rip)" ::: "memory");
atomic_fetch_add(&here, 1);
while (atomic_load(&here) < 4)
  ;  // the others have to come along
}
static void* start(void* number) {
  work((long)number);
  return 0;
}
int main(void) {
  pthread_t all[4];
  for (long i = 2; i < 5; i++) pthread_create(&all[i - 1], 0, start, (void*)i);
  work(1);
  for (int i = 1; i < 4; i++) pthread_join(all[i], 0);
  printf("%ld %d\n", numbers[4], here);
  return 0;
})C";

/// Rows of all threads: whoever adds finds what the one before left.
TEST(Steps, OfAllThreadsTogetherAccountForEveryWrite) {
  const TempFolder folder;
  const std::string program = built(folder, "sharing", kSharing, {"gcc", "-g", "-O1", "-pthread"});
  const json result = steps_of({"--count", "all", "--thread", "all", "--program-output", folder / "output", program});
  EXPECT_EQ(result["exit"], json({{"status", 0}}));
  EXPECT_EQ(read_file(folder / "output"), "4 4\n");
  std::map<int, unsigned> added;
  std::uint64_t next = 0, number_before = 0;
  for (const json& row : result["steps"]) {
    EXPECT_EQ(row["n"], ++number_before);
    if (!row["text"].get<std::string>().starts_with("inc") || row["memory"].empty()) continue;
    EXPECT_EQ(number(row["memory"][0]["before"]), next);
    EXPECT_EQ(number(row["memory"][0]["after"]), ++next);
    ++added[row["thread"].get<int>()];
  }
  EXPECT_EQ(next, 800U);
  EXPECT_EQ(added.size(), 4U);
  for (const auto& [thread, count] : added) EXPECT_EQ(count, 200U) << thread;
}

/// Handlers of faults and of sent signals come back into the middle of own code, where no stop byte stands; with
/// another thread there the rows are the same as without. What is no instruction faults, and is a row.
TEST(Steps, HandlersComeBackIntoOwnCodeBesideOtherThreads) {
  const TempFolder folder;
  const std::string program = built(folder, "handling", R"(#include <pthread.h>
#include <signal.h>
#include <stdio.h>
#include <ucontext.h>
#include <unistd.h>
static volatile int seen;
static void skip(int number, siginfo_t *info, void *context) {
  ((ucontext_t *)context)->uc_mcontext.gregs[REG_RIP] += 1;
  seen += number;
}
static void plain(int number) { seen += number; }
static void *sleeper(void *none) { pause(); return none; }
int main(void) {
  pthread_t thread;
  struct sigaction action = {.sa_sigaction = skip, .sa_flags = SA_SIGINFO};
  sigaction(SIGILL, &action, 0);
  signal(SIGUSR1, plain);
  pthread_create(&thread, 0, sleeper, 0);
  __asm__ volatile(".byte 0x06");
  for (volatile int i = 0; i < 5; i++) seen++;
  raise(SIGUSR1);
  for (volatile int i = 0; i < 5; i++) seen++;
  return seen;
})",
                                    {"gcc", "-D_GNU_SOURCE", "-g", "-O0", "-pthread"});
  // main's instructions: of the thread that has rows alone, and among all.
  std::map<std::string, std::vector<std::string>> of_main;
  for (const std::string thread : {"1", "all"}) {
    const json result = steps_of({"--count", "all", "--thread", thread, program});
    EXPECT_EQ(result["exit"], json({{"status", 4 + 10 + 10}}));
    for (const json& row : result["steps"]) {
      if (row["function"] == "main" && row["kind"] == "instruction") of_main[thread].push_back(row["text"]);
    }
    EXPECT_EQ(texts_of_kind(result, "signal").front(), "SIGILL arrived: the kernel called skip");
    EXPECT_GE(count_in(result, "plain"), 8U);
  }
  EXPECT_GT(of_main["1"].size(), 100U);
  EXPECT_EQ(std::ranges::count(of_main["1"], ".byte 6"), 1);
  EXPECT_EQ(of_main["all"], of_main["1"]);
}

/// System calls of own code beside other threads: their rows come when they return.
TEST(Steps, ThreadsThatWaitInTheKernelLetTheOthersGoOn) {
  const TempFolder folder;
  const std::string program = built(folder, "waiting", R"(#include <pthread.h>
static int ends[2], got;
static char buffer[8];
static long call(long number, long a, void *b, long c) {
  long result;
  __asm__ volatile("syscall" : "=a"(result) : "0"(number), "D"(a), "S"(b), "d"(c) : "rcx", "r11", "memory");
  return result;
}
static void *reader(void *none) { got = call(0, ends[0], buffer, sizeof buffer); return none; }
int main(void) {
  pthread_t thread;
  call(22, (long)ends, 0, 0);
  pthread_create(&thread, 0, reader, 0);
  for (volatile int i = 0; i < 300; i++) ;
  call(1, ends[1], "tide", 4);
  pthread_join(thread, 0);
  return buffer[3] + got;
})",
                                    {"gcc", "-g", "-O0", "-pthread"});
  const json result = steps_of({"--count", "all", "--thread", "all", program});
  EXPECT_EQ(result["exit"], json({{"status", 'e' + 4}}));
  const json& rows = result["steps"];
  const auto is_kernel = [](const json& row) { return row["kind"] == "kernel"; };
  auto written = std::ranges::find_if(rows, is_kernel);
  ASSERT_NE(written, rows.end());  // pipe(2)
  written = std::find_if(std::next(written), rows.end(), is_kernel);
  ASSERT_NE(written, rows.end());
  EXPECT_EQ(plain_bytes(written->at("memory")[0]["after"].get<std::string>().substr(2)).size(), 4U);
  EXPECT_EQ(number(written->at("memory")[0]["after"]), 0x65646974U);  // "tide"
  EXPECT_EQ(std::prev(written)->at("text"), "syscall");
  EXPECT_EQ(std::prev(written)->at("changed")["rax"]["after"], "0x4");
  EXPECT_NE(written->at("thread"), rows[0]["thread"]);
  // Meanwhile the other counted.
  EXPECT_GT(written->at("n").get<int>(), 900);
}

/// Own functions' entries hold stop bytes while other code runs; a program that adds up its own code, or copies it,
/// finds its own bytes all the same.
TEST(Steps, AProgramReadsItsOwnCodeUnchanged) {
  const TempFolder folder;
  const std::string program = built(folder, "self", R"(#include <stdio.h>
__attribute__((noinline)) int level(int n) { return n * 3 + 1; }
static unsigned char copy[16];
int main(void) {
  unsigned sum = 0;
  puts("begins");
  const unsigned char *code = (const unsigned char *)level;
  for (int i = 0; i < 16; i++) sum = sum * 31 + code[i];
  unsigned char *to = copy;
  long count = 16;
  __asm__ volatile("rep movsb" : "+S"(code), "+D"(to), "+c"(count)::"memory");
  for (int i = 0; i < 16; i++) sum = sum * 31 + copy[i];
  fflush(stdout);
  long wrote = 1;
  __asm__ volatile("syscall" : "+a"(wrote) : "D"(1L), "S"(level), "d"(16L) : "rcx", "r11", "memory");
  printf("%d %x\n", level(4), sum);
  return 0;
})");
  const std::string alone = run({program}).out;
  for (const char* thread : {"1", "all"}) {
    const Outcome traced = deeptrace({"steps", "--format", "json", "--count", "all", "--thread", thread,
                                      "--program-output", folder / "output", program});
    ASSERT_EQ(traced.status, 0) << traced.err;
    EXPECT_EQ(read_file(folder / "output"), alone);
    // The function is stepped after it was read.
    EXPECT_GT(count_in(json::parse(traced.out), "level"), 5U);
  }
}

/// Functions of libraries that read what they are given find no stop bytes, where it returns included. One that may
/// read the inside of own code is said.
TEST(Steps, LibrariesReadOwnCodeUnchanged) {
  const TempFolder folder;
  const std::string text = R"(#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
__attribute__((noinline)) int level(int n) { return n * 3 + 1; }
static int up(const void *a, const void *b) { return *(const int *)a - *(const int *)b; }
int main(void) {
  unsigned char copy[256];
  int pair[2] = {3, 1};
  unsigned sum = 0;
  memcpy(copy, (const void *)level, sizeof copy); /* reaches into main */
  for (int i = 0; i < 256; i++) sum = sum * 31 + copy[i];
  qsort(pair, 2, sizeof pair[0], up);
  write(1, (const void *)level, 16);
  printf("%d %x %d %d\n", level(4), sum, memcmp(copy, (const void *)level, 64), pair[0]);
  return strnlen((const char *)level + 1, 3) == 99;
})";
  for (const char* width : {"-m64", "-m32"}) {
    const std::string program = built(folder, "reading", text, {"gcc", width, "-g", "-O0", "-w", "-fno-builtin"});
    const std::string alone = run({program}).out;
    const Outcome traced =
        deeptrace({"steps", "--format", "json", "--count", "all", "--program-output", folder / "output", program});
    ASSERT_EQ(traced.status, 0) << traced.err;
    EXPECT_EQ(read_file(folder / "output"), alone) << width;
    const json result = json::parse(traced.out);
    EXPECT_GT(count_in(result, "up"), 5U) << "what is called back is stepped all the same";
    std::vector<std::string> notes;
    for (const json& row : result["steps"]) {
      if (row.contains("note")) notes.push_back(row["note"]);
    }
    ASSERT_EQ(notes.size(), 1U) << width;
    EXPECT_TRUE(notes[0].starts_with("strnlen")) << notes[0];
  }
}

/// A signal that nobody handles comes while such a function waits: control is not lost.
TEST(Steps, AReaderOfOwnCodeMayBeInterrupted) {
  const TempFolder folder;
  const std::string program = built(folder, "waiting", R"(#include <fcntl.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>
static volatile int level;
__attribute__((noinline)) static void work(void) { level = 5; }
int main(void) {
  static char page[4096];
  int ends[2];
  pipe(ends);
  fcntl(ends[1], F_SETFL, O_NONBLOCK);
  while (write(ends[1], page, sizeof page) > 0) ;
  fcntl(ends[1], F_SETFL, 0);
  if (fork() == 0) {
    usleep(100000);
    kill(getppid(), SIGWINCH);
    usleep(100000);
    read(ends[0], page, sizeof page);
    _exit(0);
  }
  write(ends[1], (const void *)work, 64); /* the pipe is full */
  work();
  wait(0);
  return level;
})");
  const json result = steps_of({"--count", "all", program});
  EXPECT_EQ(result["exit"], json({{"status", 5}}));
  EXPECT_EQ(result["ended"], "return");
  EXPECT_GT(count_in(result, "work"), 3U) << "after the write";
}

/// Code that a library's function writes for the program, over a stop byte too, is decoded as it is then.
TEST(Steps, CodeWrittenAtFullSpeedIsDecodedAsItIsThen) {
  const TempFolder folder;
  const std::string program = built(folder, "patching", R"(#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
__attribute__((noinline)) int level(void) { return 1; }
static int call(const void *a, const void *b) { (void)a; (void)b; return level() * 0; }
int main(void) {
  int pair[2] = {level(), 0};
  static const unsigned char code[] = {0xb8, 7, 0, 0, 0, 0xc3};  /* mov eax, 7; ret */
  void *page = (void *)((uintptr_t)level & ~(uintptr_t)4095);
  mprotect(page, 8192, PROT_READ | PROT_WRITE | PROT_EXEC);
  memcpy((void *)level, code, sizeof code);
  qsort(pair, 2, sizeof pair[0], call);
  return level() + pair[0] + pair[1];
})",
                                    {"gcc", "-g", "-O0", "-fno-builtin"});
  EXPECT_EQ(run({program}).status, 8);
  for (const std::string thread : {"1", "all"}) {
    const json result = steps_of({"--count", "all", "--thread", thread, program});
    EXPECT_EQ(result["exit"], json({{"status", 8}}));
    std::vector<std::string> texts;
    for (const json& row : result["steps"]) {
      if (row["function"] == "level") texts.push_back(row["text"]);
    }
    EXPECT_EQ(std::ranges::count(texts, "mov eax, 7"), 2);
    EXPECT_EQ(std::ranges::count(texts, "mov eax, 1"), 1);
  }
}

/// The smallest loops, and such as begin after much else, are found; what counts is not.
TEST(Progress, IsSeenInRegistersThatDoNotRepeat) {
  for (const std::uint64_t period : {1, 2, 3, 100, 3000}) {
    control::Progress progress;
    state::RegisterSet registers;
    std::uint64_t turns = 0;
    for (; turns < 5000; ++turns) {
      registers[state::Reg::rcx] = turns;
      progress.turn(7, registers);
      EXPECT_FALSE(progress.stuck());
    }
    registers = {};
    bool stuck = false;
    for (turns = 0; !stuck && turns < 40'000; ++turns) {
      registers[state::Reg::rip] = 0x401000 + turns % period;
      progress.turn(7, registers);
      stuck = progress.stuck();
    }
    EXPECT_TRUE(stuck) << period;
    EXPECT_GE(turns, control::Progress::kTurns);
    progress.turn(7, registers);
    EXPECT_FALSE(progress.stuck()) << "said twice";
  }
  // One of two counts.
  control::Progress progress;
  state::RegisterSet still, counting;
  for (std::uint64_t turns = 0; turns < 50'000; ++turns) {
    progress.turn(7, still);
    counting[state::Reg::rcx] = turns;
    progress.turn(8, counting);
    ASSERT_FALSE(progress.stuck());
  }
}

/// Two threads that wait for each other take turns without an end: the row says so, once, and rows go on.
TEST(Steps, SaysWhereThreadsWaitForEachOther) {
  const TempFolder folder;
  const std::string program = built(folder, "spinning", R"(#include <pthread.h>
#include <sys/time.h>
static volatile int low, high, rest = 300;
static void *other(void *none) { while (!low) ; high = 1; return none; }
int main(void) {
  pthread_t thread;
  struct itimerval soon = {.it_value = {2, 0}};
  setitimer(ITIMER_VIRTUAL, &soon, 0);  /* of its own time, which stepping hardly takes */
  pthread_create(&thread, 0, other, 0);
  while (rest) rest--;
  while (!high) ;
  low = 1;
  return 0;
})",
                                    {"gcc", "-g", "-O1", "-pthread"});
  for (const std::string thread : {"1", "all"}) {
    const json result = steps_of({"--count", "20000", "--thread", thread, program});
    EXPECT_EQ(result["exit"], json({{"signal", "SIGVTALRM"}}));
    const auto notes = std::ranges::count_if(result["steps"], [](const json& row) { return row.contains("note"); });
    EXPECT_EQ(notes, 1);
    const auto noted = std::ranges::find_if(result["steps"], [](const json& row) { return row.contains("note"); });
    EXPECT_GT(noted - result["steps"].begin(), 5000);  // the countdown is progress
    EXPECT_EQ(noted->at("function"), noted->at("line") == 4 ? "other" : "main");
    EXPECT_TRUE(noted->at("line") == 4 || noted->at("line") == 11) << *noted;
  }
}

/// Each row has what its own instruction found and left, though others write to the same place.
TEST(Steps, OtherThreadsTakeTheirTurnsBetweenRows) {
  const TempFolder folder;
  const std::string program = built(folder, "sharing", kSharing, {"gcc", "-g", "-O1", "-pthread"});
  for (const std::string thread : {"1", "2", "3", "4"}) {
    const Outcome traced = deeptrace({"steps", "--format", "json", "--count", "all", "--from", "work", "--thread",
                                      thread, "--program-output", folder / "output", program});
    ASSERT_EQ(traced.status, 0) << traced.err;
    const json result = json::parse(traced.out);
    EXPECT_EQ(result["ended"], "return");
    EXPECT_EQ(result["threads_not_stepped"], 3);
    EXPECT_EQ(read_file(folder / "output"), "4 4\n");
    unsigned added = 0, numbered = 0;
    std::uint64_t last = 0;
    for (const json& row : result["steps"]) {
      EXPECT_EQ(row["thread"], result["steps"][0]["thread"]);
      if (row["kind"] != "instruction" || row["memory"].empty()) continue;
      const std::uint64_t before = number(row["memory"][0]["before"]), after = number(row["memory"][0]["after"]);
      numbered += row["text"].get<std::string>().starts_with("mov") && after == std::stoul(thread) ? 1 : 0;
      if (!row["text"].get<std::string>().starts_with("inc")) continue;
      EXPECT_EQ(after, before + 1);
      EXPECT_GE(before, last);  // nobody takes away
      last = after;
      ++added;
    }
    EXPECT_EQ(added, 200U);
    EXPECT_EQ(numbered, 1U);
  }
  EXPECT_EQ(deeptrace({"steps", "--thread", "x", program}).status, 2);
}

TEST(Steps, AnAttachedProgramIsFollowedFromWhereItStandsAndLetGo) {
  const TempFolder folder;
  const std::string program = built(folder, "ticking", R"(#include <unistd.h>
#include <stdio.h>
volatile int ticks;
__attribute__((noinline)) void tick(void) { ticks += 2; }
int main(void) {
  for (int i = 0; i < 400; i++) { tick(); usleep(5000); }
  printf("%d\n", ticks);
  return 0;
})",
                                    {"gcc", "-g", "-O0", "-no-pie"});
  const auto attached = [&](const std::vector<std::string>& options) {
    const pid_t worker = ::fork();
    if (worker == 0) {
      ::dup2(::open((folder / "result").c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600), 1);
      ::execl(program.c_str(), program.c_str(), nullptr);
      ::_exit(126);
    }
    std::error_code none;
    EXPECT_TRUE(wait_until(
        [&] { return std::filesystem::read_symlink("/proc/" + std::to_string(worker) + "/exe", none) == program; }));
    std::this_thread::sleep_for(std::chrono::milliseconds(100));
    std::vector<std::string> words = {"--attach", std::to_string(worker)};
    words.insert(words.end(), options.begin(), options.end());
    const json result = steps_of(words);
    EXPECT_EQ(result["exit"], json({{"stopped", "detached"}}));
    expect_untouched(worker, program);
    int status = 0;
    ::waitpid(worker, &status, 0);
    EXPECT_EQ(status, 0);
    EXPECT_EQ(read_file(folder / "result"), "800\n");
    return result;
  };
  const json from_sleep = attached({"--count", "60"});
  EXPECT_EQ(from_sleep["instructions"], 60);
  EXPECT_EQ(from_sleep["steps"][0]["kind"], "full_speed");
  EXPECT_GT(count_in(from_sleep, "tick"), 5U);
  const json one_tick = attached({"--from", "tick", "--count", "all"});
  EXPECT_EQ(one_tick["ended"], "return");
  EXPECT_EQ(one_tick["steps"][0]["function"], "tick");
  EXPECT_EQ(count_in(one_tick, "main"), 0U);
}

/// A library that is loaded while the program runs is own code from then on, its constructor too; one that is unloaded
/// takes its stop bytes along.
/// Whoever comes to the place first is followed, be it a child or a child's child; the others run beside it, as the
/// program needs them.
TEST(Steps, AChildIsFollowedFromWhereItComesToThePlace) {
  const TempFolder folder;
  const std::string program = built(folder, "forking", R"(#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>
static int to_child[2], to_parent[2];
static long call(long number, long a, void *b, long c) {
  long result;
  __asm__ volatile("syscall" : "=a"(result) : "0"(number), "D"(a), "S"(b), "d"(c) : "rcx", "r11", "memory");
  return result;
}
__attribute__((noinline)) static int work(int n) {
  char answer = 0;
  call(1, to_parent[1], "a", 1);
  call(0, to_child[0], &answer, 1); /* the parent answers while this one waits in own code */
  return n + answer;
}
int main(int argc, char **argv) {
  pipe(to_child), pipe(to_parent);
  const int depth = argc > 1 ? atoi(argv[1]) : 1;
  int status = 0;
  for (int i = 0; i < depth; i++) {
    if (fork() == 0) continue; /* the next one forks */
    if (i == 0) {
      char asked = 0;
      read(to_parent[0], &asked, 1);
      asked += 1;
      write(to_child[1], &asked, 1);
    }
    system("true");
    wait(&status);
    printf("%d\n", WEXITSTATUS(status));
    return WEXITSTATUS(status) + 1;
  }
  return work(2) - 'a';
})",
                                    {"gcc", "-g", "-O0", "-w"});
  for (const std::string depth : {"1", "2"}) {
    const std::string alone = run({program, depth}).out;
    const Outcome outcome = deeptrace({"steps", "--format", "json", "--children", "trace", "--from", "work", "--count",
                                       "all", "--program-output", folder / "output", program, depth});
    ASSERT_EQ(outcome.status, 0) << outcome.err;
    EXPECT_EQ(read_file(folder / "output"), alone);
    const json result = json::parse(outcome.out);
    EXPECT_EQ(result["ended"], "return");
    EXPECT_EQ(result["exit"], json({{"status", 3}})) << "of the process that was followed";
    EXPECT_EQ(result["process"], result["steps"][0]["task"]);
    EXPECT_GT(count_in(result, "call"), 20U);
    EXPECT_EQ(count_in(result, "main"), 0U);
    const auto kernel = std::ranges::find_if(result["steps"], [](const json& row) { return row["kind"] == "kernel"; });
    ASSERT_NE(kernel, result["steps"].end());
    EXPECT_EQ(kernel->at("memory")[0]["after"], "0x62");
  }
  const std::string gone = built(folder, "leaving", R"(#include <unistd.h>
static volatile int level;
__attribute__((noinline)) static void work(void) { level = 5; }
int main(void) {
  if (fork() != 0) return 1;
  usleep(100000);
  work();
  return level;
})");
  const json result = steps_of({"--children", "trace", "--from", "work", gone});
  EXPECT_EQ(result["exit"], json({{"status", 5}}));
  EXPECT_GT(count_in(result, "work"), 3U);
  const Outcome never = deeptrace({"steps", "--children", "trace", "--from", "never", gone});
  EXPECT_EQ(never.status, 2);
  EXPECT_EQ(deeptrace({"steps", "--children", "trace", gone}).status, 2) << "without a place";
}

TEST(Steps, LibrariesThatAreLoadedLaterAreFollowed) {
  const TempFolder folder;
  const std::string library = built(folder, "libtide.so", R"(static int begun;
__attribute__((constructor)) static void begin(void) { begun = 5; }
int tide(int level) { return level + begun; })",
                                    {"gcc", "-g", "-O0", "-shared", "-fPIC"});
  const std::string program = built(folder, "loading", R"(#include <dlfcn.h>
int main(int argc, char **argv) {
  int sum = 0;
  for (int i = 0; i < 2; i++) {
    void *library = dlopen(argv[1], RTLD_NOW);
    int (*tide)(int) = (int (*)(int))dlsym(library, "tide");
    sum += tide(i);
    dlclose(library);
  }
  return sum;
})",
                                    {"gcc", "-g", "-O0"});
  const json result = steps_of({"--count", "all", program, library});
  EXPECT_EQ(result["exit"], json({{"status", 11}}));
  EXPECT_EQ(result["ended"], "return");
  EXPECT_GE(count_in(result, "begin"), 8U);
  EXPECT_GE(count_in(result, "tide"), 10U);
}

TEST(Steps, InterruptedItReportsWhatItHasAndLeavesNothing) {
  for (const int signal : {SIGINT, SIGTERM}) {
    const TempFolder folder;
    // A copy under a name of its own, so that it can be found among all processes.
    std::filesystem::copy_file(fixture("failing"), folder / "spinning");
    const std::string program = folder / "spinning";
    const pid_t child =
        start_deeptrace({"steps", "--format", "json", "--count", "all", program, "spin"}, folder.path());
    while (processes_with(program) < 2) std::this_thread::sleep_for(std::chrono::milliseconds(5));
    while (std::filesystem::file_size(folder / "out") < 200000) {
      std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
    ::kill(child, signal);
    EXPECT_EQ(wait_for(child), 130);
    const std::string text = read_file(folder / "out");
    ASSERT_TRUE(json::accept(text)) << text.substr(text.size() - 300);
    const json result = json::parse(text);
    EXPECT_EQ(result["exit"], json({{"stopped", "interrupt"}}));
    EXPECT_GT(result["steps"].size(), 100U);
    EXPECT_EQ(processes_with(program), 0U);
  }
}

TEST(Steps, AProgramKilledFromOutsideIsOneLineAndStatusFour) {
  const TempFolder folder;
  std::filesystem::copy_file(fixture("failing"), folder / "spinning");
  const std::string program = folder / "spinning";
  const pid_t child = start_deeptrace({"steps", "--format", "json", "--count", "all", program, "spin"}, folder.path());
  ASSERT_TRUE(wait_until([&] { return run({"pgrep", "-f", "^" + program}).status == 0; }));
  std::this_thread::sleep_for(std::chrono::milliseconds(200));
  ASSERT_EQ(run({"pkill", "-KILL", "-f", "^" + program}).status, 0);
  EXPECT_EQ(wait_for(child), 4);
  EXPECT_EQ(json::parse(read_file(folder / "out"))["exit"], json({{"signal", "SIGKILL"}}));
  const std::string err = read_file(folder / "err");
  EXPECT_EQ(std::count(err.begin(), err.end(), '\n'), 1) << err;
}

TEST(Steps, BadRequestsAreOneLineAndAStatus) {
  const TempFolder folder;
  write_file(folder / "plain.txt", "no program\n");
  const auto status = [](std::vector<std::string> words) {
    words.insert(words.begin(), "steps");
    const Outcome outcome = deeptrace(words);
    EXPECT_EQ(std::count(outcome.err.begin(), outcome.err.end(), '\n'), 1) << outcome.err;
    EXPECT_EQ(outcome.out, "");
    return outcome.status;
  };
  EXPECT_EQ(status({"--from", "no_such", demo("tidelog")}), 2);
  EXPECT_EQ(status({"--to", "levels.c:3", demo("tidelog")}), 2);
  EXPECT_EQ(status({folder / "plain.txt"}), 4);
  EXPECT_EQ(status({folder / "missing"}), 4);
  EXPECT_EQ(status({"--work-dir", "/nowhere", demo("tidelog")}), 4);
  EXPECT_EQ(status({"--input", "/nowhere", demo("tidelog")}), 4);
  EXPECT_EQ(status({"--env", "novalue", demo("tidelog")}), 2);
  // Ends before --from.
  EXPECT_EQ(status({"--from", "by_level", "--program-output", folder / "output", fixture("never")}), 4);
}

/// A loop in registers is carried out by what its instructions mean; the thread runs often enough to be interrupted.
TEST(Steps, SignalsComeIntoLoopsOfRegisters) {
  const TempFolder folder;
  const std::string program = built(folder, "awaiting", R"(#include <signal.h>
#include <unistd.h>
static void woken(int number) { _exit(number == SIGALRM ? 7 : 1); }
int main(void) {
  signal(SIGALRM, woken);
  ualarm(200000, 0);
  for (;;) __asm__ volatile("add $1, %%rax\n\tlea 1(%%rcx), %%rcx" : : : "rax", "rcx");
})");
  const Outcome outcome = deeptrace({"steps", "--format", "csv", "--count", "all", "--save-formats", "json", "--save",
                                     folder / "result", "--program-output", "/dev/null", program});
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  const json result = json::parse(read_file(folder / "result/steps.json"));
  EXPECT_EQ(result["exit"], json({{"status", 7}}));
}

/// What was executed before is not taken as done when its page can be executed no longer.
TEST(Steps, CodeThatMayNoLongerRunFaults) {
  const TempFolder folder;
  const std::string program = built(folder, "forbidden", R"(#include <sys/mman.h>
__attribute__((naked, aligned(4096))) int quiet(void) { __asm__("add $1, %eax\n\tadd $2, %eax\n\tret"); }
__attribute__((aligned(4096))) int main(void) {
  quiet();
  quiet();
  mprotect((void *)quiet, 4096, PROT_READ);
  return quiet();
})");
  const json result = steps_of({"--count", "all", program});
  EXPECT_EQ(result["exit"], json({{"signal", "SIGSEGV"}}));
  int additions = 0;
  for (const auto& row : result["steps"]) additions += row["text"].get<std::string>().starts_with("add eax") ? 1 : 0;
  EXPECT_EQ(additions, 5);  // two calls, and the one that faults
}

TEST(Steps, PassesOnInputEnvironmentAndFolder) {
  const TempFolder folder;
  write_file(folder / "input", "fed\n");
  const std::string output = folder / "output";
  const Outcome outcome =
      deeptrace({"steps", "--format", "none", "--input", folder / "input", "--env", "TIDE=high", "--work-dir",
                 folder.path(), "--program-output", output, "--from", "0x0", "/bin/sh"});
  EXPECT_EQ(outcome.status, 2);
  const Outcome ran = deeptrace({"steps", "--format", "none", "--count", "1", "--input", folder / "input", "--env",
                                 "TIDE=high", "--work-dir", folder.path(), "--program-output", output, "/bin/sh", "-c",
                                 "read a; echo $a $TIDE; pwd; exit 5"});
  EXPECT_EQ(ran.status, 0) << ran.err;
  EXPECT_EQ(read_file(output), "fed high\n" + folder.path().string() + "\n");
}

/// What xrstor loads beside vectors and the floating-point unit is not compared.
TEST(Steps, SaysWhichRegistersItDoesNotCompare) {
  const TempFolder folder;
  const std::string program = built(folder, "restoring", R"(#include <cpuid.h>
static unsigned char area[16384] __attribute__((aligned(64)));
int main(void) {
  unsigned a, b, c, d;
  __cpuid(1, a, b, c, d);
  if (c & bit_OSXSAVE) {
    __asm__ volatile("xsave %0" : "+m"(area) : "a"(3), "d"(0));
    __asm__ volatile("xrstor %0" : : "m"(area), "a"(3), "d"(0));
  }
  return 0;
})");
  const json result = steps_of({"--count", "all", program});
  for (const auto& row : result["steps"]) {
    EXPECT_EQ(row.contains("registers_followed"), row["text"].get<std::string>().starts_with("xrstor")) << row;
  }
}

}  // namespace
}  // namespace deeptrace::tests
