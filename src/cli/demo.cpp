#include <fmt/format.h>
#include <unistd.h>

#include <filesystem>
#include <iostream>

#include "cli/command.h"

namespace deeptrace::cli {
namespace {

namespace fs = std::filesystem;

/// One station of the tour: what it shows, and the words of a command; {tidelog} and the like stand for the shipped
/// files.
struct Station {
  std::string_view folder;  ///< below --save
  std::string_view shows;
  std::string_view words;
};

constexpr Station kTour[] = {
    {"00-survey", "what the demo program is, and where its bytes went", "survey {tidelog}"},
    {"01-listing", "a function's instructions under their source lines, as compiled without optimisation",
     "listing {tidelog} level_sum"},
    {"02-listing-optimised", "the same function compiled with -O2", "listing {tidelog-O2} level_sum"},
    {"03-listing-assembly", "an assembly routine, with a sentence for each instruction",
     "listing --meaning {tidelog} log_checksum"},
    {"04-listing-data", "an assembly program whose strings stand after its last system call", "listing {beacon}"},
    {"05-steps-loop", "the loop that adds up the levels, step by step, its iterations folded",
     "steps --from level_sum {tidelog} {readings.txt}"},
    {"06-steps-callback", "a library function runs at full speed and calls back into the program's comparison",
     "steps --from sort_by_level --count 60 {tidelog-O2} {readings.txt}"},
    {"07-steps-assembly", "the assembly routine of the optimised program: rotating a checksum",
     "steps --from log_checksum {tidelog-O2} {readings.txt}"},
    {"08-explain", "the division of the mean: its bytes taken apart", "explain bytes 48 f7 7d f8"},
    {"09-listing-assembler", "a function as source that can be edited, assembled and linked",
     "listing {tidelog-O2} log_read --format assembler"},
    {"10-lines", "which instructions a few source lines became, in every inlined copy",
     "lines {station} station.cpp:20..24"},
    {"11-data", "the marks of the old gauge, a table of structures in a 32-bit program", "data {gauge32} marks"},
    {"12-uses", "every instruction that touches the transmitter's registers", "uses {buoy} page"},
    {"13-uses-call", "the system calls that write, found by their number", "uses --syscall write {beacon}"},
    {"14-compare", "the same function without and with optimisation, side by side",
     "compare {tidelog} {tidelog-O2} level_sum"},
    {"15-hits", "a row for each iteration of the loop that adds up the levels",
     "hits --at levels.c:34 --keep i,sum,log->readings[i].level {tidelog} {readings.txt}"},
    {"16-hits-write", "every write to the transmitter's battery, which shares its byte with other bits",
     "hits --on-write page.device.status.battery {buoy}"},
    {"17-hits-threads", "each report of each sensor's thread", "hits --at tide::report --keep minute {station}"},
    {"18-hits-seal", "a program that reads its own code finds no stop byte there",
     "hits --at level_above_chart --keep reading --stop-with hardware {seal}"},
    {"19-plan", "what a function has to work out, as a plan that can be run again",
     "plan {levels.plan} {tidelog} {readings.txt}"},
    {"20-data-untyped", "variables of hand-written assembly, which have neither types nor sizes", "data {sluice}"},
    {"21-plan-untyped", "its sixteen results checked: two are wrong", "plan {sluice.plan} {sluice}"},
    {"22-steps-frame", "a stack frame followed through a call and back in a 32-bit program",
     "steps --from done --to done+5 {sluice32}"},
    {"23-steps-stack", "the stack word by word through a call and its return, drawn with --save",
     "steps --stack --from level_between --count 40 {gauge32}"},
    {"24-fault", "a crash inside sscanf, led back to the argument that was passed by value", "fault {reef} number"},
    {"25-fault-freed", "a list that is gone through after it was given back", "fault {reef} freed"},
    {"26-fault-exception", "an exception that nobody catches, with its message", "fault {reef} throw"},
    {"27-syscalls", "the system calls of a program in assembly, each with its line", "syscalls {beacon}"},
    {"28-syscalls-mistakes", "exchanged registers and a number of the other ABI, found in a 32-bit program by NASM",
     "syscalls {beacon32}"},
    {"29-syscalls-port", "a client that turns the port round, and nobody answers",
     "syscalls --children trace {relay} turned"},
    {"30-syscalls-c", "those of a C program, through the library's functions", "syscalls {tidelog} {readings.txt}"},
    {"31-explain-call", "a system call: numbers, registers and flags of both ABIs", "explain syscall openat"},
};

/// Where the demo programs are: beside the build that this program belongs to.
fs::path demo_folder() {
  std::error_code problem;
  const fs::path program = fs::read_symlink("/proc/self/exe", problem);
  return program.parent_path().parent_path() / "demo";
}

std::vector<std::string> words_of(std::string_view text, const fs::path& folder) {
  std::vector<std::string> result;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find(' '), text.size());
    const std::string_view word = text.substr(0, end);
    result.push_back(word.front() == '{' ? (folder / word.substr(1, word.size() - 2)).string() : std::string(word));
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return result;
}

std::string joined(const std::vector<std::string>& words) {
  std::string result;
  for (const std::string& word : words) result += " " + word;
  return result;
}

const Command* command_named(std::string_view name) {
  for (const Command* command : commands()) {
    if (command->name == name) return command;
  }
  return nullptr;
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace demo", std::string(command.answers));
  options.add_options()("save", "also write every result as files below this folder", cxxopts::value<std::string>(),
                        "DIR")("replace", "let --save write over an earlier tour's files")("help", "this help");
  const Parsed parsed = parse(command, options, std::move(words), false);
  if (parsed.finished) return *parsed.finished;
  const fs::path folder = demo_folder();
  if (!fs::exists(folder / "station")) {
    return report_error({Fault::input, folder.string() + ": the demo programs are not there; build the project first"});
  }
  if (parsed.options.count("save") != 0) {
    const std::string save = parsed.options["save"].as<std::string>();
    std::error_code problem;
    fs::create_directories(save, problem);
    if (problem) return report_error({Fault::usage, save + ": cannot be created: " + problem.message()});
  }
  int status = kFine;
  for (const Station& station : kTour) {
    std::vector<std::string> station_words = words_of(station.words, folder);
    const Command* stop = command_named(station_words.front());
    station_words.erase(station_words.begin());
    std::cout << fmt::format("\n==== {}\n     deeptrace {}{}\n\n", station.shows, stop->name, joined(station_words))
              << std::flush;
    if (parsed.options.count("save") != 0) {
      const fs::path save = fs::path(parsed.options["save"].as<std::string>()) / station.folder;
      station_words.insert(station_words.begin(), "--save=" + save.string());
      if (parsed.options.count("replace") != 0) station_words.insert(station_words.begin(), "--replace");
    }
    const int one = stop->run(*stop, std::move(station_words));
    if (one != kFine && one != kNegative) status = one;  // two builds that differ are what is to be shown
  }
  if (parsed.options.count("save") != 0) {
    std::cout << fmt::format("\nThe files of the tour are in {}\n", parsed.options["save"].as<std::string>());
  }
  return status;
}

}  // namespace

const Command kDemo = {"demo", "[OPTIONS]", "the tour: every command on the shipped demo programs",
                       "deeptrace demo --save demo-result", run};

}  // namespace deeptrace::cli
