#include <fmt/format.h>
#include <readline/history.h>
#include <readline/readline.h>
#include <sys/stat.h>
#include <unistd.h>

#include <csignal>
#include <cstdlib>
#include <iostream>

#include "cli/full_screen.h"
#include "cli/program_options.h"
#include "cli/talk.h"
#include "process/attention.h"
#include "session/dead_program.h"

namespace deeptrace::cli {
namespace {

/// Where lines come from: a terminal with editing and history, or a pipe.
class Lines {
 public:
  explicit Lines(Talk& talk) : terminal_(::isatty(STDIN_FILENO) != 0 && ::isatty(STDOUT_FILENO) != 0) {
    current_ = &talk;
    if (!terminal_) return;
    rl_readline_name = "deeptrace";
    rl_attempted_completion_function = complete;
    rl_catch_signals = 1;
    const char* home = std::getenv("HOME");
    if (home == nullptr) return;
    history_ = std::string(home) + "/.cache/deeptrace/history";
    ::read_history(history_.c_str());
  }
  ~Lines() {
    current_ = nullptr;
    if (!terminal_ || history_.empty()) return;
    const std::string folder = history_.substr(0, history_.rfind('/'));
    ::mkdir(folder.substr(0, folder.rfind('/')).c_str(), 0700);
    ::mkdir(folder.c_str(), 0700);
    ::write_history(history_.c_str());
    ::chmod(history_.c_str(), 0600);
  }
  Lines(const Lines&) = delete;
  Lines& operator=(const Lines&) = delete;

  [[nodiscard]] bool terminal() const { return terminal_; }

  /// The next line; nothing at the end of input.
  std::optional<std::string> next(const std::string& prompt) {
    if (terminal_) {
      char* raw = ::readline(prompt.c_str());
      if (raw == nullptr) return std::nullopt;
      std::string line(raw);
      std::free(raw);
      if (!line.empty()) ::add_history(line.c_str());
      return line;
    }
    std::string line;
    if (!std::getline(std::cin, line)) return std::nullopt;
    // What was typed stands in the conversation, as it would on a terminal.
    std::cout << prompt << line << '\n';
    return line;
  }

 private:
  static char** complete(const char* start, int from, int /*to*/) {
    rl_attempted_completion_over = 1;
    if (current_ == nullptr) return nullptr;
    found_ = current_->completions(start, from == 0);
    return ::rl_completion_matches(start, [](const char* /*text*/, int state) -> char* {
      return static_cast<std::size_t>(state) < found_.size() ? ::strdup(found_[static_cast<std::size_t>(state)].c_str())
                                                             : nullptr;
    });
  }

  // The library calls back without any state of ours.
  static inline Talk* current_ = nullptr;
  static inline std::vector<std::string> found_;
  bool terminal_;
  std::string history_;
};

void print(const std::vector<std::string>& lines, const report::Style& style) {
  report::Output out;
  for (const std::string& line : lines) report::add_line(out, style, line);
  std::cout << out.text() << std::flush;
}

/// A person saw what was wrong; a script has to see it.
int status_of(bool failed, const Lines& lines) {
  return failed && !lines.terminal() ? static_cast<int>(Fault::usage) : kFine;
}

bool waits_for_input(const Talk& talk) { return talk.stopped().why == look::Stopped::Why::waits; }

/// A script has no more to send, and the program waits: its input ends.
int close_input(Talk& talk, const report::Style& style, bool failed) {
  for (const char* word : {"send", "resume"}) print(talk.say(word).lines, style);
  if (!waits_for_input(talk)) return failed ? static_cast<int>(Fault::usage) : kFine;
  return report_error(
      {Fault::program, "the program still waits for input, and there is no more: give the script `send TEXT`"});
}

int converse(Talk& talk, const report::Style& style) {
  Lines lines(talk);
  bool failed = false;
  std::string repeated;
  for (;;) {
    std::optional<std::string> line = lines.next(talk.prompt());
    if (process::Attention::asked() == process::Attention::Why::end) return kInterrupted;
    process::Attention::answer();
    if (!line && !lines.terminal() && waits_for_input(talk)) return close_input(talk, style, failed);
    if (!line) break;
    if (line->empty() && lines.terminal()) line = repeated;
    const Answer answer = talk.say(*line);
    print(answer.lines, style);
    failed |= answer.failed;
    if (answer.quit) break;
    repeated = is_motion(*line) ? *line : "";
    if (process::Attention::asked() == process::Attention::Why::end) return kInterrupted;
  }
  return status_of(failed, lines);
}

report::Style style_of(const cxxopts::ParseResult& options) {
  return report::Style::for_descriptor(STDOUT_FILENO,
                                       options.count("colour") != 0 ? options["colour"].as<std::string>() : "auto",
                                       options.count("uncut") != 0);
}

int hold_talk(Talk& talk, const cxxopts::ParseResult& options, program::SourceText& sources) {
  if (options.count("full-screen") != 0) return full_screen(talk, sources);
  print(talk.first().lines, talk.style());
  return converse(talk, talk.style());
}

int start(const Command& command, const Parsed& parsed, std::vector<std::string> words) {
  Result<control::ControlOptions> control = control_options_of(command, parsed.options, std::move(words));
  if (!control) return report_error(control.error());
  Result<program::SourceText> sources = source_text_of(parsed.options);
  if (!sources) return report_error(sources.error());
  // What is typed into an attached program's terminal is its own affair.
  std::unique_ptr<ProgramOutput> terminal, elsewhere;
  if (control->attach == 0) {
    Result<std::unique_ptr<ProgramOutput>> opened = ProgramOutput::open_terminal();
    if (!opened) return report_error(opened.error());
    terminal = std::move(*opened);
    control->launch.terminal = terminal->descriptor();
    control->end_at_input = control->launch.input.empty();
    const std::string where =
        parsed.options.count("program-output") != 0 ? parsed.options["program-output"].as<std::string>() : "terminal";
    if (where != "terminal") {
      Result<std::unique_ptr<ProgramOutput>> other = ProgramOutput::open(where, false);
      if (!other) return report_error(other.error());
      elsewhere = std::move(*other);
      control->launch.output = elsewhere->descriptor();
    }
  }
  outlive_broken_pipe();
  Talk talk(std::move(*control), style_of(parsed.options), *sources, terminal.get());
  if (auto error = talk.begin()) return report_error(*error);
  return hold_talk(talk, parsed.options, *sources);
}

/// About what a program left.
int look_back(const Command& command, const Parsed& parsed) {
  for (const char* option :
       {"attach", "input", "env", "work-dir", "children", "randomise", "program-output", "stop-with"})
    if (parsed.options.count(option) != 0)
      return report_error({Fault::usage, std::string("--") + option + ": a core file cannot run"});
  if (parsed.rest.size() > 1)
    return report_error({Fault::usage, std::string(command.name) +
                                           ": --core takes a core file and its program; leave out " + parsed.rest[1]});
  Result<program::SourceText> sources = source_text_of(parsed.options);
  if (!sources) return report_error(sources.error());
  Result<std::unique_ptr<session::DeadProgram>> dead =
      session::DeadProgram::open(parsed.options["core"].as<std::string>(),
                                 parsed.rest.empty() ? "" : parsed.rest.front(), open_options_of(parsed.options));
  if (!dead) return report_error(dead.error());
  Talk talk(**dead, (*dead)->stopped(), style_of(parsed.options), *sources);
  return hold_talk(talk, parsed.options, *sources);
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace console", std::string(command.answers));
  options.add_options("Console")("full-screen", "on the whole screen: source, instructions, registers, stack, memory")(
      "colour", "auto, always or never", cxxopts::value<std::string>(), "WHEN")("uncut",
                                                                                "do not cut lines to the terminal")(
      "core", "a core file: what a program left when a signal ended it; PROGRAM where its file is not found by itself",
      cxxopts::value<std::string>(), "FILE")("help", "this help");
  add_launch_options(options);
  add_control_options(options);
  add_code_options(command, options);
  Parsed parsed = parse(command, options, std::move(words), true);
  if (parsed.finished) return *parsed.finished;
  if (parsed.options.count("core") != 0) return look_back(command, parsed);
  std::vector<std::string> rest = std::move(parsed.rest);
  return under_keeper([&] { return start(command, parsed, std::move(rest)); });
}

}  // namespace

const Command kConsole = {"console", "[OPTIONS] PROGRAM [ARGUMENTS...] | --core FILE [PROGRAM]",
                          "a conversation with a running program: stop it, move it, look at it",
                          "deeptrace console ./tidelog readings.txt", run};

}  // namespace deeptrace::cli
