#include "report/listing.h"

#include "cli/command.h"
#include "report/figures.h"
#include "report/parallel_listing.h"
#include "study/assembly.h"
#include "study/source.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json", "csv", "assembler"};
constexpr std::string_view kFigures[] = {"svg", "png"};

/// The assembler form stands beside the rows: it has no table that they would share.
int write_source(const program::Program& program, const study::AssemblyRequest& request, bool fixed,
                 std::span<const Destination> destinations) {
  for (const Destination& to : destinations) {
    if (to.form != "assembler") continue;
    const auto lines = report::listing_assembler(*to.out);
    const auto write = fixed ? study::write_assembly : study::write_source;
    const Result<study::AssemblySummary> summary = write(program, request, *lines);
    if (!summary) return report_error(summary.error());
  }
  return kFine;
}

std::unique_ptr<study::ListingSink> sink_for(const Destination& to, program::SourceText* sources) {
  if (to.form == "json") return report::listing_json(*to.out);
  if (to.form == "csv") return report::listing_csv(*to.out);
  if (to.form != "text") return nullptr;
  return report::listing_text(*to.out, to.style, sources);
}

std::optional<Error> draw(const program::Program& program, const program::Function& function,
                          std::span<const Destination> destinations, program::SourceText& sources) {
  constexpr std::size_t kMostBlocks = 60, kPutTogether = 40;
  for (const Destination& to : destinations) {
    if (to.form != "svg" && to.form != "png") continue;
    program::CodeScan scan(program);
    program::FlowGraph graph = program::flow_graph_of(program, scan, function);
    if (graph.blocks.size() > kMostBlocks) graph = program::condensed(std::move(graph), kPutTogether);
    const auto line = program.source_of(function);
    const auto form = to.form == "svg" ? report::Canvas::Form::svg : report::Canvas::Form::png;
    if (!report::flow_figure(to.path, form, graph, line ? program.source_path(*line) : std::string(), sources))
      return Error{Fault::input, to.path + ": the figure cannot be written"};
  }
  return std::nullopt;
}

/// Why nothing would be listed, for a file without own code.
Error nothing_own(const program::Program& program) {
  const std::string& path = program.elf().path();
  if (program.functions().empty()) return {Fault::usage, path + ": holds no code"};
  return {Fault::usage,
          path + ": holds no own code (see --own), only library or start-up code; --all lists everything"};
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace listing", std::string(command.answers));
  options.add_options("Listing")("meaning", "say in a sentence what each instruction does")(
      "without-source", "leave the source lines out of the text")(
      "data-as-code", "decode data among code too, as if it were instructions")(
      "exact",
      "with --format assembler: everything outside stays a number, so that the assembled bytes are the file's");
  add_code_options(command, options);
  add_syntax_option(options);
  add_result_options(options);
  Parsed parsed = parse(command, options, std::move(words), false);
  if (parsed.finished) return *parsed.finished;
  if (parsed.rest.empty())
    return report_error({Fault::usage, "listing: no file was given; see deeptrace listing --help"});

  Result<program::Program> program = program::Program::open(parsed.rest.front(), open_options_of(parsed.options));
  if (!program) return report_error(program.error());
  Result<program::SourceText> sources = source_text_of(parsed.options);
  if (!sources) return report_error(sources.error());
  const Result<isa::Syntax> syntax = syntax_of(parsed.options);
  if (!syntax) return report_error(syntax.error());
  study::ListingRequest request;
  request.syntax = *syntax;
  request.where.assign(parsed.rest.begin() + 1, parsed.rest.end());
  request.meaning = parsed.options.count("meaning") != 0;
  request.data_as_code = parsed.options.count("data-as-code") != 0;
  const auto& functions = program->functions();
  const auto is_own = [&](const program::Function& f) { return program->is_own(f); };
  if (request.where.empty() && std::none_of(functions.begin(), functions.end(), is_own)) {
    (void)report_error(nothing_own(*program));
    return kNegative;
  }
  const Result<study::ListingPlan> plan = study::plan_listing(*program, request);
  if (!plan) return report_error(plan.error());

  // One function has a figure: its control flow.
  const bool one = plan->pieces.size() == 1 && plan->pieces[0].function != nullptr;
  Result<Results> results =
      Results::open(command, parsed.options, kForms, one ? std::span(kFigures) : std::span<const std::string_view>());
  if (!results) return report_error(results.error());
  const std::span<const Destination> destinations = results->destinations();
  const int written = write_source(*program, {request.where, request.syntax, request.data_as_code},
                                   parsed.options.count("exact") != 0, destinations);
  if (written != kFine) return results->close(written);
  if (one) {
    if (const auto error = draw(*program, *plan->pieces[0].function, destinations, *sources))
      return report_error(*error);
  }
  if (destinations.size() == 1 && destinations[0].form == "text" && report::lists_in_parallel(*plan)) {
    report::list_in_parallel(*plan, *destinations[0].out, destinations[0].style);
    const int status = results->close(kFine);
    program->keep_index();
    return status;
  }
  const bool with_source = parsed.options.count("without-source") == 0;
  const auto sink =
      sink_of(destinations, [&](const Destination& to) { return sink_for(to, with_source ? &*sources : nullptr); });
  if (sink) study::list(*plan, *sink);
  const int status = results->close(kFine);
  program->keep_index();
  return status;
}

}  // namespace

const Command kListing = {"listing", "[OPTIONS] FILE [WHERE...]",
                          "its instructions, grouped by function under their source lines",
                          "deeptrace listing ./tidelog level_sum", run};

}  // namespace deeptrace::cli
