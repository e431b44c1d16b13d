#include "report/syscalls.h"

#include "base/number.h"
#include "base/outside.h"
#include "cli/program_options.h"
#include "process/attention.h"
#include "report/tee.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json", "csv"};
constexpr std::string_view kFiles[] = {"html", "svg", "png"};

std::vector<std::string> names_of(const cxxopts::ParseResult& parsed, const std::string& option) {
  std::vector<std::string> names;
  if (parsed.count(option) == 0) return names;
  for (const std::string& list : parsed[option].as<std::vector<std::string>>()) {
    for (const Part& one : parts_between(list, [](char c) { return c == ','; })) {
      if (!one.text.empty()) names.emplace_back(one.text);
    }
  }
  return names;
}

int follow(const Command& command, const Parsed& parsed, std::vector<std::string> words) {
  session::SyscallsRequest request;
  request.choice.only = names_of(parsed.options, "only");
  request.choice.except = names_of(parsed.options, "except");
  request.all = parsed.options.count("all") != 0;
  const auto count = count_of(parsed.options, "count"), bytes = count_of(parsed.options, "bytes");
  const auto limit = count_of(parsed.options, "limit");
  if (!limit) return report_error(limit.error());
  request.limit = *limit;
  if (parsed.options.count("totals") != 0) {
    const std::string by = parsed.options["totals"].as<std::string>();
    request.totals = session::totals_by(by);
    if (!request.totals)
      return report_error({Fault::usage, "--totals " + by + ": is one of call, descriptor, line, file"});
  }
  if (!count) return report_error(count.error());
  if (!bytes) return report_error(bytes.error());
  request.count = *count;
  constexpr std::uint64_t kMostBytes = 1 << 20;
  if (*bytes) request.bytes = std::min(**bytes, kMostBytes);
  Result<control::ControlOptions> control = control_options_of(command, parsed.options, std::move(words));
  if (!control) return report_error(control.error());
  request.control = std::move(*control);
  request.control.open.own.all = false;  // --all lists all calls; whose code led to them is asked as ever
  Result<RunFiles> files = RunFiles::open(command, parsed.options, kForms, kFiles);
  if (!files) return report_error(files.error());
  request.control.launch.output = files->output->descriptor();
  std::vector<std::unique_ptr<session::SyscallsSink>> sinks;
  for (const Destination& to : files->results.destinations()) {
    if (to.form == "json") {
      sinks.push_back(report::syscalls_json(*to.out));
    } else if (to.form == "csv") {
      sinks.push_back(report::syscalls_csv(*to.out));
    } else if (to.form == "html") {
      sinks.push_back(report::syscalls_page(*to.out));
    } else if (to.form == "svg" || to.form == "png") {
      sinks.push_back(
          report::syscalls_figure(to.path, to.form == "svg" ? report::Canvas::Form::svg : report::Canvas::Form::png));
    } else {
      sinks.push_back(report::syscalls_text(*to.out, to.style, files->take_for(to)));
    }
  }
  const auto sink = report::tee(std::move(sinks));
  request.control.pause = [&files] { files->results.flush(); };
  outlive_broken_pipe();
  const Result<session::SyscallsSummary> summary = session::syscalls(std::move(request), *sink);
  if (!summary) {
    const bool asked = process::Attention::asked() != process::Attention::Why::none;
    return files->results.close(asked ? kInterrupted : report_error(summary.error()));
  }
  if (summary->end.asked) return files->results.close(kInterrupted);
  return files->results.close(summary->rows == 0 ? kNegative : kFine);
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace syscalls", std::string(command.answers));
  const auto text = [] { return cxxopts::value<std::vector<std::string>>(); };
  options.add_options("Calls")("only", "these calls alone, by name, with commas between", text(), "NAME,...")(
      "except", "all but these", text(), "NAME,...")("bytes", "so many bytes of what is read and written are shown",
                                                     cxxopts::value<std::string>(), "N")(
      "count", "this many rows, then the program is ended", cxxopts::value<std::string>(), "N")(
      "limit", "this many rows are listed, the others counted", cxxopts::value<std::string>(), "N")(
      "totals", "sums in place of rows, by call, descriptor, line or file", cxxopts::value<std::string>(), "BY");
  return run_under_keeper(command, options, std::move(words), [&](const Parsed& parsed, std::vector<std::string> rest) {
    return follow(command, parsed, std::move(rest));
  });
}

}  // namespace

const Command kSyscalls = {"syscalls",
                           "[OPTIONS] PROGRAM [ARGUMENTS...]",
                           "the system calls of a run, decoded",
                           "deeptrace syscalls ./beacon",
                           run,
                           "list calls that no own code led to as well: those of libraries and of start-up code"};

}  // namespace deeptrace::cli
