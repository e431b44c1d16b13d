#include "report/calls.h"

#include "base/outside.h"
#include "cli/program_options.h"
#include "process/attention.h"
#include "report/tee.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json", "csv"};
constexpr std::string_view kFiles[] = {"html", "svg", "png"};

int follow(const Command& command, const Parsed& parsed, std::vector<std::string> words) {
  session::CallsRequest request;
  if (parsed.options.count("of") != 0) request.of = parsed.options["of"].as<std::vector<std::string>>();
  const auto depth = count_of(parsed.options, "depth"), count = count_of(parsed.options, "count"),
             limit = count_of(parsed.options, "limit");
  for (const auto* one : {&depth, &count, &limit}) {
    if (!*one) return report_error(one->error());
  }
  request.depth = *depth;
  request.count = *count;
  request.limit = *limit;
  request.check = parsed.options.count("check") != 0;
  request.inlined = parsed.options.count("inlined") != 0;
  request.every_instruction = parsed.options.count("every-instruction") != 0;
  Result<control::ControlOptions> control = control_options_of(command, parsed.options, std::move(words));
  if (!control) return report_error(control.error());
  request.control = std::move(*control);
  Result<RunFiles> files = RunFiles::open(command, parsed.options, kForms, kFiles);
  if (!files) return report_error(files.error());
  request.control.launch.output = files->output->descriptor();
  std::vector<std::unique_ptr<session::CallsSink>> sinks;
  for (const Destination& to : files->results.destinations()) {
    if (to.form == "json") {
      sinks.push_back(report::calls_json(*to.out));
    } else if (to.form == "csv") {
      sinks.push_back(report::calls_csv(*to.out));
    } else if (to.form == "html") {
      sinks.push_back(report::calls_page(*to.out));
    } else if (to.form == "svg" || to.form == "png") {
      sinks.push_back(
          report::calls_figure(to.path, to.form == "svg" ? report::Canvas::Form::svg : report::Canvas::Form::png));
    } else {
      sinks.push_back(report::calls_text(*to.out, to.style, files->take_for(to)));
    }
  }
  const auto sink = report::tee(std::move(sinks));
  request.control.pause = [&] {
    sink->pause();
    files->results.flush();
  };
  outlive_broken_pipe();
  const Result<session::CallsSummary> summary = session::calls(std::move(request), *sink);
  if (!summary) {
    const bool asked = process::Attention::asked() != process::Attention::Why::none;
    return files->results.close(asked ? kInterrupted : report_error(summary.error()));
  }
  if (summary->end.asked) return files->results.close(kInterrupted);
  return files->results.close(summary->rows == 0 || summary->wrong != 0 ? kNegative : kFine);
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace calls", std::string(command.answers));
  const auto number = [] { return cxxopts::value<std::string>(); };
  options.add_options("Calls")("of", "calls of this function and those made in it; may be repeated",
                               cxxopts::value<std::vector<std::string>>(),
                               "FUNCTION")("depth", "this many levels of calls", number(), "N")(
      "count", "this many calls, then the program is ended", number(), "N")(
      "limit", "this many calls are listed, the others counted", number(), "N")(
      "inlined", "calls that the compiler has inlined, too")(
      "every-instruction", "step the program, and count the instructions that each call takes (slow)")(
      "check", "whether the rules of the calling convention were kept: registers, stack, widths of results");
  return run_under_keeper(command, options, std::move(words), [&](const Parsed& parsed, std::vector<std::string> rest) {
    return follow(command, parsed, std::move(rest));
  });
}

}  // namespace

const Command kCalls = {"calls", "[OPTIONS] PROGRAM [ARGUMENTS...]",
                        "the function calls of a run, with arguments and return values",
                        "deeptrace calls --depth 2 ./tidelog readings.txt", run};

}  // namespace deeptrace::cli
