#include "report/lines.h"

#include <algorithm>

#include "cli/command.h"
#include "program/location.h"
#include "report/lines_page.h"
#include "study/listing.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json", "csv"};
constexpr std::string_view kFigures[] = {"html"};

std::unique_ptr<study::LinesSink> sink_for(const Destination& to, program::SourceText& sources) {
  if (to.form == "html") return nullptr;  // a page has whole functions
  if (to.form == "json") return report::lines_json(*to.out);
  if (to.form == "csv") return report::lines_csv(*to.out);
  return report::lines_text(*to.out, to.style, sources);
}

/// The page has whole functions: those that hold code of the wanted lines, or all own ones.
std::optional<Error> write_page(const program::Program& program, const study::LinesRequest& request,
                                report::Output& out, program::SourceText& sources) {
  study::ListingRequest listing;
  listing.syntax = request.syntax;
  const auto files = program::source_files_named(program, request.source);
  if (!request.source.empty() && files.empty()) listing.where = {request.source};  // a function
  Result<study::ListingPlan> plan = study::plan_listing(program, listing);
  if (!plan) return plan.error();
  if (!files.empty()) {
    std::vector<std::uint64_t> wanted;
    program.lines().each_run([&](std::span<const debuginfo::LineRow> rows) {
      for (const debuginfo::LineRow& row : rows) {
        if (!row.ends && std::ranges::find(files, row.file) != files.end() &&
            (request.from == 0 || (row.line >= request.from && row.line <= request.to)))
          wanted.push_back(row.address);
      }
    });
    std::ranges::sort(wanted);
    std::erase_if(plan->pieces, [&](const study::ListingPiece& piece) {
      const auto first = std::ranges::lower_bound(wanted, piece.range.from);
      return first == wanted.end() || *first >= piece.range.to;
    });
  }
  study::list(*plan, *report::lines_page(out, program, sources));
  return std::nullopt;
}

int run_at(const program::Program& program, const std::string& location, Results& results,
           program::SourceText& sources) {
  program::Inlining inlining(program);
  const auto origins = study::origins_of(program, inlining, location);
  if (!origins) return report_error(origins.error());
  for (const Destination& to : results.destinations()) {
    if (to.form == "json") {
      report::origins_json(*to.out, program, *origins);
    } else if (to.form == "csv") {
      report::origins_csv(*to.out, *origins);
    } else if (to.form == "text") {
      report::origins_text(*to.out, to.style, program, *origins, sources);
    }
  }
  const bool found = std::ranges::any_of(*origins, [](const auto& origin) { return origin.line != 0; });
  const int status = results.close(found ? kFine : kNegative);
  program.keep_index();
  return status;
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace lines", std::string(command.answers));
  options.add_options("Lines")("at", "tell the source line of an address (or another location)",
                               cxxopts::value<std::string>(), "ADDRESS");
  add_code_options(command, options);
  add_syntax_option(options);
  add_result_options(options);
  Parsed parsed = parse(command, options, std::move(words), false);
  if (parsed.finished) return *parsed.finished;
  const bool at = parsed.options.count("at") != 0;
  if (parsed.rest.empty()) return report_error({Fault::usage, "lines: no file was given; see deeptrace lines --help"});
  if (parsed.rest.size() > (at ? 1 : 2))
    return report_error({Fault::usage, "lines: one file, and one source or --at; see deeptrace lines --help"});
  Result<program::Program> program = program::Program::open(parsed.rest.front(), open_options_of(parsed.options));
  if (!program) return report_error(program.error());
  Result<program::SourceText> sources = source_text_of(parsed.options);
  if (!sources) return report_error(sources.error());
  const Result<isa::Syntax> syntax = syntax_of(parsed.options);
  if (!syntax) return report_error(syntax.error());
  Result<study::LinesRequest> request = study::LinesRequest::parse(parsed.rest.size() > 1 ? parsed.rest[1] : "");
  if (!request) return report_error(request.error());
  request->syntax = *syntax;
  Result<Results> results =
      Results::open(command, parsed.options, kForms, at ? std::span<const std::string_view>() : std::span(kFigures));
  if (!results) return report_error(results.error());
  if (at) return run_at(*program, parsed.options["at"].as<std::string>(), *results, *sources);
  std::size_t found = 1;
  for (const Destination& to : results->destinations()) {
    if (to.form != "html") continue;
    if (const auto error = write_page(*program, *request, *to.out, *sources)) return report_error(*error);
  }
  if (const auto sink =
          sink_of(results->destinations(), [&](const Destination& to) { return sink_for(to, *sources); })) {
    const Result<std::size_t> lines = study::list_lines(*program, *request, parsed.options.count("all") != 0, *sink);
    if (!lines) return report_error(lines.error());
    found = *lines;
  }
  const int status = results->close(found == 0 ? kNegative : kFine);
  program->keep_index();
  return status;
}

}  // namespace

const Command kLines = {"lines", "[OPTIONS] FILE [SOURCE[:N[..M]]|FUNCTION]  or  [OPTIONS] --at ADDRESS FILE",
                        "which instructions belong to a source line, and back",
                        "deeptrace lines ./tidelog tidelog.c:20..25", run};

}  // namespace deeptrace::cli
