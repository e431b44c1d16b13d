// deeptrace COMMAND [options] …
#include <fmt/format.h>
#include <unistd.h>

#include <clocale>
#include <cstdlib>
#include <iostream>

#include "cli/command.h"
#include "cli/talk.h"
#include "report/json.h"
#include "report/names.h"

namespace deeptrace::cli {

namespace {

constexpr std::string_view kAnswers = "looks into compiled programs and follows them as they run";

void print_overview(std::ostream& out) {
  out << fmt::format("deeptrace COMMAND [options] ...   {}\n\n", kAnswers);
  for (const Command* command : commands()) out << fmt::format("  {:<10} {}\n", command->name, command->answers);
  out << "\ndeeptrace COMMAND --help tells a command's options, with an example; deeptrace --version the version.\n"
         "Exit status: 0 fine, 1 the answer is negative, 2 wrong usage, 3 an unusable input file, 4 the program\n"
         "could not be run or ended before the place asked for, 130 interrupted.\n\n"
         "Example:\n  deeptrace listing ./tidelog level_sum\n";
}

/// For manual pages and the completion of shells (packaging/generate.py).
int describe() {
  report::Output out(STDOUT_FILENO);
  report::JsonWriter json(out);
  json.begin_object();
  json.key("version").string(DEEPTRACE_VERSION);
  json.key("answers").string(kAnswers);
  json.key("commands").begin_array();
  for (const Command* command : commands()) json.string(command->name);
  json.end();
  json.key("words").begin_array();
  for (const WordHelp& word : console_words()) {
    json.new_line();
    json.begin_object();
    json.key("word").string(word.name);
    json.key("arguments").string(word.arguments);
    json.key("help").string(word.what);
    json.end();
  }
  json.close_all();
  out.flush();
  return kFine;
}

/// Names of the own functions of a file, for the completion of shells.
int print_names(const std::string& file) {
  constexpr std::size_t kMost = 20000;
  const Result<program::Program> program = program::Program::open(file, {});
  if (!program) return report_error(program.error());
  report::Output out(STDOUT_FILENO);
  std::size_t count = 0;
  for (const program::Function& function : program->functions()) {
    const std::string name = function.name.str();
    if (name.find_first_of(" \n") != std::string::npos || !program->is_own(function)) continue;
    out.add(report::printable(name));
    out.add('\n');
    if (++count == kMost) break;
  }
  out.flush();
  return kFine;
}

int run(std::vector<std::string> words) {
  if (words.empty()) {
    print_overview(std::cerr);
    return static_cast<int>(Fault::usage);
  }
  const std::string first = words.front();
  if (first == "--help" || first == "help") {
    print_overview(std::cout);
    return kFine;
  }
  if (first == "--version") {
    std::cout << "deeptrace " DEEPTRACE_VERSION "\n";
    return kFine;
  }
  if (first == "--describe" && words.size() == 1) return describe();
  if (first == "--names" && words.size() == 2) return print_names(words[1]);
  words.erase(words.begin());
  for (const Command* command : commands()) {
    if (command->name == first) return after_damage(command->run(*command, std::move(words)));
  }
  return report_error({Fault::usage, fmt::format("{}: no such command; deeptrace --help lists them", first)});
}

}  // namespace
}  // namespace deeptrace::cli

int main(int argc, char** argv) {
  // How wide characters are is asked of the locale's tables; they are the same in all of UTF-8.
  if (std::setlocale(LC_CTYPE, "") == nullptr || MB_CUR_MAX == 1) std::setlocale(LC_CTYPE, "C.UTF-8");
  try {
    return deeptrace::cli::run({argv + 1, argv + argc});
  } catch (const std::exception& problem) {
    return deeptrace::cli::report_error({deeptrace::Fault::input, fmt::format("internal error: {}", problem.what())});
  }
}
