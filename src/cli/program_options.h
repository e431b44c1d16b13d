// What commands that run a program share: its options, and the process that keeps watch over it.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "cli/command.h"
#include "cli/program_output.h"
#include "control/control.h"
#include "process/launch.h"
#include "program/source_text.h"
#include "report/output.h"

namespace deeptrace::cli {

/// --input, --env, --work-dir, --children, --randomise, --program-output.
void add_launch_options(cxxopts::Options& options);
/// --attach, --stop-with.
void add_control_options(cxxopts::Options& options);

/// Adds those and the options of code and results to a command's own, parses, and does the work under the keeper (see
/// under_keeper), which is given the words that are left: the program and its arguments.
int run_under_keeper(const Command& command, cxxopts::Options& options, std::vector<std::string> words,
                     const std::function<int(const Parsed&, std::vector<std::string>)>& work);

/// Whether --children asks for them.
Result<bool> traces_children(const cxxopts::ParseResult& parsed);
/// `words` are the program and its arguments; may be empty.
Result<process::LaunchOptions> launch_options_of(const cxxopts::ParseResult& parsed, std::vector<std::string> words);
Result<control::ControlOptions> control_options_of(const Command& command, const cxxopts::ParseResult& parsed,
                                                   std::vector<std::string> words);
/// The value of an option that is a number from 1 up; nothing where it is not given.
Result<std::optional<std::uint64_t>> count_of(const cxxopts::ParseResult& parsed, const std::string& option);
/// Where the program's output goes, by --program-output and the form on standard output.
Result<std::unique_ptr<ProgramOutput>> program_output_of(const cxxopts::ParseResult& parsed, const Results& results);

/// What a command that runs a program writes to and reads from.
struct RunFiles {
  program::SourceText sources;
  Results results;
  std::unique_ptr<ProgramOutput> output;  ///< the program's own

  static Result<RunFiles> open(const Command& command, const cxxopts::ParseResult& parsed,
                               std::span<const std::string_view> forms, std::span<const std::string_view> files = {});
  /// The program's output is caught for the text on standard output, and shown there once; otherwise null.
  [[nodiscard]] report::TakeOutput take_for(const Destination& to) const;
};

/// Does the work in a child process, the keeper, and gives its status. When this process dies in any way, the keeper
/// lets attached programs go, ends those that were launched, and ends.
int under_keeper(const std::function<int()>& work);

}  // namespace deeptrace::cli
