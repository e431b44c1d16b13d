#include "report/compare.h"

#include "cli/command.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json", "csv"};
constexpr std::string_view kFiles[] = {"html"};

std::unique_ptr<study::CompareSink> sink_for(const Destination& to, bool unfolded) {
  if (to.form == "json") return report::compare_json(*to.out);
  if (to.form == "csv") return report::compare_csv(*to.out);
  if (to.form == "html") return report::compare_page(*to.out);
  return report::compare_text(*to.out, to.style, unfolded);
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace compare", std::string(command.answers));
  options.add_options("Compare")("unfolded", "show long runs of instructions that are the same, too")(
      "frame", "draw the stack frame of each build, too");
  add_code_options(command, options);
  add_syntax_option(options);
  add_result_options(options);
  Parsed parsed = parse(command, options, std::move(words), false);
  if (parsed.finished) return *parsed.finished;
  if (parsed.rest.size() < 2)
    return report_error(
        {Fault::usage, "compare: give two files, and functions if it is about them; see deeptrace compare --help"});
  Result<program::Program> a = program::Program::open(parsed.rest[0], open_options_of(parsed.options));
  if (!a) return report_error(a.error());
  Result<program::Program> b = program::Program::open(parsed.rest[1], open_options_of(parsed.options));
  if (!b) return report_error(b.error());
  const Result<isa::Syntax> syntax = syntax_of(parsed.options);
  if (!syntax) return report_error(syntax.error());
  study::CompareRequest request;
  request.where.assign(parsed.rest.begin() + 2, parsed.rest.end());
  request.own_is_said = parsed.options.count("own") != 0;
  request.all = parsed.options.count("all") != 0;
  request.syntax = *syntax;
  request.frames = parsed.options.count("frame") != 0;
  Result<Results> results = Results::open(command, parsed.options, kForms, kFiles);
  if (!results) return report_error(results.error());
  bool same = true;
  const bool unfolded = parsed.options.count("unfolded") != 0;
  if (const auto sink =
          sink_of(results->destinations(), [&](const Destination& to) { return sink_for(to, unfolded); })) {
    const auto summary = study::compare(*a, *b, request, *sink);
    if (!summary) return report_error(summary.error());
    same = summary->same == summary->functions;
  }
  return results->close(same ? kFine : kNegative);
}

}  // namespace

const Command kCompare = {"compare", "[OPTIONS] A B [WHERE...]",
                          "two builds of one function or file, instruction by instruction",
                          "deeptrace compare ./tidelog ./tidelog-O2 level_sum", run};

}  // namespace deeptrace::cli
