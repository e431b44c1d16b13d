// What every command writes on a terminal, kept in tests/golden: at 80 columns in plain ASCII, and at 200 with colours
// and UTF-8. The program that it is about (programs/gauge.s) has no library and fixed addresses. Where a text is meant
// to change, DEEPTRACE_GOLDEN=write writes the files anew; read what git says of them.
#include "golden.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <cstdlib>
#include <regex>

#include "report/output.h"
#include "support.h"
#include "terminal.h"

namespace deeptrace::tests {
namespace {

struct Golden {
  const char* name;
  std::vector<std::string> words;
  int status = 0;
  const char* typed = "";  ///< on its standard input
};

std::ostream& operator<<(std::ostream& out, const Golden& golden) { return out << golden.name; }

const char* const kTyped =
    "halts\nhalt at next_height when ecx == 2\nhalt on write total\nresume\nregs rdi ecx\nregs\nflags\nstack "
    "4\nframes\n"
    "memory heights as i16 4\nshow [i16 rdi+rcx*2]\nvars\ncode count_above\nwhy\ninto\nset eax = -1\nfollow eax\nline\n"
    "remove h1\nresume\nout\nnothing\nresume\nquit\n";

const Golden kGolden[] = {
    {"survey", {"survey", "gauge"}},
    {"survey-two", {"survey", "gauge", "gauge.o"}},
    {"listing", {"listing", "gauge"}},
    {"listing-att", {"listing", "gauge", "count_above", "--syntax", "att"}},
    {"listing-meaning", {"listing", "gauge", "level_sum", "--meaning"}},
    {"listing-assembler", {"listing", "gauge", "count_above", "--format", "assembler"}},
    {"lines", {"lines", "gauge", "gauge.s:39..51"}},
    {"lines-back", {"lines", "gauge", "--at", "level_sum+0x14"}},
    {"data", {"data", "gauge"}},
    {"uses", {"uses", "gauge", "heights"}},
    {"uses-call", {"uses", "gauge", "--syscall", "write"}},
    {"compare", {"compare", "gauge", "changed", "count_above"}, 1},
    {"compare-files", {"compare", "gauge", "changed"}, 1},
    {"explain-bytes", {"explain", "bytes", "48f77df8"}},
    {"explain-flags", {"explain", "flags", "0x246"}},
    {"explain-register", {"explain", "register", "r12d"}},
    {"explain-convention", {"explain", "convention", "microsoft-64"}},
    {"explain-instruction", {"explain", "instruction", "cdqe"}},
    {"hits", {"hits", "--at", "next_height", "--keep", "ecx,[i32 rbp-4],[i16 rdi+rcx*2]", "./gauge"}},
    {"hits-write", {"hits", "--on-write", "total", "--card", "./gauge"}},
    {"steps", {"steps", "--from", "level_sum", "--to", "count_above", "./gauge"}},
    {"steps-end", {"steps", "--from", "counted", "./gauge"}},
    {"plan", {"plan", "gauge.plan", "./gauge"}, 1},
    {"console", {"console", "./gauge"}, 2, kTyped},
    {"listing-without-source", {"listing", "gauge", "count_above", "--source-moved", "/tide=/nowhere"}},
    {"steps-without-source", {"steps", "--from", "counted", "--source-moved", "/tide=/nowhere", "./gauge"}},
    {"wrong-location", {"listing", "gauge", "level_sun"}, 2},
    {"wrong-file", {"survey", "gauge.s"}, 3},
    {"wrong-option", {"steps", "--fron", "level_sum", "./gauge"}, 2},
};

/// What differs from run to run, and from kernel to kernel: where the stack begins.
std::string steady(std::string text) {
  const auto is_digit = [](char c) { return std::string_view("0123456789abcdef").find(c) != std::string_view::npos; };
  for (const std::string_view start : {"0x7ff", "0x00007ff"}) {
    for (std::size_t at = text.find(start); at != std::string::npos; at = text.find(start, at + 1)) {
      for (std::size_t i = at + start.size(); i < text.size() && is_digit(text[i]); ++i) text[i] = '.';
    }
  }
  return text;
}

std::string shown(const Golden& golden, const Terminal& kind, int* status = nullptr) {
  Terminal terminal = kind;
  terminal.folder = gauge_folder().path();
  if (*golden.typed != '\0') {
    terminal.input = gauge_folder() / "typed";
    write_file(terminal.input, golden.typed);
  }
  std::vector<std::string> words = golden.words;
  // The debug information says where the sources lay when a package was built.
  if (std::ranges::find(words, "--source-moved") == words.end() && words[0] != "survey" && words[0] != "explain" &&
      words[0] != "data" && words[0] != "compare")
    words.insert(words.begin() + 1, {"--source-moved", "/tide=" + gauge_folder().path().string()});
  words.insert(words.begin(), DEEPTRACE_PROGRAM);
  const Outcome outcome = on_terminal(words, terminal);
  if (status != nullptr) *status = outcome.status;
  return steady(outcome.out);
}

class Texts : public testing::TestWithParam<Golden> {};

TEST_P(Texts, AreAsTheyWere) {
  int status = 0;
  const std::string narrow = shown(GetParam(), {.columns = 80}, &status);
  EXPECT_EQ(status, GetParam().status) << narrow;
  expect_golden(std::string(GetParam().name) + "-80", without_colours(narrow));
  expect_golden(std::string(GetParam().name) + "-200", shown(GetParam(), {.columns = 200, .utf8 = true}));
}

/// No line is wider than the terminal, ASCII stays ASCII, and colours only colour.
TEST_P(Texts, FitTheTerminal) {
  for (const unsigned short columns : {std::uint16_t(50), std::uint16_t(80), std::uint16_t(200)}) {
    const std::string plain = without_colours(shown(GetParam(), {.columns = columns}));
    const bool source_form = std::string(GetParam().name) == "listing-assembler";
    std::size_t from = 0;
    for (std::size_t end = 0; (end = plain.find('\n', from)) != std::string::npos && !source_form; from = end + 1) {
      const std::string line = plain.substr(from, end - from);
      if (line.find("deeptrace: ") != std::string::npos || line.find("wrong: ") != std::string::npos) continue;
      EXPECT_LE(report::columns_of(line), columns) << line;
    }
    EXPECT_TRUE(std::ranges::all_of(plain, [](char c) { return static_cast<unsigned char>(c) < 0x80; })) << plain;
  }
}

std::string case_name(const testing::TestParamInfo<Golden>& one) {
  return std::regex_replace(std::string(one.param.name), std::regex("-"), "_");
}
INSTANTIATE_TEST_SUITE_P(Golden, Texts, testing::ValuesIn(kGolden), case_name);

}  // namespace
}  // namespace deeptrace::tests
