#include "report/explain.h"

#include <algorithm>
#include <filesystem>
#include <iterator>

#include "cli/command.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json"};

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace explain", std::string(command.answers));
  options.add_options("Explain")("bits", "of bytes and numbers of system calls: 64 or 32",
                                 cxxopts::value<std::string>()->default_value("64"), "BITS")(
      "convention", "of a declaration: how the function is called", cxxopts::value<std::string>(), "NAME");
  add_syntax_option(options);
  add_result_options(options);
  // Negative numbers (a call's result) are no options.
  const auto is_negative = [](const std::string& word) {
    return word.size() > 1 && word[0] == '-' && word[1] >= '0' && word[1] <= '9';
  };
  std::vector<std::string> negative;
  std::ranges::copy_if(words, std::back_inserter(negative), is_negative);
  std::erase_if(words, is_negative);
  Parsed parsed = parse(command, options, std::move(words), false);
  if (parsed.finished) return *parsed.finished;
  study::ExplainRequest request;
  const Result<isa::Syntax> syntax = syntax_of(parsed.options);
  if (!syntax) return report_error(syntax.error());
  request.syntax = *syntax;
  const std::string bits = parsed.options["bits"].as<std::string>();
  if (bits != "64" && bits != "32") return report_error({Fault::usage, "--bits " + bits + ": is one of 64, 32"});
  request.mode = bits == "64" ? isa::Mode::bits64 : isa::Mode::bits32;

  const auto kinds = study::explained_kinds();
  std::vector<std::string> rest = parsed.rest;
  rest.insert(rest.end(), negative.begin(), negative.end());
  if (rest.size() > 1 && std::ranges::find(kinds, rest.front(), &study::ExplainedKind::name) != kinds.end()) {
    request.kind = rest.front();
    rest.erase(rest.begin());
  }
  if (rest.empty()) {
    std::string message = "explain: what?";
    for (const study::ExplainedKind& one : kinds)
      message += " " + std::string(one.name) + " " + std::string(one.takes) + ",";
    return report_error({Fault::usage, message + " or a word"});
  }
  if (parsed.options.count("convention") != 0) request.convention = parsed.options["convention"].as<std::string>();
  std::error_code missing;
  const bool of_file = request.kind == "passing" && std::filesystem::is_regular_file(rest.front(), missing);
  if (rest.size() == 2 && (of_file || request.kind == "frame")) {
    request.file = rest.front();
    rest.erase(rest.begin());
  }
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

const Command kExplain = {
    "explain",
    "[OPTIONS] [bytes|instruction|flags|register|prefix|syscall|error|signal|constant|convention|passing|frame] "
    "WORD...",
    "what bytes, an instruction, a register, a system call, an error or a constant mean",
    "deeptrace explain bytes 48f77df8", run};

}  // namespace deeptrace::cli
