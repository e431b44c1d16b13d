// Rows that are made up, as people and machines read them: at 80 and 200 columns, as JSON and CSV.
#include <gtest/gtest.h>

#include <cstring>
#include <nlohmann/json.hpp>
#include <sstream>

#include "program/source_text.h"
#include "report/steps.h"
#include "report/uses.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using session::StepRow;
using state::Reg;

/// A run of a few rows: a loop of five iterations, a function that ran at full speed, a fault.
void send_steps(session::StepsSink& sink, bool fault = true) {
  sink.begin({.program = "tide/gauge", .thread = 70, .address = 0x401136, .place = "level_sum"});
  std::uint64_t number = 0;
  state::Delta delta;
  const auto instruction = [&](std::uint64_t address, std::uint64_t offset, const char* text) {
    StepRow row;
    row.number = ++number;
    row.thread = 70;
    row.thread_number = 2;
    row.address = address;
    row.function = "level_sum";
    row.offset = offset;
    row.text = text;
    row.delta = &delta;
    return row;
  };
  delta.registers = {{Reg::rcx, 0, 5}};
  delta.flags_before = delta.flags_after = 0x202;
  sink.row(instruction(0x401136, 0, "mov ecx, 5"));
  for (std::uint64_t left = 5; left > 0; --left) {
    delta.clear();
    delta.registers = {{Reg::rcx, left, left - 1}};
    delta.flags_before = 0x202;
    delta.flags_after = left == 1 ? 0x246 : 0x202;
    state::MemoryChange& written = delta.add_memory(0x7000 + 4 * left, 4);
    std::memcpy(delta.after(written), &left, 4);
    sink.row(instruction(0x40113b, 5, "dec ecx"));
    delta.clear();
    delta.flags_before = delta.flags_after = left == 1 ? 0x246 : 0x202;
    StepRow jump = instruction(0x40113d, 7, "jne 0x40113b");
    jump.target_name = "level_sum+5";
    jump.taken = left != 1;
    sink.row(jump);
  }
  delta.clear();
  delta.registers = {{Reg::rax, 0, 9}, {Reg::rdx, 1, 2}};
  StepRow away = instruction(0x401030, 0, "puts ran and returned");
  away.kind = StepRow::Kind::full_speed;
  away.function = "puts";
  away.memory_followed = false;
  sink.row(away);
  delta.clear();
  if (fault) {
    StepRow last = instruction(0x401144, 14, "mov eax, dword ptr [rdi]");
    last.completed = false;
    last.signal = 11;
    last.fault_address = 8;
    sink.row(last);
  }
  sink.end({.ended = session::StepsEnd::program_end,
            .exit = {fault ? session::RunEnd::How::killed : session::RunEnd::How::exited, fault ? 11 : 3},
            .rows = number,
            .instructions = number - 1,
            .other_threads = 2,
            .findings = {}});
}

std::string steps_at(unsigned width, bool fault = true) {
  report::Output out;
  program::SourceText sources;
  send_steps(*report::steps_text(out, {false, true, width}, sources, {}), fault);
  return std::string(out.text());
}

TEST(Renderers, StepsFoldALoopAndEndWithTheReason) {
  EXPECT_EQ(
      steps_at(200),
      "tide/gauge   from level_sum (0x401136)   address randomisation switched off\n"
      "\n"
      "level_sum\n"
      "       1  0x401136  +0      mov ecx, 5\n"
      "   ~              rcx                        now 0x5 \u00b7 5   was 0x0 \u00b7 0\n"
      "       2  0x40113b  +5      dec ecx\n"
      "   ~              rcx                        now 0x4 \u00b7 4   was 0x5 \u00b7 5\n"
      "   ~              [0x7014] 4 bytes           now 0x5 \u00b7 5   was 0x0 \u00b7 0\n"
      "       3  0x40113d  +7      jne 0x40113b                     \u2192 level_sum+5   jumps\n"
      "  \u2026 the same 2 rows 5 times, from level_sum+5 on: the first time above, the last below; what varied, by "
      "iteration:\n"
      "                             1                  2                  3                  4                  5\n"
      "   ~  level_sum+5   rcx      0x4 \u00b7 4            0x3 \u00b7 3            0x2 \u00b7 2            0x1 \u00b7 "
      "1            "
      "0x0 \u00b7 0\n"
      "   ~  level_sum+5   flags    none               same               same               same               ZF PF\n"
      "   ~  level_sum+5   memory   [0x7014] 0x5 \u00b7 5   [0x7010] 0x4 \u00b7 4   [0x700c] 0x3 \u00b7 3   [0x7008] "
      "0x2 \u00b7 2   "
      "[0x7004] 0x1 \u00b7 1\n"
      "      10  0x40113b  +5      dec ecx\n"
      "   ~              rcx                        now 0x0 \u00b7 0   was 0x1 \u00b7 1\n"
      "   ~              flags                      now ZF PF   was none\n"
      "   ~              [0x7004] 4 bytes           now 0x1 \u00b7 1   was 0x0 \u00b7 0\n"
      "      11  0x40113d  +7      jne 0x40113b                     \u2192 level_sum+5   does not jump\n"
      "      12  puts ran and returned; memory was not followed there\n"
      "   ~              rax                        now 0x9 \u00b7 9   was 0x0 \u00b7 0\n"
      "   ~              also changed: rdx\n"
      "      13  0x401144  +0xe    mov eax, dword ptr [rdi]\n"
      "   wrong: SIGSEGV here, at address 0x8: the instruction was not completed\n"
      "\n"
      "12 instructions stepped; the program ended\n"
      "note: 2 other threads took their turns without rows; what they wrote is not in the rows\n"
      "wrong: the program was ended by SIGSEGV\n");
}

/// Rows of a table of iterations.
bool is_of_table(const std::string& line) {
  return line.starts_with("   ~  level_sum") || line.starts_with(std::string(20, ' '));
}

std::string without_table(const std::string& text) {
  std::string result;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    if (!is_of_table(line)) result += line + "\n";
  }
  return result;
}

/// Where a table has no room, iterations in the middle are left out; the first and the last stay.
TEST(Renderers, TablesOfIterationsFitTheTerminal) {
  std::istringstream lines(steps_at(80));
  std::size_t rows = 0;
  for (std::string line; std::getline(lines, line);) {
    if (!is_of_table(line)) continue;
    ++rows;
    EXPECT_LE(report::columns_of(line), 80U) << line;
    EXPECT_NE(line.find("\u2026"), std::string::npos) << line;
  }
  EXPECT_EQ(rows, 4U);
  EXPECT_NE(steps_at(80).find("rcx      0x4 \u00b7 4            \u2026   0x0 \u00b7 0\n"), std::string::npos)
      << steps_at(80);
}

/// A narrow terminal cuts lines and changes nothing else.
TEST(Renderers, StepsAtEightyColumnsAreCutOnly) {
  const std::string wide = without_table(steps_at(0)), narrow = without_table(steps_at(80));
  std::size_t from = 0, cut = 0;
  for (std::size_t at = 0; at < wide.size();) {
    const std::string line = wide.substr(at, wide.find('\n', at) - at);
    const std::string shown = narrow.substr(from, narrow.find('\n', from) - from);
    EXPECT_TRUE(line.starts_with(shown)) << shown;
    EXPECT_LE(report::columns_of(shown), 80U);
    if (line != shown) {
      EXPECT_EQ(report::columns_of(shown), 80U) << shown;
      ++cut;
    }
    at += line.size() + 1;
    from += shown.size() + 1;
  }
  EXPECT_EQ(from, narrow.size());
  EXPECT_GE(cut, 2U);
  EXPECT_TRUE(steps_at(0, false).ends_with("the program ended with status 3\n"));
}

TEST(Renderers, StepsAsJsonAndCsvHaveEveryRow) {
  report::Output json_out, csv_out;
  send_steps(*report::steps_json(json_out));
  send_steps(*report::steps_csv(csv_out));
  const auto result = nlohmann::json::parse(json_out.text());
  ASSERT_EQ(result["steps"].size(), 13U);
  EXPECT_EQ(result["threads_not_stepped"], 2);
  EXPECT_EQ(result["exit"], nlohmann::json({{"signal", "SIGSEGV"}}));
  const auto& row = result["steps"][1];
  EXPECT_EQ(row["thread"], 2);
  EXPECT_EQ(row["task"], 70);
  EXPECT_EQ(row["changed"], nlohmann::json({{"rcx", {{"before", "0x5"}, {"after", "0x4"}}}}));
  EXPECT_EQ(row["memory"][0],
            nlohmann::json({{"address", "0x7014"}, {"size", 4}, {"before", "0x0"}, {"after", "0x5"}}));
  EXPECT_EQ(result["steps"][2]["taken"], true);
  EXPECT_EQ(result["steps"][12]["fault_address"], "0x8");
  const std::string csv(csv_out.text());
  EXPECT_EQ(std::ranges::count(csv, '\n'), 14);
  EXPECT_NE(
      csv.find("\r\n2,instruction,2,0x40113b,level_sum,,,dec ecx,rcx 0x5 0x4,0x202,0x202,0x7014 4 0x0 0x5,true\r\n"),
      std::string::npos)
      << csv;
}

TEST(Renderers, UsesAreGroupedByFunctionAndLine) {
  const TempFolder folder;
  write_file(folder / "levels.c", "long sum;\nvoid add(long n)\n{\n  sum += n;\n}\n");
  const std::string file = folder / "levels.c";
  const auto program = program::Program::open(demo("tidelog"), {});
  ASSERT_TRUE(program);
  for (const unsigned width : {80U, 200U}) {
    report::Output out;
    program::SourceText sources;
    const auto sink = report::uses_text(out, {false, false, width}, sources);
    study::UsesHead head;
    head.program = &*program;
    head.name = "sum";
    head.kind = "variable";
    head.address = 0x4050;
    head.size = 8;
    sink->begin(head);
    study::Use use;
    use.function = "add";
    use.file = file;
    use.line = 4;
    use.address = 0x1136;
    use.how = program::UseKind::read;
    use.text = "mov rax, qword ptr [rip+0x2f13]";
    sink->use(use);
    use.address = 0x1140;
    use.how = program::UseKind::write;
    use.text = "mov qword ptr [rip+0x2f09], rax";
    use.part = "+8";
    sink->use(use);
    use = {};
    use.in_data = true;
    use.address = 0x4060;
    use.text = ".quad sum";
    sink->use(use);
    study::UsesSummary summary;
    summary.uses = 3;
    summary.unknown_calls = 1;
    sink->end(summary);
    const std::string text(out.text());
    EXPECT_EQ(text.substr(text.find('\n')),
              "\n\n"
              "add\n"
              "      4    sum += n;   levels.c\n"
              "      0x1136  reads          mov rax, qword ptr [rip+0x2f13]\n"
              "      0x1140  writes         mov qword ptr [rip+0x2f09], rax             -> +8\n"
              "\n"
              "data\n"
              "      0x4060  holds address  .quad sum\n"
              "\n"
              "3 uses\n"
              "note: of 1 system call the number is not known from the code before\n")
        << width;
    EXPECT_TRUE(text.starts_with("sum   variable at 0x4050, 8 bytes   ")) << text;
  }
}

}  // namespace
}  // namespace deeptrace::tests
