#include "cli/command.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstring>
#include <filesystem>
#include <iostream>
#include <sstream>

#include "base/mapped_file.h"
#include "cli/configuration.h"
#include "report/json.h"

namespace deeptrace::cli {
namespace {

namespace fs = std::filesystem;

/// Cuts the words into options and the rest. An option's value is the next word unless it is joined by '='.
struct Split {
  std::vector<std::string> options;
  std::vector<std::string> rest;
};

const cxxopts::HelpOptionDetails* option_named(const cxxopts::Options& options, const std::string& name) {
  for (const std::string& group : options.groups()) {
    for (const cxxopts::HelpOptionDetails& option : options.group_help(group).options) {
      if (std::find(option.l.begin(), option.l.end(), name) != option.l.end() || option.s == name) return &option;
    }
  }
  return nullptr;
}

bool takes_value(const cxxopts::Options& options, std::string_view word) {
  const auto* option = option_named(options, std::string(word.substr(word.find_first_not_of('-'))));
  return option != nullptr && !option->is_boolean;
}

/// What the configuration sets of a command's options, as words before those of the command line, which count more.
std::vector<std::string> words_of(const std::vector<Setting>& settings, const cxxopts::Options& options,
                                  const std::vector<std::string>& given) {
  std::vector<std::string> result;
  for (const Setting& one : settings) {
    const std::string word = "--" + one.option;
    const bool asked = std::ranges::any_of(
        given, [&](const std::string& option) { return option == word || option.starts_with(word + "="); });
    if (option_named(options, one.option) == nullptr || (asked && !one.list)) continue;
    if (!one.list)
      std::erase_if(result, [&](const std::string& other) { return other == word || other.starts_with(word + "="); });
    if (one.off) continue;
    if (one.values.empty() && !one.list) result.push_back(word);
    for (const std::string& value : one.values) result.push_back(word + "=" + value);
  }
  return result;
}

/// A command as its manual page and the completion of shells have it (packaging/generate.py).
void describe(const Command& command, const cxxopts::Options& options) {
  report::Output out(STDOUT_FILENO);
  report::JsonWriter json(out);
  json.begin_object();
  json.key("command").string(command.name);
  json.key("arguments").string(command.arguments);
  json.key("answers").string(command.answers);
  json.key("example").string(command.example);
  json.key("groups").begin_array();
  for (const std::string& group : options.groups()) {
    json.new_line();
    json.begin_object();
    json.key("name").string(group);
    json.key("options").begin_array();
    for (const cxxopts::HelpOptionDetails& option : options.group_help(group).options) {
      json.new_line();
      json.begin_object();
      json.key("option").string(option.l.empty() ? option.s : option.l.front());
      json.key("value").string(option.is_boolean ? "" : option.arg_help);
      json.key("default").string(option.has_default && !option.is_boolean ? option.default_value : "");
      json.key("help").string(option.desc);
      json.end();
    }
    json.end();
    json.end();
  }
  json.close_all();
  out.flush();
}

Split split(const cxxopts::Options& options, const std::vector<std::string>& words, bool stop_at_word) {
  Split result;
  for (std::size_t i = 0; i < words.size(); ++i) {
    const std::string& word = words[i];
    if (word == "--") {
      result.rest.insert(result.rest.end(), words.begin() + static_cast<std::ptrdiff_t>(i) + 1, words.end());
      return result;
    }
    if (word.size() > 1 && word.front() == '-') {
      result.options.push_back(word);
      if (word.find('=') == std::string::npos && takes_value(options, word) && i + 1 < words.size()) {
        result.options.back() += "=" + words[++i];
      }
    } else if (stop_at_word) {
      result.rest.insert(result.rest.end(), words.begin() + static_cast<std::ptrdiff_t>(i), words.end());
      return result;
    } else {
      result.rest.push_back(word);
    }
  }
  return result;
}

std::vector<std::string> list_of(const std::string& text) {
  std::vector<std::string> result;
  std::istringstream in(text);
  for (std::string word; std::getline(in, word, ',');) result.push_back(word);
  return result;
}

std::string joined(std::span<const std::string_view> words) {
  std::string result;
  for (const std::string_view word : words) result += (result.empty() ? "" : ", ") + std::string(word);
  return result;
}

/// Makes the folder of --save ready: a new or empty one, or any with --replace.
std::optional<Error> prepare_folder(const std::string& folder, bool replace) {
  std::error_code problem;
  if (fs::exists(folder, problem) && !fs::is_directory(folder, problem))
    return Error{Fault::usage, folder + ": is not a folder"};
  if (!replace && fs::is_directory(folder, problem) && !fs::is_empty(folder, problem)) {
    return Error{Fault::usage, folder + ": holds files already; give --replace to write over them, or another folder"};
  }
  fs::create_directories(folder, problem);
  if (problem) return Error{Fault::usage, folder + ": cannot be created: " + problem.message()};
  return std::nullopt;
}

}  // namespace

int after_damage(int status) {
  for (const std::string& file : damaged_files()) {
    const int damage =
        report_error({Fault::input, file + ": was made shorter while it was read; run the command again"});
    if (status == kFine) status = damage;
  }
  return status;
}

std::span<const Command* const> commands() {
  static constexpr std::array kCommands = {&kSurvey,  &kListing, &kLines,    &kData,  &kUses,
                                           &kCompare, &kExplain, &kHits,     &kFault, &kConsole,
                                           &kPlan,    &kSteps,   &kSyscalls, &kCalls, &kDemo};
  return kCommands;
}

int report_error(const Error& error) {
  std::cerr << "deeptrace: " << report::printable(error.message) << "\n";
  return static_cast<int>(error.fault);
}

void add_result_options(cxxopts::Options& options) {
  options.add_options("Results")("format",
                                 "the format on standard output: text, json, csv or none (listing also: assembler)",
                                 cxxopts::value<std::string>()->default_value("text"), "FORMAT")(
      "save", "also write the result as files into this folder", cxxopts::value<std::string>(), "DIR")(
      "save-formats", "the formats that --save writes", cxxopts::value<std::string>(), "LIST")(
      "replace", "let --save write over another run's files")(
      "colour", "auto, always or never", cxxopts::value<std::string>()->default_value("auto"), "WHEN")(
      "uncut", "do not cut lines at the terminal's width")("help", "this help");
}

void add_code_options(const Command& command, cxxopts::Options& options) {
  options.add_options("Code")("own", "code from sources or modules below PATH is own code (may be repeated)",
                              cxxopts::value<std::vector<std::string>>(), "PATH")("all", std::string(command.all))(
      "debug-dir", "look for separate debug files below DIR first (may be repeated)",
      cxxopts::value<std::vector<std::string>>(), "DIR")("mangled", "C++ names as the linker has them")(
      "source-moved", "look for sources below FROM in TO (may be repeated)", cxxopts::value<std::vector<std::string>>(),
      "FROM=TO");
}

void add_syntax_option(cxxopts::Options& options) {
  options.add_options("Code")("syntax", "how instructions are written: intel or att",
                              cxxopts::value<std::string>()->default_value("intel"), "SYNTAX");
}

Result<isa::Syntax> syntax_of(const cxxopts::ParseResult& parsed) {
  const std::string word = parsed["syntax"].as<std::string>();
  if (word == "intel") return isa::Syntax::intel;
  if (word == "att") return isa::Syntax::att;
  return Error{Fault::usage, "--syntax " + word + ": is one of intel, att"};
}

program::OwnCode own_code_of(const cxxopts::ParseResult& parsed) {
  program::OwnCode own;
  own.all = parsed.count("all") != 0;
  if (parsed.count("own") != 0) {
    for (const std::string& path : parsed["own"].as<std::vector<std::string>>()) {
      std::error_code ignored;
      own.paths.push_back(fs::weakly_canonical(path, ignored).string());
    }
  }
  return own;
}

static Result<std::vector<std::pair<std::string, std::string>>> moved_sources_of(const cxxopts::ParseResult& parsed) {
  std::vector<std::pair<std::string, std::string>> moved;
  if (parsed.count("source-moved") == 0) return moved;
  for (const std::string& rule : parsed["source-moved"].as<std::vector<std::string>>()) {
    const std::size_t equals = rule.find('=');
    if (equals == std::string::npos || equals == 0)
      return Error{Fault::usage, "--source-moved " + rule + ": is written as FROM=TO"};
    moved.emplace_back(rule.substr(0, equals), rule.substr(equals + 1));
  }
  return moved;
}

program::OpenOptions open_options_of(const cxxopts::ParseResult& parsed) {
  program::OpenOptions options;
  options.own = own_code_of(parsed);
  options.linker_names = parsed.count("mangled") != 0;
  if (parsed.count("debug-dir") != 0) options.debug_folders = parsed["debug-dir"].as<std::vector<std::string>>();
  if (auto moved = moved_sources_of(parsed)) options.moved_sources = std::move(*moved);
  return options;
}

Result<program::SourceText> source_text_of(const cxxopts::ParseResult& parsed) {
  auto moved = moved_sources_of(parsed);
  if (!moved) return moved.error();
  return program::SourceText(std::move(*moved));
}

Parsed parse(const Command& command, cxxopts::Options& options, std::vector<std::string> words, bool stop_at_word) {
  options.custom_help(std::string(command.arguments));
  Parsed result;
  if (words == std::vector<std::string>{"--describe"}) {
    describe(command, options);
    result.finished = kFine;
    return result;
  }
  Split parts = split(options, words, stop_at_word);
  result.rest = std::move(parts.rest);
  const Result<std::vector<Setting>> settings = configured();
  if (!settings) {
    result.finished = report_error(settings.error());
    return result;
  }
  const std::vector<std::string> set = words_of(*settings, options, parts.options);
  std::vector<const char*> arguments = {"deeptrace"};
  for (const std::string& word : set) arguments.push_back(word.c_str());
  for (const std::string& word : parts.options) arguments.push_back(word.c_str());
  try {
    result.options = options.parse(static_cast<int>(arguments.size()), arguments.data());
  } catch (const cxxopts::exceptions::exception& problem) {
    std::string message = problem.what();
    for (const std::string_view quote : {"\u2018", "\u2019"}) {
      for (auto at = message.find(quote); at != std::string::npos; at = message.find(quote))
        message.replace(at, quote.size(), "'");
    }
    result.finished = report_error({Fault::usage, fmt::format("{}; see deeptrace {} --help", message, command.name)});
    return result;
  }
  if (result.options.count("help") != 0) {
    std::cout << options.help() << "\nExample:\n  " << command.example << "\n";
    result.finished = kFine;
    return result;
  }
  // Also where no source is shown in the end.
  if (const auto sources = source_text_of(result.options); !sources) result.finished = report_error(sources.error());
  return result;
}

Result<Results> Results::open(const Command& command, const cxxopts::ParseResult& parsed,
                              std::span<const std::string_view> forms, std::span<const std::string_view> files) {
  Results results;
  const auto known = [&](const std::string& form) {
    return std::find(forms.begin(), forms.end(), form) != forms.end();
  };
  results.form_ = parsed["format"].as<std::string>();
  const std::string colour = parsed["colour"].as<std::string>();
  if (colour != "auto" && colour != "always" && colour != "never")
    return Error{Fault::usage, "--colour " + colour + ": is one of auto, always, never"};
  if (results.form_ != "none" && !known(results.form_)) {
    return Error{Fault::usage, "--format " + results.form_ + ": is one of " + joined(forms) + ", none"};
  }
  const auto add = [&](const std::string& form, int descriptor, const std::string& name, report::Style style) {
    results.outputs_.push_back(std::make_unique<report::Output>(descriptor));
    results.names_.push_back(name);
    results.destinations_.push_back(
        {form, descriptor == STDOUT_FILENO ? "" : name, style, results.outputs_.back().get()});
  };
  if (parsed.count("save") == 0) {
    for (const std::string_view option : {"save-formats", "replace"}) {
      if (parsed.count(std::string(option)) != 0)
        return Error{Fault::usage, fmt::format("--{}: is about the files of --save DIR", option)};
    }
  } else {
    results.folder_ = parsed["save"].as<std::string>();
    // The assembler form is written when it is asked for.
    std::vector<std::string> wanted;
    for (const std::string_view form : forms) {
      if (form != "assembler") wanted.emplace_back(form);
    }
    wanted.insert(wanted.end(), files.begin(), files.end());
    if (parsed.count("save-formats") != 0) wanted = list_of(parsed["save-formats"].as<std::string>());
    for (const std::string& form : wanted) {
      if (!known(form) && std::find(files.begin(), files.end(), form) == files.end()) {
        return Error{Fault::usage, "--save-formats " + form + ": is one of " + joined(forms) +
                                       (files.empty() ? "" : ", " + joined(files))};
      }
    }
    if (auto error = prepare_folder(results.folder_, parsed.count("replace") != 0)) return *error;
    for (const std::string& form : wanted) {
      const std::string path = (fs::path(results.folder_) / fmt::format("{}.{}", command.name,
                                                                        form == "text"        ? "txt"
                                                                        : form == "assembler" ? "s"
                                                                                              : form))
                                   .string();
      FileDescriptor file(::open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666));
      if (!file) return Error{Fault::usage, path + ": " + std::strerror(errno)};
      add(form, file.get(), path, report::Style{false, true, 0});
      results.files_.push_back(std::move(file));
    }
  }
  if (results.form_ != "none")
    add(results.form_, STDOUT_FILENO, "standard output",
        report::Style::for_descriptor(STDOUT_FILENO, colour, parsed.count("uncut") != 0));
  return results;
}

void Results::flush() {
  for (const auto& one : outputs_) one->flush();
}

int Results::close(int status) {
  for (std::size_t i = 0; i < outputs_.size(); ++i) {
    outputs_[i]->flush();
    if (outputs_[i]->error() != 0 && outputs_[i]->error() != EPIPE) {
      status = report_error({Fault::input, names_[i] + ": cannot be written: " + std::strerror(outputs_[i]->error())});
    }
  }
  outputs_.clear();
  files_.clear();
  return status;
}

}  // namespace deeptrace::cli
