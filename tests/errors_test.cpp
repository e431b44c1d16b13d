// What every command says to what it cannot serve: one line, the right exit status, nothing on standard output; kept in
// tests/golden/errors.txt.
#include <gtest/gtest.h>

#include <algorithm>

#include "golden.h"
#include "support.h"
#include "terminal.h"

namespace deeptrace::tests {
namespace {

using Words = std::vector<std::string>;

const Words kWrong[] = {
    // commands and options
    {"surveys", "gauge"},
    {"survey"},
    {"listing"},
    {"lines"},
    {"data"},
    {"uses"},
    {"uses", "gauge"},
    {"explain"},
    {"explain", "passing", "long f(tide_log log)"},
    {"explain", "frame", "level_sum"},
    {"explain", "--convention", "pascal", "passing", "int f(int)"},
    {"calls"},
    {"calls", "--of", "nowhere", "./gauge"},
    {"calls", "--depth", "0", "./gauge"},
    {"compare", "gauge"},
    {"hits", "./gauge"},
    {"hits", "--at", "above"},
    {"steps"},
    {"plan"},
    {"plan", "gauge.plan"},
    {"console"},
    {"survey", "--colour", "mostly", "gauge"},
    {"survey", "--format", "yaml", "gauge"},
    {"survey", "--format"},
    {"survey", "--save-formats", "json", "gauge"},
    {"survey", "--replace", "gauge"},
    {"survey", "--save", "gauge.s", "gauge"},
    {"listing", "--syntax", "arm", "gauge"},
    {"listing", "--source-moved", "tide", "gauge"},
    {"explain", "--bits", "16", "bytes", "90"},
    // files
    {"survey", "missing"},
    {"survey", "."},
    {"survey", "gauge.s"},
    {"listing", "gauge.s"},
    {"lines", "/usr/bin/env"},
    {"data", "missing"},
    {"uses", "missing", "total"},
    {"compare", "gauge", "missing"},
    {"survey", "cut"},
    {"survey", "empty"},
    {"console", "--core", "gauge"},
    {"console", "--core", "missing"},
    {"console", "--core", "gauge", "--input", "gauge.s"},
    // places and names
    {"listing", "gauge", "level_sun"},
    {"listing", "gauge", "0x999999"},
    {"listing", "gauge", "0x401020..0x401000"},
    {"listing", "gauge", "gauge.s:1000"},
    {"listing", "gauge", "other.s:3"},
    {"listing", "gauge", ".nothing"},
    {"lines", "gauge", "gauge.s:9..3"},
    {"lines", "gauge", "--at", "0x999999"},
    {"data", "gauge", "totals"},
    {"data", "gauge", "total", "--as", "u7"},
    {"data", "gauge", "total.part"},
    {"uses", "gauge", "totals"},
    {"uses", "gauge", "--syscall", "wrote"},
    {"compare", "gauge", "changed", "nothing"},
    {"explain", "bytes", "zz"},
    {"explain", "bytes", "0f"},
    {"explain", "instruction", "moov"},
    {"explain", "flags", "many"},
    {"explain", "register", "rxx"},
    {"explain", "nothing"},
    // runs
    {"hits", "--at", "nowhere", "./gauge"},
    {"hits", "--at", "level_sum+1", "--at", "level_sum+2", "./gauge"},
    {"hits", "--at", "above", "--count", "0", "./gauge"},
    {"hits", "--at", "above", "--let-finish", "./gauge"},
    {"hits", "--at", "above", "--keep", "ecx +", "./gauge"},
    {"hits", "--at", "above", "--keep", "totals", "./gauge"},
    {"hits", "--at", "above when totals > 3", "./gauge"},
    {"plan", "unknown.plan", "./gauge"},
    {"hits", "--at", "above when", "./gauge"},
    {"hits", "--halt", "above", "./gauge"},
    {"hits", "--halt", "at above every 0", "./gauge"},
    {"hits", "--halt", "on syscall wrote", "./gauge"},
    {"hits", "--halt", "on signal SIGNONE", "./gauge"},
    {"hits", "--on-write", "rax", "./gauge"},
    {"hits", "--on-write", "total + 1", "./gauge"},
    {"hits", "--on-return", "nowhere", "./gauge"},
    {"hits", "--at", "above when al == 0x1ff", "./gauge"},
    {"hits", "--at", "above", "./missing"},
    {"hits", "--at", "above", "gauge.s"},
    {"hits", "--at", "above", "--attach", "1x"},
    {"hits", "--at", "above", "--attach", "99999999"},
    {"hits", "--at", "above", "--attach", "1", "./gauge"},
    {"hits", "--at", "above", "--children", "all", "./gauge"},
    {"hits", "--at", "above", "--stop-with", "luck", "./gauge"},
    {"hits", "--at", "above", "--env", "=1", "./gauge"},
    {"steps", "--from", "nowhere", "./gauge"},
    {"steps", "--to", "level_sum+2", "./gauge"},
    {"steps", "--count", "none", "./gauge"},
    {"steps", "--count", "0", "./gauge"},
    {"steps", "--thread", "0", "./gauge"},
    {"steps", "--work-dir", "missing", "./gauge"},
    {"steps", "--program-output", "missing/file", "./gauge"},
    {"plan", "missing.plan", "./gauge"},
    {"plan", "bad.plan", "./gauge"},
    {"plan", "empty", "./gauge"},
    {"demo", "--save", "gauge.s"},
};

std::string said(const Words& words) {
  std::string command = "cd '" + gauge_folder().path().string() + "' && exec '" DEEPTRACE_PROGRAM "'";
  std::string shown = "deeptrace";
  for (const std::string& word : words) {
    command += " '" + word + "'";
    shown += " " + (word.find(' ') == std::string::npos ? word : "'" + word + "'");
  }
  const Outcome outcome = run({"sh", "-c", command + " < /dev/null"});
  EXPECT_EQ(outcome.out, "") << shown;
  EXPECT_EQ(std::ranges::count(outcome.err, '\n'), 1) << shown << "\n" << outcome.err;
  EXPECT_TRUE(outcome.err.starts_with("deeptrace: ")) << shown << "\n" << outcome.err;
  EXPECT_TRUE(outcome.status >= 1 && outcome.status <= 4) << shown;
  return "$ " + shown + "\n" + std::to_string(outcome.status) + "  " + outcome.err;
}

TEST(Errors, AreOneLineEach) {
  const std::string whole = read_file(gauge_folder() / "gauge");
  write_file(gauge_folder() / "cut", whole.substr(0, 40));
  write_file(gauge_folder() / "empty", "");
  write_file(gauge_folder() / "bad.plan", "at above: keep esi\nat above keep esi\n");
  write_file(gauge_folder() / "unknown.plan", "at above when total > 0: expect totals == 5255\n");
  std::string all;
  for (const Words& words : kWrong) all += said(words);
  expect_golden("errors", all);
}

}  // namespace
}  // namespace deeptrace::tests
