#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <iostream>

#include "base/file_descriptor.h"
#include "cli/command.h"
#include "report/tour_page.h"

namespace deeptrace::cli {
namespace {

namespace fs = std::filesystem;

/// One station of the tour: what it shows, and the words of a command; {tidelog} and the like stand for the shipped
/// files.
struct Station {
  std::string_view task;
  std::string_view folder;  ///< below --save
  std::string_view shows;
  std::string_view words;
};

constexpr Station kTour[] = {
    {"What is in the file", "00-survey", "what the demo program is, and where its bytes went", "survey {tidelog}"},
    {"What is in the file", "01-listing",
     "a function's instructions under their source lines, as compiled without optimisation",
     "listing {tidelog} level_sum"},
    {"What is in the file", "02-listing-optimised", "the same function compiled with -O2",
     "listing {tidelog-O2} level_sum"},
    {"What is in the file", "03-listing-assembly", "an assembly routine, with a sentence for each instruction",
     "listing --meaning {tidelog} log_checksum"},
    {"What is in the file", "04-listing-data", "an assembly program whose strings stand after its last system call",
     "listing {beacon}"},
    {"What is in the file", "05-uses-call", "the system calls that write, found by their number",
     "uses --syscall write {beacon}"},
    {"What is in the file", "06-uses", "every instruction that touches the transmitter's registers",
     "uses {buoy} page"},
    {"What is in the file", "07-lines", "which instructions a few source lines became, in every inlined copy",
     "lines {station} station.cpp:20..24"},
    {"What is in the file", "08-data", "the marks of the old gauge, a table of structures in a 32-bit program",
     "data {gauge32} marks"},
    {"What is in the file", "09-data-untyped", "variables of hand-written assembly, which have neither types nor sizes",
     "data {sluice}"},
    {"What is in the file", "10-explain", "the division of the mean: its bytes taken apart",
     "explain bytes 48 f7 7d f8"},
    {"What is in the file", "11-listing-assembler", "a function as source that can be edited, assembled and linked",
     "listing {tidelog-O2} log_read --format assembler"},
    {"Watch it step by step", "12-steps-loop", "the loop that adds up the levels, step by step, its iterations folded",
     "steps --from level_sum {tidelog} {readings.txt}"},
    {"Watch it step by step", "13-steps-callback",
     "a library function runs at full speed and calls back into the program's comparison",
     "steps --from sort_by_level --count 60 {tidelog-O2} {readings.txt}"},
    {"Watch it step by step", "14-steps-assembly", "the assembly routine of the optimised program: rotating a checksum",
     "steps --from log_checksum {tidelog-O2} {readings.txt}"},
    {"Watch it step by step", "15-explain-convention",
     "where 32-bit functions find their arguments, and what they keep", "explain convention system-v-32"},
    {"Watch it step by step", "16-steps-frame", "a stack frame followed through a call and back in a 32-bit program",
     "steps --from done --to done+5 {sluice32}"},
    {"Watch it step by step", "17-steps-stack",
     "the stack word by word through a call and its return, drawn with --save",
     "steps --stack --from level_between --count 40 {gauge32}"},
    {"Watch it step by step", "18-steps-sign",
     "planted: a comparison without sign, where a level below zero is the highest",
     "steps --from highest_unsigned --count 30 {ebb} sign"},
    {"Stop it, and keep values", "19-hits", "a row for each iteration of the loop that adds up the levels",
     "hits --at levels.c:34 --keep i,sum,log->readings[i].level {tidelog} {readings.txt}"},
    {"Stop it, and keep values", "20-hits-write",
     "every write to the transmitter's battery, which shares its byte with other bits",
     "hits --on-write page.device.status.battery {buoy}"},
    {"Stop it, and keep values", "21-hits-threads", "each report of each sensor's thread",
     "hits --at tide::report --keep minute {station}"},
    {"Stop it, and keep values", "22-hits-seal", "a program that reads its own code finds no stop byte there",
     "hits --at level_above_chart --keep reading --stop-with hardware {seal}"},
    {"Stop it, and keep values", "23-hits-field",
     "planted: a routine that copies one reading too many, stopped at the write to the field that follows",
     "hits --on-write today.alarm {ebb} field"},
    {"Say what it should do", "24-plan", "what a function has to work out, as a plan that can be run again",
     "plan {levels.plan} {tidelog} {readings.txt}"},
    {"Say what it should do", "25-plan-untyped", "its sixteen results checked: two are wrong",
     "plan {sluice.plan} {sluice}"},
    {"What it asks the kernel for", "26-syscalls", "the system calls of a program in assembly, each with its line",
     "syscalls {beacon}"},
    {"What it asks the kernel for", "27-syscalls-mistakes",
     "exchanged registers and a number of the other ABI, found in a 32-bit program by NASM", "syscalls {beacon32}"},
    {"What it asks the kernel for", "28-syscalls-port", "a client that turns the port round, and nobody answers",
     "syscalls --children trace {relay} turned"},
    {"What it asks the kernel for", "29-syscalls-c", "those of a C program, through the library's functions",
     "syscalls {tidelog} {readings.txt}"},
    {"What it asks the kernel for", "30-explain-call", "a system call: numbers, registers and flags of both ABIs",
     "explain syscall openat"},
    {"Who calls whom", "31-calls", "the calls of a program: what was given in which register, and what came back",
     "calls {tidelog} {readings.txt}"},
    {"Who calls whom", "32-calls-kept", "planted: a routine that changes a register it has to give back",
     "calls --check {ebb} kept"},
    {"Who calls whom", "33-calls-narrow", "planted: 32 bits of a result that has 16", "calls --check {ebb} narrow"},
    {"Who calls whom", "34-calls-align", "planted: a call with a stack that is 8 bytes off, and what it leads to",
     "calls --check {ebb} align"},
    {"Who calls whom", "35-survey-check", "two of them found in the code alone, without a run", "survey --check {ebb}"},
    {"Who calls whom", "36-explain-passing", "where the arguments of a declaration travel, with the stack",
     "explain passing {tidelog} level_sum"},
    {"Who calls whom", "37-explain-frame", "how a function builds its stack frame, and what lies where in it",
     "explain frame {tidelog} print_summary"},
    {"Why it died", "38-fault", "a crash inside sscanf, led back to the argument that was passed by value",
     "fault {reef} number"},
    {"Why it died", "39-fault-freed", "a list that is gone through after it was given back", "fault {reef} freed"},
    {"Why it died", "40-fault-exception", "an exception that nobody catches, with its message", "fault {reef} throw"},
    {"Two builds", "41-compare",
     "the same function without and with optimisation, side by side, with the stack of both",
     "compare --frame {tidelog} {tidelog-O2} log_read"},
};

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

/// Where the demo programs are: beside the build that this program belongs to, or where they were installed with it.
struct DemoFolder {
  fs::path programs;
  fs::path sources;  ///< where they are not where the programs were built
};
DemoFolder demo_folder() {
  std::error_code problem;
  const fs::path place = fs::read_symlink("/proc/self/exe", problem).parent_path().parent_path();
  const fs::path installed = place / "share/deeptrace";
  if (fs::exists(installed / "demo/station", problem)) return {installed / "demo", installed / "demo-sources"};
  return {place / "demo", {}};
}

/// The page that the folder begins with.
int write_index(const std::string& save) {
  std::vector<report::TourStation> stations;
  for (const Station& one : kTour) {
    report::TourStation station{
        std::string(one.task), std::string(one.shows), "deeptrace", std::string(one.folder), {}};
    for (const std::string& word : words_of(one.words, {})) station.words += " " + word;
    std::error_code failed;
    for (const auto& file : fs::directory_iterator(fs::path(save) / one.folder, failed))
      station.files.push_back(file.path().filename().string());
    std::ranges::sort(station.files);
    stations.push_back(std::move(station));
  }
  const std::string path = save + "/index.html";
  const FileDescriptor file(::open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644));
  if (!file) return report_error({Fault::usage, path + ": cannot be written: " + std::strerror(errno)});
  report::Output out(file.get());
  report::tour_page(out, stations);
  out.flush();
  if (out.error() != 0)
    return report_error({Fault::usage, path + ": cannot be written: " + std::strerror(out.error())});
  return kFine;
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
  const DemoFolder folder = demo_folder();
  if (!fs::exists(folder.programs / "station")) {
    return report_error(
        {Fault::input, folder.programs.string() + ": the demo programs are not there; build the project first"});
  }
  if (parsed.options.count("save") != 0) {
    const std::string save = parsed.options["save"].as<std::string>();
    std::error_code problem;
    fs::create_directories(save, problem);
    if (problem) return report_error({Fault::usage, save + ": cannot be created: " + problem.message()});
  }
  int status = kFine;
  for (const Station& station : kTour) {
    std::vector<std::string> station_words = words_of(station.words, folder.programs);
    const Command* stop = command_named(station_words.front());
    station_words.erase(station_words.begin());
    std::cout << fmt::format("\n==== {}\n     deeptrace {}{}\n\n", station.shows, stop->name, joined(station_words))
              << std::flush;
    if (!folder.sources.empty() && stop->name != "explain")
      station_words.insert(station_words.begin(),
                           "--source-moved=" DEEPTRACE_DEMO_SOURCES "=" + folder.sources.string());
    if (parsed.options.count("save") != 0) {
      const fs::path save = fs::path(parsed.options["save"].as<std::string>()) / station.folder;
      station_words.insert(station_words.begin(), "--save=" + save.string());
      if (parsed.options.count("replace") != 0) station_words.insert(station_words.begin(), "--replace");
    }
    const int one = stop->run(*stop, std::move(station_words));
    if (one != kFine && one != kNegative) status = one;  // two builds that differ are what is to be shown
  }
  if (parsed.options.count("save") != 0) {
    const std::string save = parsed.options["save"].as<std::string>();
    if (const int failed = write_index(save); failed != kFine) return failed;
    std::cout << fmt::format("\nThe files of the tour are in {0}; {0}/index.html leads through them\n", save);
  }
  return status;
}

}  // namespace

const Command kDemo = {"demo", "[OPTIONS]", "the tour: every command on the shipped demo programs",
                       "deeptrace demo --save demo-result", run};

}  // namespace deeptrace::cli
