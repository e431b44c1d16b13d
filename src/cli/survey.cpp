#include "report/survey.h"

#include <algorithm>

#include "binary/archive.h"
#include "cli/command.h"
#include "report/figures.h"

namespace deeptrace::cli {
namespace {

constexpr std::string_view kForms[] = {"text", "json", "csv"};
constexpr std::string_view kFigures[] = {"svg", "png"};

/// Archives stand for their members.
std::vector<std::string> with_members(const std::vector<std::string>& paths) {
  std::vector<std::string> result;
  for (const std::string& path : paths) {
    const Result<MappedFile> file = MappedFile::open(path);
    if (!file || !binary::is_archive(file->bytes())) {
      result.push_back(path);
      continue;
    }
    for (const binary::ArchiveMember& member : binary::archive_members(file->bytes()))
      result.push_back(path + "(" + member.name + ")");
  }
  return result;
}

int run(const Command& command, std::vector<std::string> words) {
  cxxopts::Options options("deeptrace survey", std::string(command.answers));
  options.add_options("Check")("check", "own functions that break rules of the calling convention, by their code");
  add_code_options(command, options);
  add_result_options(options);
  Parsed parsed = parse(command, options, std::move(words), false);
  if (parsed.finished) return *parsed.finished;
  if (parsed.rest.empty())
    return report_error({Fault::usage, "survey: no file was given; see deeptrace survey --help"});
  // The surveys are views into the programs, which must not move.
  std::vector<std::unique_ptr<program::Program>> programs;
  std::vector<study::Survey> files;
  program::OpenOptions open_options = open_options_of(parsed.options);
  open_options.cores = true;
  for (const std::string& path : with_members(parsed.rest)) {
    Result<program::Program> opened = program::Program::open(path, open_options);
    if (!opened) return report_error(opened.error());
    programs.push_back(std::make_unique<program::Program>(std::move(*opened)));
    files.push_back(study::survey(*programs.back()));
    if (parsed.options.count("check") != 0) files.back().checked = study::check_conventions(*programs.back());
  }
  if (files.empty()) return report_error({Fault::input, parsed.rest.front() + ": an archive without members"});
  Result<Results> results = Results::open(command, parsed.options, kForms, kFigures);
  if (!results) return report_error(results.error());
  for (const Destination& to : results->destinations()) {
    if (to.form == "json") {
      report::survey_json(*to.out, files);
    } else if (to.form == "csv") {
      report::survey_csv(*to.out, files);
    } else if (to.form == "svg" || to.form == "png") {
      const auto form = to.form == "svg" ? report::Canvas::Form::svg : report::Canvas::Form::png;
      if (!report::survey_figure(to.path, form, files))
        return report_error({Fault::input, to.path + ": the figure cannot be written"});
    } else {
      report::survey_text(*to.out, to.style, files);
    }
  }
  const bool wrong = std::ranges::any_of(files, [](const study::Survey& one) {
    return one.checked && std::ranges::any_of(*one.checked, [](const auto& finding) { return !finding.note; });
  });
  return results->close(wrong ? kNegative : kFine);
}

}  // namespace

const Command kSurvey = {"survey", "[OPTIONS] FILE...",
                         "what a file is, what it asks of the loader, and where its bytes went",
                         "deeptrace survey ./tidelog", run};

}  // namespace deeptrace::cli
