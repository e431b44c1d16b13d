#include "report/explain.h"

#include <set>

#include "cli/command.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json"};

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace explain", std::string(command.answers));
  options.add_options("Explain")("bits", "the mode in which bytes are read: 64 or 32",
                                 cxxopts::value<std::string>()->default_value("64"), "BITS");
  add_syntax_option(options);
  add_result_options(options);
  Parsed parsed = parse(command, options, std::move(words), false);
  if (parsed.finished) return *parsed.finished;
  study::ExplainRequest request;
  const Result<isa::Syntax> syntax = syntax_of(parsed.options);
  if (!syntax) return report_error(syntax.error());
  request.syntax = *syntax;
  const std::string bits = parsed.options["bits"].as<std::string>();
  if (bits != "64" && bits != "32") return report_error({Fault::usage, "--bits " + bits + ": is one of 64, 32"});
  request.mode = bits == "64" ? isa::Mode::bits64 : isa::Mode::bits32;

  static const std::set<std::string> kKinds = {"bytes", "instruction", "flags", "register", "prefix"};
  std::vector<std::string> rest = parsed.rest;
  if (rest.size() > 1 && kKinds.count(rest.front()) != 0) {
    request.kind = rest.front();
    rest.erase(rest.begin());
  }
  if (rest.empty())
    return report_error(
        {Fault::usage,
         "explain: what? bytes HEX, instruction NAME, flags VALUE, register NAME, prefix NAME, or a word"});
  // The digits of bytes may be given apart.
  for (const std::string& word : rest) request.word += (request.word.empty() ? "" : " ") + word;
  const Result<study::Explanation> explanation = study::explain(request);
  if (!explanation) return report_error(explanation.error());
  Result<Results> results = Results::open(command, parsed.options, kForms);
  if (!results) return report_error(results.error());
  for (const Destination& to : results->destinations()) {
    if (to.form == "json") {
      report::explain_json(*to.out, *explanation);
    } else {
      report::explain_text(*to.out, to.style, *explanation);
    }
  }
  return results->close(kFine);
}

}  // namespace

const Command kExplain = {"explain", "[OPTIONS] [bytes|instruction|flags|register|prefix] WORD...",
                          "what bytes, an instruction, a prefix, a flags word or a register mean",
                          "deeptrace explain bytes 48f77df8", run};

}  // namespace deeptrace::cli
