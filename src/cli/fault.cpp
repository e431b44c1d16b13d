#include "report/fault.h"

#include "cli/program_options.h"
#include "process/attention.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json"};

int answer(session::FaultRequest request, RunFiles& files) {
  outlive_broken_pipe();
  const bool dead = !request.core.empty();
  const Result<session::FaultResult> result = session::fault(std::move(request));
  if (!result) {
    const bool asked = !dead && process::Attention::asked() != process::Attention::Why::none;
    return files.results.close(asked ? kInterrupted : report_error(result.error()));
  }
  for (const Destination& to : files.results.destinations()) {
    if (to.form == "json") {
      report::fault_json(*to.out, *result);
      continue;
    }
    if (const auto take = files.take_for(to)) {
      for (const std::string& line : report::program_lines(to.style, take())) report::add_line(*to.out, to.style, line);
    }
    report::fault_text(*to.out, to.style, files.sources, *result);
  }
  if (result->end.asked) return files.results.close(kInterrupted);
  return files.results.close(result->report ? kFine : kNegative);
}

int of_core(const Command& command, const Parsed& parsed) {
  for (const char* option :
       {"attach", "input", "env", "work-dir", "children", "randomise", "program-output", "stop-with", "deep"})
    if (parsed.options.count(option) != 0)
      return report_error({Fault::usage, std::string("--") + option + ": a core file cannot run"});
  if (parsed.rest.size() > 1)
    return report_error({Fault::usage, "fault: --core takes a core file and its program; leave out " + parsed.rest[1]});
  session::FaultRequest request;
  request.control.open = open_options_of(parsed.options);
  request.core = parsed.options["core"].as<std::string>();
  if (!parsed.rest.empty()) request.program = parsed.rest.front();
  Result<RunFiles> files = RunFiles::open(command, parsed.options, kForms);
  if (!files) return report_error(files.error());
  return answer(std::move(request), *files);
}

int of_run(const Command& command, const Parsed& parsed, std::vector<std::string> words) {
  session::FaultRequest request;
  Result<control::ControlOptions> control = control_options_of(command, parsed.options, std::move(words));
  if (!control) return report_error(control.error());
  request.control = std::move(*control);
  request.deep = parsed.options.count("deep") != 0;
  if (request.deep && (request.control.attach != 0 || request.control.launch.randomise))
    return report_error(
        {Fault::usage, "--deep: runs the program again at the same addresses; not with --attach or --randomise"});
  Result<RunFiles> files = RunFiles::open(command, parsed.options, kForms);
  if (!files) return report_error(files.error());
  request.control.launch.output = files->output->descriptor();
  return answer(std::move(request), *files);
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace fault", std::string(command.answers));
  options.add_options("Fault")(
      "core", "a core file: what a program left when a signal ended it; PROGRAM where its file is not found by itself",
      cxxopts::value<std::string>(),
      "FILE")("deep", "runs the program again, twice, to go back from the bad value to the instruction that made it");
  add_launch_options(options);
  add_control_options(options);
  add_code_options(command, options);
  add_result_options(options);
  const Parsed parsed = parse(command, options, std::move(words), true);
  if (parsed.finished) return *parsed.finished;
  if (parsed.options.count("core") != 0) return of_core(command, parsed);
  return under_keeper([&] { return of_run(command, parsed, parsed.rest); });
}

}  // namespace

const Command kFault = {"fault", "[OPTIONS] PROGRAM [ARGUMENTS...] | --core FILE [PROGRAM]",
                        "why a program died: the instruction, the address, your own line and what it passed",
                        "deeptrace fault ./reef nothing", run};

}  // namespace deeptrace::cli
