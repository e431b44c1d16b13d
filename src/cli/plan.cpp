#include "report/plan.h"

#include <fstream>
#include <iterator>

#include "cli/program_options.h"
#include "cli/talk.h"
#include "process/attention.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json"};

Result<session::Plan> read_plan(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  if (!file) return Error{Fault::input, path + ": the plan cannot be read"};
  const std::string text((std::istreambuf_iterator<char>(file)), std::istreambuf_iterator<char>());
  return session::parse_plan(path, text);
}

int follow(const Command& command, const Parsed& parsed, const session::Plan& plan, std::vector<std::string> words) {
  Result<control::ControlOptions> control = control_options_of(command, parsed.options, std::move(words));
  if (!control) return report_error(control.error());
  control->hold_at_crash = false;
  Result<RunFiles> files = RunFiles::open(command, parsed.options, kForms);
  if (!files) return report_error(files.error());
  control->launch.output = files->output->descriptor();
  std::vector<std::unique_ptr<session::PlanSink>> sinks;
  for (const Destination& to : files->results.destinations()) {
    const bool json = to.form == "json";
    const report::Style style = json ? report::Style{.utf8 = true} : to.style;
    const report::ShowWords show = [style, &files](look::Subject& program, const look::Stopped& stopped,
                                                   const std::string& text) {
      return looked_at(program, stopped, style, files->sources, text);
    };
    if (json) {
      sinks.push_back(report::plan_json(*to.out, show));
      continue;
    }
    sinks.push_back(report::plan_text(*to.out, style, files->take_for(to), show));
  }
  const auto sink = report::tee(std::move(sinks));
  control->pause = [&files] { files->results.flush(); };
  outlive_broken_pipe();
  const Result<session::PlanSummary> summary = session::run_plan(plan, std::move(*control), *sink);
  if (!summary) {
    const bool asked = process::Attention::asked() != process::Attention::Why::none;
    return files->results.close(asked ? kInterrupted : report_error(summary.error()));
  }
  if (summary->end.asked) return files->results.close(kInterrupted);
  return files->results.close(summary->fine() ? kFine : kNegative);
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace plan", std::string(command.answers));
  options.add_options("Plan")("check",
                              "read the plan only, and find its places in PROGRAM where one is given; nothing is run");
  add_launch_options(options);
  add_control_options(options);
  add_code_options(command, options);
  add_result_options(options);
  Parsed parsed = parse(command, options, std::move(words), true);
  if (parsed.finished) return *parsed.finished;
  if (parsed.rest.empty()) return report_error({Fault::usage, "plan: no plan was given; see deeptrace plan --help"});
  Result<session::Plan> plan = read_plan(parsed.rest.front());
  if (!plan) return report_error(plan.error());
  std::vector<std::string> rest(parsed.rest.begin() + 1, parsed.rest.end());
  if (parsed.options.count("check") == 0)
    return under_keeper([&] { return follow(command, parsed, *plan, std::move(rest)); });
  if (rest.empty()) return kFine;
  const Result<std::string> program = process::find_program(rest.front());
  if (!program) return report_error(program.error());
  if (auto error = session::check_plan(*plan, *program, open_options_of(parsed.options))) return report_error(*error);
  return kFine;
}

}  // namespace

const Command kPlan = {"plan", "[OPTIONS] PLANFILE PROGRAM [ARGUMENTS...]",
                       "runs a plan: stop points, what to keep, what to expect",
                       "deeptrace plan levels.plan ./tidelog readings.txt", run};

}  // namespace deeptrace::cli
