#include "cli/program_options.h"

#include <poll.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstring>
#include <iostream>

#include "abi/signal_names.h"
#include "base/number.h"
#include "process/attention.h"

namespace deeptrace::cli {

void add_launch_options(cxxopts::Options& options) {
  options.add_options("Program")("input", "the program's standard input", cxxopts::value<std::string>(), "FILE")(
      "env", "set an environment variable for it (may be repeated)", cxxopts::value<std::vector<std::string>>(), "N=V")(
      "work-dir", "the folder it runs in", cxxopts::value<std::string>(), "DIR")(
      "children", "leave: child processes run by themselves; trace: they are followed too",
      cxxopts::value<std::string>()->default_value("leave"), "HOW")("randomise", "keep address randomisation")(
      "program-output", "where its output goes: terminal (shown apart), stderr, or a file",
      cxxopts::value<std::string>(), "WHERE");
}

void add_control_options(cxxopts::Options& options) {
  options.add_options("Program")("attach", "a process that runs already, in place of starting one",
                                 cxxopts::value<std::string>(), "PID")(
      "stop-with", "how stop points are made: auto, byte (written into the code) or hardware (debug registers)",
      cxxopts::value<std::string>()->default_value("auto"), "HOW");
}

Result<bool> traces_children(const cxxopts::ParseResult& parsed) {
  const std::string how = parsed["children"].as<std::string>();
  if (how != "trace" && how != "leave") return Error{Fault::usage, "--children " + how + ": is trace or leave"};
  return how == "trace";
}

Result<process::LaunchOptions> launch_options_of(const cxxopts::ParseResult& parsed, std::vector<std::string> words) {
  process::LaunchOptions launch;
  if (!words.empty()) {
    launch.program = std::move(words.front());
    launch.arguments.assign(std::make_move_iterator(words.begin() + 1), std::make_move_iterator(words.end()));
  }
  launch.randomise = parsed.count("randomise") != 0;
  if (parsed.count("input") != 0) launch.input = parsed["input"].as<std::string>();
  if (parsed.count("work-dir") != 0) launch.folder = parsed["work-dir"].as<std::string>();
  if (parsed.count("env") == 0) return launch;
  for (const std::string& setting : parsed["env"].as<std::vector<std::string>>()) {
    const std::size_t equals = setting.find('=');
    if (equals == std::string::npos || equals == 0)
      return Error{Fault::usage, "--env " + setting + ": is written as NAME=VALUE"};
    launch.environment.emplace_back(setting.substr(0, equals), setting.substr(equals + 1));
  }
  return launch;
}

Result<control::ControlOptions> control_options_of(const Command& command, const cxxopts::ParseResult& parsed,
                                                   std::vector<std::string> words) {
  control::ControlOptions options;
  if (parsed.count("attach") != 0) {
    const std::string text = parsed["attach"].as<std::string>();
    const auto pid = number_in(text);
    if (!pid || *pid == 0 || *pid > 0x7fffffff)
      return Error{Fault::usage, "--attach " + text + ": is the number of a process"};
    if (!words.empty())
      return Error{Fault::usage, "--attach " + text + ": no program is started then; leave out " + words.front()};
    options.attach = static_cast<pid_t>(*pid);
  } else if (words.empty()) {
    return Error{Fault::usage, std::string(command.name) + ": no program was given; see deeptrace " +
                                   std::string(command.name) + " --help"};
  }
  Result<process::LaunchOptions> launch = launch_options_of(parsed, std::move(words));
  if (!launch) return launch.error();
  options.launch = std::move(*launch);
  options.open = open_options_of(parsed);
  const Result<bool> children = traces_children(parsed);
  if (!children) return children.error();
  options.trace_children = *children;
  const std::string how = parsed["stop-with"].as<std::string>();
  if (how == "byte") {
    options.stop_with = control::StopWith::byte;
  } else if (how == "hardware") {
    options.stop_with = control::StopWith::hardware;
  } else if (how != "auto") {
    return Error{Fault::usage, "--stop-with " + how + ": is auto, byte or hardware"};
  }
  return options;
}

Result<std::optional<std::uint64_t>> count_of(const cxxopts::ParseResult& parsed, const std::string& option) {
  if (parsed.count(option) == 0) return std::optional<std::uint64_t>();
  const std::string text = parsed[option].as<std::string>();
  const auto number = number_in(text);
  if (!number || *number == 0) return Error{Fault::usage, "--" + option + " " + text + ": is a number from 1 up"};
  return number;
}

Result<std::unique_ptr<ProgramOutput>> program_output_of(const cxxopts::ParseResult& parsed, const Results& results) {
  const bool apart = results.form() == "text" && ::isatty(STDOUT_FILENO) != 0;
  return ProgramOutput::open(parsed.count("program-output") != 0 ? parsed["program-output"].as<std::string>() : "",
                             apart);
}

Result<RunFiles> RunFiles::open(const Command& command, const cxxopts::ParseResult& parsed,
                                std::span<const std::string_view> forms, std::span<const std::string_view> files) {
  Result<program::SourceText> sources = source_text_of(parsed);
  if (!sources) return sources.error();
  Result<Results> results = Results::open(command, parsed, forms, files);
  if (!results) return results.error();
  Result<std::unique_ptr<ProgramOutput>> output = program_output_of(parsed, *results);
  if (!output) return output.error();
  return RunFiles{std::move(*sources), std::move(*results), std::move(*output)};
}

report::TakeOutput RunFiles::take_for(const Destination& to) const {
  if (!output->caught() || &to != &results.destinations().back()) return {};
  return [raw = output.get()] { return raw->take(); };
}

namespace {

/// Waits for the end of a child, or for that of whoever reads our standard output, where that is a pipe; true when the
/// reader was the first.
bool reader_left_before_end(pid_t child) {
  struct stat status {};
  if (::fstat(STDOUT_FILENO, &status) != 0 || (!S_ISFIFO(status.st_mode) && !S_ISSOCK(status.st_mode))) return false;
  const FileDescriptor ended(static_cast<int>(::syscall(SYS_pidfd_open, child, 0)));
  if (!ended) return false;
  pollfd places[2] = {{ended.get(), POLLIN, 0}, {STDOUT_FILENO, 0, 0}};
  while (::poll(places, 2, -1) < 0 && errno == EINTR) {
  }
  return places[0].revents == 0 && (places[1].revents & (POLLERR | POLLHUP)) != 0;
}

}  // namespace

int under_keeper(const std::function<int()>& work) {
  std::cout.flush();
  const pid_t parent = ::getpid();
  const pid_t keeper = ::fork();
  if (keeper < 0) return report_error({Fault::program, std::string("fork: ") + std::strerror(errno)});
  if (keeper == 0) {
    const process::Attention attention(parent);
    const int status = after_damage(work());
    std::cout.flush();
    std::cerr.flush();
    ::_exit(status);
  }
  // Ctrl-C reaches both, since it comes from the terminal; what somebody sends to this process is passed on. The keeper
  // answers.
  static volatile pid_t target = 0;
  target = keeper;
  struct sigaction action {};
  action.sa_flags = SA_SIGINFO;
  action.sa_sigaction = [](int signal, siginfo_t* info, void* /*context*/) {
    const bool by_terminal = info->si_code == SI_KERNEL;
    if (!by_terminal || (signal != SIGINT && signal != SIGQUIT)) ::kill(target, signal);
  };
  for (const int signal : {SIGINT, SIGQUIT, SIGTERM, SIGHUP}) ::sigaction(signal, &action, nullptr);
  // When nobody reads the rows any more there is nothing left to do: the keeper ends the run.
  if (reader_left_before_end(keeper)) ::kill(keeper, SIGTERM);
  int status = 0;
  while (::waitpid(keeper, &status, 0) < 0 && errno == EINTR) {
  }
  if (WIFEXITED(status)) return WEXITSTATUS(status);
  return report_error(
      {Fault::program, std::string("the keeper process was ended by ") + abi::signal_name(WTERMSIG(status))});
}

int run_under_keeper(const Command& command, cxxopts::Options& options, std::vector<std::string> words,
                     const std::function<int(const Parsed&, std::vector<std::string>)>& work) {
  add_launch_options(options);
  add_control_options(options);
  add_code_options(command, options);
  add_result_options(options);
  Parsed parsed = parse(command, options, std::move(words), true);
  if (parsed.finished) return *parsed.finished;
  std::vector<std::string> rest = std::move(parsed.rest);
  return under_keeper([&] { return work(parsed, std::move(rest)); });
}

}  // namespace deeptrace::cli
