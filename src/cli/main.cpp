// deeptrace COMMAND [options] …
#include <fmt/format.h>

#include <clocale>
#include <cstdlib>
#include <iostream>

#include "cli/command.h"

namespace deeptrace::cli {

namespace {

void print_overview(std::ostream& out) {
  out << "deeptrace COMMAND [options] ...   looks into compiled programs and follows them as they run\n\n";
  for (const Command* command : commands()) out << fmt::format("  {:<10} {}\n", command->name, command->answers);
  out << "\ndeeptrace COMMAND --help tells a command's options, with an example; deeptrace --version the version.\n"
         "Exit status: 0 fine, 1 the answer is negative, 2 wrong usage, 3 an unusable input file, 4 the program\n"
         "could not be run or ended before the place asked for, 130 interrupted.\n\n"
         "Example:\n  deeptrace listing ./tidelog level_sum\n";
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
