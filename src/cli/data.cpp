#include "report/data.h"

#include "cli/command.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json", "csv"};

std::unique_ptr<study::DataSink> sink_for(const Destination& to) {
  if (to.form == "json") return report::data_json(*to.out);
  if (to.form == "csv") return report::data_csv(*to.out);
  return report::data_text(*to.out, to.style);
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace data", std::string(command.answers));
  options.add_options("Data")("as", "read the bytes in this shape: " + std::string(inspect::shape_names()),
                              cxxopts::value<std::string>(), "SHAPE");
  add_code_options(command, options);
  add_result_options(options);
  Parsed parsed = parse(command, options, std::move(words), false);
  if (parsed.finished) return *parsed.finished;
  if (parsed.rest.empty()) return report_error({Fault::usage, "data: no file was given; see deeptrace data --help"});
  Result<program::Program> program = program::Program::open(parsed.rest.front(), open_options_of(parsed.options));
  if (!program) return report_error(program.error());
  study::DataRequest request;
  request.names.assign(parsed.rest.begin() + 1, parsed.rest.end());
  request.all = parsed.options.count("all") != 0;
  if (parsed.options.count("as") != 0) {
    const std::string name = parsed.options["as"].as<std::string>();
    request.shape = inspect::shape_named(name, arch::machine_of(program->mode()).word);
    if (!request.shape)
      return report_error({Fault::usage, "--as " + name + ": is one of " + std::string(inspect::shape_names())});
  }
  Result<Results> results = Results::open(command, parsed.options, kForms);
  if (!results) return report_error(results.error());
  std::size_t found = 0;
  if (const auto sink = sink_of(results->destinations(), sink_for)) {
    const Result<std::size_t> rows = study::list_data(*program, request, *sink);
    if (!rows) return report_error(rows.error());
    found = *rows;
  }
  if (found == 0 && !results->destinations().empty()) {
    (void)report_error(
        {Fault::usage,
         parsed.rest.front() + ": holds no own variables; --all lists those of libraries and start-up code"});
    return results->close(kNegative);
  }
  return results->close(kFine);
}

}  // namespace

const Command kData = {"data", "[OPTIONS] FILE [NAME...]", "the variables in its data sections, with initial values",
                       "deeptrace data ./tidelog station_name", run};

}  // namespace deeptrace::cli
