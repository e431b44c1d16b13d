#include "report/uses.h"

#include "cli/command.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json", "csv"};

std::unique_ptr<study::UsesSink> sink_for(const Destination& to, program::SourceText& sources) {
  if (to.form == "json") return report::uses_json(*to.out);
  if (to.form == "csv") return report::uses_csv(*to.out);
  return report::uses_text(*to.out, to.style, sources);
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace uses", std::string(command.answers));
  options.add_options("Uses")("syscall", "look for system calls, by name or number", cxxopts::value<std::string>(),
                              "NAME");
  add_code_options(command, options);
  add_syntax_option(options);
  add_result_options(options);
  Parsed parsed = parse(command, options, std::move(words), false);
  if (parsed.finished) return *parsed.finished;
  const bool calls = parsed.options.count("syscall") != 0;
  if (parsed.rest.size() != (calls ? 1U : 2U))
    return report_error(
        {Fault::usage, "uses: give a file and one name or address, or --syscall; see deeptrace uses --help"});
  Result<program::Program> program = program::Program::open(parsed.rest.front(), open_options_of(parsed.options));
  if (!program) return report_error(program.error());
  Result<program::SourceText> sources = source_text_of(parsed.options);
  if (!sources) return report_error(sources.error());
  const Result<isa::Syntax> syntax = syntax_of(parsed.options);
  if (!syntax) return report_error(syntax.error());
  const study::UsesRequest request{calls ? parsed.options["syscall"].as<std::string>() : parsed.rest[1], calls,
                                   *syntax};
  Result<Results> results = Results::open(command, parsed.options, kForms);
  if (!results) return report_error(results.error());
  std::size_t found = 1;
  if (const auto sink =
          sink_of(results->destinations(), [&](const Destination& to) { return sink_for(to, *sources); })) {
    const auto summary = study::list_uses(*program, request, *sink);
    if (!summary) return report_error(summary.error());
    found = summary->uses;
  }
  const int status = results->close(found == 0 ? kNegative : kFine);
  program->keep_index();
  return status;
}

}  // namespace

const Command kUses = {"uses", "[OPTIONS] FILE NAME|ADDRESS  or  [OPTIONS] --syscall NAME FILE",
                       "which instructions read, write, call, jump to or take the address of it",
                       "deeptrace uses ./tidelog station_number", run};

}  // namespace deeptrace::cli
