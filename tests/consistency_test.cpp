// Tables, helps and documents that must agree with each other.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <set>
#include <sstream>

#include "abi/system_calls.h"
#include "base/number.h"
#include "cli/command.h"
#include "control/halt_rule.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

std::vector<std::string> words_in(const std::string& text) {
  std::istringstream in(text);
  std::vector<std::string> words;
  for (std::string word; in >> word;) words.push_back(word);
  return words;
}

std::string help_of(const std::string& command) { return deeptrace({command, "--help"}).out; }

/// The example of each help is run where the demo programs are, and answers.
TEST(Commands, HaveExamplesThatAnswer) {
  const std::filesystem::path before = std::filesystem::current_path();
  std::filesystem::current_path(std::filesystem::path(demo("tidelog")).parent_path());
  std::size_t ran = 0;
  for (const cli::Command* command : cli::commands()) {
    const std::string help = help_of(std::string(command->name));
    EXPECT_NE(help.find(command->answers), std::string::npos) << help;
    const std::size_t at = help.find("Example:\n  deeptrace ");
    ASSERT_NE(at, std::string::npos) << help;
    std::vector<std::string> words = words_in(help.substr(at + 21));
    EXPECT_EQ(words.front(), command->name);
    if (words.front() == "demo" || words.front() == "console") continue;  // they have tests of their own
    for (std::string& word : words) {
      if (word == "levels.plan") word = std::string(SOURCE_FOLDER) + "/demo/tidelog/levels.plan";
    }
    const Outcome outcome = deeptrace(words);
    EXPECT_LE(outcome.status, 1) << help << outcome.err;
    EXPECT_FALSE(outcome.out.empty()) << command->name;
    ++ran;
  }
  std::filesystem::current_path(before);
  EXPECT_GE(ran, 9U);
}

/// Every option of a help is an option, with its argument or without; what is none is refused with status 2.
TEST(Commands, KnowTheOptionsOfTheirHelp) {
  for (const cli::Command* command : cli::commands()) {
    const std::string name(command->name);
    std::istringstream lines(help_of(name));
    std::size_t options = 0;
    for (std::string line; std::getline(lines, line);) {
      const std::size_t dashes = line.find("--");
      if (dashes == std::string::npos || line.find_first_not_of(' ') != dashes || dashes > 8) continue;
      const std::string option = line.substr(dashes, line.find_first_of(" =[", dashes) - dashes);
      ++options;
      // An option that is not known ends the command before anything else; these end with --help.
      std::vector<std::string> words = {name, option};
      const bool takes =
          line.size() > dashes + option.size() + 1 && std::isupper(line[dashes + option.size() + 1]) != 0;
      if (takes) words.emplace_back("1");
      words.emplace_back("--help");
      EXPECT_EQ(deeptrace(words).err.find("does not exist"), std::string::npos) << name << " " << option;
    }
    EXPECT_GE(options, 3U) << name;
    EXPECT_EQ(deeptrace({name, "--such-an-option"}).status, 2) << name;
  }
}

/// A command is described where people look for it.
TEST(Commands, StandInTheReadme) {
  const std::string readme = read_file(std::string(SOURCE_FOLDER) + "/README.md");
  const std::string overview = deeptrace({"--help"}).out;
  for (const cli::Command* command : cli::commands()) {
    EXPECT_NE(readme.find("deeptrace " + std::string(command->name)), std::string::npos) << command->name;
    EXPECT_NE(overview.find("  " + std::string(command->name) + " "), std::string::npos) << command->name;
  }
}

TEST(SystemCalls, HaveOneNameAndOneNumberEach) {
  for (const abi::CallTable table : {abi::CallTable::x86_64, abi::CallTable::i386}) {
    std::set<std::string_view> names;
    std::size_t known = 0;
    for (std::uint64_t number = 0; number < 600; ++number) {
      const abi::SystemCall* call = abi::system_call(number, table);
      if (call == nullptr) continue;
      ++known;
      EXPECT_TRUE(names.insert(call->name).second) << call->name;
      const abi::SystemCall* again = abi::system_call(call->name, table);
      EXPECT_EQ(again, call) << call->name;
      for (unsigned i = 0; i < call->output_count; ++i) EXPECT_LT(call->outputs[i].argument, 6U) << call->name;
    }
    EXPECT_GT(known, 300U);
    EXPECT_EQ(abi::system_call("no_such_call", table), nullptr);
  }
}

/// Each kind of stop point is read as it is written, and stands at its number.
TEST(HaltKinds, AreRecordsInTheOrderOfTheirNumbers) {
  for (std::size_t i = 0; i < control::kHaltKinds.size(); ++i) {
    const control::HaltKind& kind = control::kHaltKinds[i];
    const std::string text = std::string(kind.words) + (kind.subject.empty() ? "" : " level_sum");
    const auto rule = control::parse_halt_rule(text + " when 1 once");
    ASSERT_TRUE(rule) << text;
    EXPECT_EQ(static_cast<std::size_t>(rule->kind), i);
    EXPECT_EQ(rule->what, kind.subject.empty() ? "" : "level_sum");
    EXPECT_EQ(rule->text(), text + " when 1 once");
    EXPECT_EQ(rule->on_data(), kind.by == control::HaltKind::By::data);
    // Without its subject, or with one where there is none, it is refused.
    const auto wrong = control::parse_halt_rule(std::string(kind.words) + (kind.subject.empty() ? " level_sum" : ""));
    EXPECT_FALSE(wrong) << kind.words;
  }
  std::size_t at = 0;
  EXPECT_FALSE(control::parse_halt_rule("on wrote x", &at));
  EXPECT_EQ(at, 3U);
  EXPECT_NE(control::parse_halt_rule("on wrote x").error().message.find("write, access, change, return, syscall"),
            std::string::npos);
}

}  // namespace
}  // namespace deeptrace::tests
