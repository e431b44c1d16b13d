#include "report/steps.h"

#include <fmt/format.h>

#include <charconv>
#include <csignal>

#include "base/number.h"
#include "cli/command.h"
#include "cli/program_options.h"
#include "process/attention.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json", "csv"};
constexpr std::string_view kFiles[] = {"svg", "png"};  // of --stack

Result<session::StepsRequest> request_of(const Command& command, const cxxopts::ParseResult& parsed,
                                         std::vector<std::string> words) {
  session::StepsRequest request;
  Result<control::ControlOptions> control = control_options_of(command, parsed, std::move(words));
  if (!control) return control.error();
  if (control->stop_with == control::StopWith::hardware)
    return Error{Fault::usage,
                 "--stop-with hardware: what is not stepped runs to stop bytes at all own functions, more places than "
                 "the processor has debug registers"};
  request.launch = std::move(control->launch);
  request.attach = control->attach;
  request.trace_children = control->trace_children;
  if (request.trace_children && parsed.count("from") == 0)
    return Error{Fault::usage, "--children trace: goes with --from LOCATION, where a child is to be followed from"};
  request.open = std::move(control->open);
  if (parsed.count("thread") != 0) {
    const std::string text = parsed["thread"].as<std::string>();
    const auto number = number_in(text);
    request.all_threads = text == "all";
    if (!request.all_threads && (!number || *number == 0))
      return Error{Fault::usage, "--thread " + text + ": is a number from 1 up, or all"};
    request.thread = number.value_or(0);
  }
  request.stack = parsed.count("stack") != 0;
  if (parsed.count("from") != 0) request.from = parsed["from"].as<std::string>();
  if (parsed.count("to") != 0) request.to = parsed["to"].as<std::string>();
  const std::string count = parsed["count"].as<std::string>();
  if (count == "all") {
    request.count.reset();
    return request;
  }
  std::uint64_t number = 0;
  const auto [end, error] = std::from_chars(count.data(), count.data() + count.size(), number);
  if (error != std::errc{} || end != count.data() + count.size() || number == 0)
    return Error{Fault::usage, "--count " + count + ": is a number from 1 up, or all"};
  request.count = number;
  return request;
}

/// The exit status of a run that was stepped; says in one line what kept it from its end.
int verdict(const session::StepsSummary& summary) {
  if (summary.ended == session::StepsEnd::interrupt) return kInterrupted;
  const bool killed = summary.exit.how == session::RunEnd::How::killed;
  if (summary.ended == session::StepsEnd::program_end && killed && summary.exit.number == SIGKILL) {
    return report_error(
        {Fault::program, fmt::format("the program was killed from outside (SIGKILL) after {} instructions were stepped",
                                     summary.instructions)});
  }
  return kFine;
}

std::unique_ptr<session::StepsSink> sink_for(const Destination& to, RunFiles& files) {
  if (to.form == "json") return report::steps_json(*to.out);
  if (to.form == "csv") return report::steps_csv(*to.out);
  if (to.form == "svg") return report::stack_figure(to.path, report::Canvas::Form::svg);
  if (to.form == "png") return report::stack_figure(to.path, report::Canvas::Form::png);
  return report::steps_text(*to.out, to.style, files.sources, files.take_for(to));
}

int follow(const Command& command, const Parsed& parsed, std::vector<std::string> words) {
  Result<session::StepsRequest> request = request_of(command, parsed.options, std::move(words));
  if (!request) return report_error(request.error());
  Result<RunFiles> files =
      RunFiles::open(command, parsed.options, kForms,
                     request->stack ? std::span<const std::string_view>(kFiles) : std::span<const std::string_view>());
  if (!files) return report_error(files.error());
  request->launch.output = files->output->descriptor();

  report::Sinks<session::StepsSink> sinks;
  for (const Destination& to : files->results.destinations()) sinks.push_back(sink_for(to, *files));
  const auto sink = report::tee(std::move(sinks));
  request->pause = [&files] { files->results.flush(); };
  outlive_broken_pipe();
  const Result<session::StepsSummary> summary = session::steps(*request, *sink);
  if (!summary) {
    const bool asked = process::Attention::asked() != process::Attention::Why::none;
    return files->results.close(asked ? kInterrupted : report_error(summary.error()));
  }
  return files->results.close(verdict(*summary));
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace steps", std::string(command.answers));
  options.add_options("Steps")("from",
                               "step from here (default: main, or the entry where there is none; with --attach where "
                               "it stands; with --children trace "
                               "in whichever process comes there first)",
                               cxxopts::value<std::string>(), "LOCATION")(
      "to", "until here, before the instruction there", cxxopts::value<std::string>(), "LOCATION")(
      "count", "this many instructions at most, or all", cxxopts::value<std::string>()->default_value("1000"), "N")(
      "thread",
      "follow this thread: its number in the order they start, from 1, or all (default: the one that comes first)",
      cxxopts::value<std::string>(),
      "N|all")("stack", "the words of the stack beside each instruction that moves or writes it");
  return run_under_keeper(command, options, std::move(words), [&](const Parsed& parsed, std::vector<std::string> rest) {
    return follow(command, parsed, std::move(rest));
  });
}

}  // namespace

const Command kSteps = {"steps", "[OPTIONS] PROGRAM [ARGUMENTS...]",
                        "a stretch of a run, instruction by instruction, with what each changed",
                        "deeptrace steps --from level_sum ./tidelog readings.txt", run};

}  // namespace deeptrace::cli
