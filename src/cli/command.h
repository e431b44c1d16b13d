// What every command of the program shares: how a command is described, how its words are parsed, where its results
// go, and how an error is reported.
#pragma once

#define CXXOPTS_VECTOR_DELIMITER '\x1f'  // options that are repeated; commas belong to their values
#include <cxxopts.hpp>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/file_descriptor.h"
#include "base/result.h"
#include "isa/text.h"
#include "program/program.h"
#include "program/source_text.h"
#include "report/output.h"
#include "report/tee.h"

namespace deeptrace::cli {

/// Exit statuses beyond those of Fault.
inline constexpr int kFine = 0;
inline constexpr int kNegative = 1;
inline constexpr int kInterrupted = 130;

struct Command {
  std::string_view name;
  std::string_view arguments;  ///< as in the usage line
  std::string_view answers;    ///< one line for the overview
  std::string_view example;
  int (*run)(const Command& command, std::vector<std::string> words);
  std::string_view all = "treat all code as own: library and start-up code too";  ///< what --all does
};

extern const Command kSurvey;
extern const Command kListing;
extern const Command kLines;
extern const Command kData;
extern const Command kUses;
extern const Command kCompare;
extern const Command kHits;
extern const Command kFault;
extern const Command kConsole;
extern const Command kPlan;
extern const Command kSteps;
extern const Command kSyscalls;
extern const Command kCalls;
extern const Command kExplain;
extern const Command kDemo;

/// All commands, in the order of the overview.
std::span<const Command* const> commands();

/// Prints "deeptrace: …" on one line of standard error, escaped, and gives the exit status.
int report_error(const Error& error);
/// The exit status of a command: says which files were made shorter while they were read, if any were.
int after_damage(int status);

/// Options that results share: --format, --save, --save-formats, --replace, --colour, --uncut.
void add_result_options(cxxopts::Options& options);
/// Options about what counts as own code and where sources are: --own, --all, --source-moved.
void add_code_options(const Command& command, cxxopts::Options& options);

/// --syntax intel|att.
void add_syntax_option(cxxopts::Options& options);
Result<isa::Syntax> syntax_of(const cxxopts::ParseResult& parsed);

program::OwnCode own_code_of(const cxxopts::ParseResult& parsed);
program::OpenOptions open_options_of(const cxxopts::ParseResult& parsed);
Result<program::SourceText> source_text_of(const cxxopts::ParseResult& parsed);

/// Parses a command's words. Everything that is not an option is left in `rest`; with `stop_at_word` the first such
/// word ends the options (a traced program's own options follow it). Prints the help and gives a status when asked.
struct Parsed {
  cxxopts::ParseResult options;
  std::vector<std::string> rest;
  std::optional<int> finished;  ///< set when there is nothing left to do (help, or a usage error that was reported)
};
Parsed parse(const Command& command, cxxopts::Options& options, std::vector<std::string> words, bool stop_at_word);

/// The places a command's result goes to: standard output in one form, and files in several.
struct Destination {
  std::string form;  ///< text, json, csv, html, svg, png
  std::string path;  ///< of a file; empty for standard output
  report::Style style;
  report::Output* out = nullptr;
};

/// The sinks that `make` makes for destinations, as one; null where it makes none.
template <class Make>
auto sink_of(std::span<const Destination> destinations, Make make) {
  std::vector<decltype(make(destinations.front()))> sinks;
  for (const Destination& to : destinations) {
    if (auto sink = make(to)) sinks.push_back(std::move(sink));
  }
  return sinks.empty() ? nullptr : report::tee(std::move(sinks));
}

class Results {
 public:
  /// Checks --format and --save and opens the files. `forms` are those that the command knows; `files` those that come
  /// only as files (pages, figures).
  static Result<Results> open(const Command& command, const cxxopts::ParseResult& parsed,
                              std::span<const std::string_view> forms, std::span<const std::string_view> files = {});

  [[nodiscard]] const std::vector<Destination>& destinations() const { return destinations_; }
  /// The form on standard output ("none" when there is none).
  [[nodiscard]] const std::string& form() const { return form_; }
  [[nodiscard]] const std::string& folder() const { return folder_; }
  /// Writes out what was collected.
  void flush();
  /// Writes out what is left and tells a failed write. Gives `status`, or that of the failure.
  int close(int status);

 private:
  std::string form_;
  std::string folder_;
  std::vector<FileDescriptor> files_;
  std::vector<std::unique_ptr<report::Output>> outputs_;
  std::vector<std::string> names_;
  std::vector<Destination> destinations_;
};

}  // namespace deeptrace::cli
