#include "report/hits.h"

#include <charconv>
#include <filesystem>

#include "base/number.h"
#include "base/outside.h"
#include "cli/program_options.h"
#include "process/attention.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json", "csv"};
constexpr std::string_view kFiles[] = {"svg", "png"};

/// The stop points in the order of the options on the command line.
Result<std::vector<control::HaltRule>> rules_of(const cxxopts::ParseResult& parsed) {
  struct Option {
    std::string_view name, words;
  };
  constexpr Option kOptions[] = {{"at", "at "},
                                 {"on-write", "on write "},
                                 {"on-access", "on access "},
                                 {"on-change", "on change "},
                                 {"on-return", "on return "},
                                 {"halt", ""}};
  std::vector<control::HaltRule> result;
  for (const auto& argument : parsed.arguments()) {
    for (const Option& option : kOptions) {
      if (argument.key() != option.name) continue;
      Result<control::HaltRule> rule = control::parse_halt_rule(std::string(option.words) + argument.value());
      if (!rule) return rule.error();
      result.push_back(std::move(*rule));
    }
  }
  for (control::HaltRule& rule : result) rule.later |= parsed.count("later") != 0;
  return result;
}

int verdict(const session::HitsSummary& summary) {
  if (summary.end.asked) return kInterrupted;
  return summary.rows == 0 ? kNegative : kFine;
}

int follow(const Command& command, const Parsed& parsed, std::vector<std::string> words) {
  session::HitsRequest request;
  Result<std::vector<control::HaltRule>> rules = rules_of(parsed.options);
  if (!rules) return report_error(rules.error());
  if (rules->empty())
    return report_error({Fault::usage, "hits: no stop point was given; --at LOCATION is the usual one"});
  request.rules = std::move(*rules);
  Result<control::ControlOptions> control = control_options_of(command, parsed.options, std::move(words));
  if (!control) return report_error(control.error());
  request.control = std::move(*control);
  request.control.hold_at_crash = false;
  request.cards = parsed.options.count("card") != 0;
  request.control.follow_vectors = request.cards;
  if (parsed.options.count("keep") != 0) {
    for (const std::string& list : parsed.options["keep"].as<std::vector<std::string>>()) {
      for (const Part& one : parts_between(list, [](char c) { return c == ','; })) {
        if (!one.text.empty()) request.keep.emplace_back(one.text);
      }
    }
  }
  if (parsed.options.count("count") != 0) {
    const std::string text = parsed.options["count"].as<std::string>();
    request.count = number_in(text);
    if (!request.count || *request.count == 0)
      return report_error({Fault::usage, "--count " + text + ": is a number from 1 up"});
  }
  if (parsed.options.count("core-at-hit") != 0) {
    request.core_folder = parsed.options["core-at-hit"].as<std::string>();
    std::error_code problem;
    std::filesystem::create_directories(request.core_folder, problem);
    if (problem) return report_error({Fault::usage, request.core_folder + ": cannot be made: " + problem.message()});
  }
  request.let_finish = parsed.options.count("let-finish") != 0;
  if (request.let_finish && !request.count)
    return report_error({Fault::usage, "--let-finish: needs --count N, after whose rows the program runs on"});
  Result<RunFiles> files = RunFiles::open(command, parsed.options, kForms, kFiles);
  if (!files) return report_error(files.error());
  request.control.launch.output = files->output->descriptor();
  std::vector<std::unique_ptr<session::HitsSink>> sinks;
  for (const Destination& to : files->results.destinations()) {
    if (to.form == "json") {
      sinks.push_back(report::hits_json(*to.out));
    } else if (to.form == "csv") {
      sinks.push_back(report::hits_csv(*to.out));
    } else if (to.form == "svg" || to.form == "png") {
      sinks.push_back(
          report::hits_figure(to.path, to.form == "svg" ? report::Canvas::Form::svg : report::Canvas::Form::png));
    } else {
      sinks.push_back(report::hits_text(*to.out, to.style, files->sources, files->take_for(to)));
    }
  }
  const auto sink = report::tee(std::move(sinks));
  request.control.pause = [&] {
    sink->pause();
    files->results.flush();
  };
  outlive_broken_pipe();
  const Result<session::HitsSummary> summary = session::hits(std::move(request), *sink);
  if (!summary) {
    const bool asked = process::Attention::asked() != process::Attention::Why::none;
    return files->results.close(asked ? kInterrupted : report_error(summary.error()));
  }
  if (summary->rows == 0 && !summary->end.asked) (void)report_error({Fault::usage, "no stop point was hit"});
  return files->results.close(verdict(*summary));
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace hits", std::string(command.answers));
  const auto text = [] { return cxxopts::value<std::vector<std::string>>(); };
  options.add_options("Stop points (breakpoints) and data stops (watchpoints)")(
      "at", "at a function, source line, address (may be repeated)", text(), "LOCATION")(
      "on-write", "when a variable or other memory is written", text(), "EXPR")(
      "on-access", "when it is read or written", text(), "EXPR")("on-change", "when its value changes", text(), "EXPR")(
      "on-return", "when a function returns; `result` is what it returned", text(), "FUNCTION")(
      "halt", "any stop point with its conditions: 'at levels.c:31 from hit 3 when level > 5'", text(), "RULE")(
      "later", "places and variables that nothing knows yet wait for a library that has them");
  options.add_options("Rows")("keep", "expressions whose values each row keeps, with commas between", text(),
                              "EXPR,...")("card", "a card at each hit in place of a table")(
      "count", "this many rows, then the program is ended", cxxopts::value<std::string>(), "N")(
      "let-finish", "after --count rows it runs on to its own end")(
      "core-at-hit", "a core file of the program at each hit, in this folder", cxxopts::value<std::string>(), "DIR");
  return run_under_keeper(command, options, std::move(words), [&](const Parsed& parsed, std::vector<std::string> rest) {
    return follow(command, parsed, std::move(rest));
  });
}

}  // namespace

const Command kHits = {"hits", "[OPTIONS] PROGRAM [ARGUMENTS...]",
                       "runs a program with stop points and keeps what was asked for at each hit",
                       "deeptrace hits --at levels.c:34 --keep i,sum ./tidelog readings.txt", run};

}  // namespace deeptrace::cli
