#include "support.h"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <fstream>
#include <iterator>
#include <map>
#include <regex>
#include <set>
#include <sstream>

#include "binary/elf.h"
#include "isa/assembler.h"

namespace deeptrace::tests {
namespace {

namespace fs = std::filesystem;

pid_t start(const std::vector<std::string>& words, const fs::path& out, const fs::path& err) {
  const pid_t child = ::fork();
  if (child != 0) return child;
  std::vector<char*> arguments;
  for (const std::string& word : words) arguments.push_back(const_cast<char*>(word.c_str()));
  arguments.push_back(nullptr);
  ::dup2(::open("/dev/null", O_RDONLY), 0);
  ::dup2(::open(out.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600), 1);
  ::dup2(::open(err.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600), 2);
  ::setenv("LC_ALL", "C", 1);
  ::execvp(arguments[0], arguments.data());
  ::_exit(126);
}

}  // namespace

Outcome run(const std::vector<std::string>& words) {
  const TempFolder folder;
  int status = 0;
  ::waitpid(start(words, folder / "out", folder / "err"), &status, 0);
  Outcome outcome;
  outcome.status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
  outcome.out = read_file(folder / "out");
  outcome.err = read_file(folder / "err");
  return outcome;
}

Outcome deeptrace(std::vector<std::string> words) {
  words.insert(words.begin(), DEEPTRACE_PROGRAM);
  return run(words);
}

pid_t start_deeptrace(const std::vector<std::string>& words, const fs::path& folder) {
  std::vector<std::string> all = {DEEPTRACE_PROGRAM};
  all.insert(all.end(), words.begin(), words.end());
  return start(all, folder / "out", folder / "err");
}

TempFolder::TempFolder() {
  std::string pattern = (fs::temp_directory_path() / "deeptrace-test-XXXXXX").string();
  path_ = ::mkdtemp(pattern.data());
}

TempFolder::~TempFolder() {
  std::error_code ignored;
  fs::remove_all(path_, ignored);
}

std::string read_file(const fs::path& path) {
  std::ifstream in(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

void write_file(const fs::path& path, const std::string& text) { std::ofstream(path, std::ios::binary) << text; }

std::string demo(const std::string& name) { return std::string(DEMO_FOLDER) + "/" + name; }
std::string fixture(const std::string& name) { return std::string(FIXTURE_FOLDER) + "/" + name; }
std::string source(const std::string& name) { return std::string(SOURCE_FOLDER) + "/" + name; }

namespace {

/// Directives whose bytes are not instructions of the compiler.
bool is_data(const std::string& text) {
  static const std::regex kData(
      R"(^\s*\.(byte|value|short|long|quad|string|ascii|zero|align|p2align|nops|uleb128|sleb128|2byte|4byte|8byte)\b)");
  return std::regex_search(text, kData);
}

}  // namespace

/// The listing has a line for each source line: its number, the offset, up to some bytes, then the text; lines that
/// continue the bytes of the one above have no text.
std::vector<Assembled> assemble_with_listing(const fs::path& assembly, const fs::path& object) {
  const Outcome outcome = run({"as", "--64", "-aln", "--listing-lhs-width=8", "-o", object, assembly});
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  static const std::regex kLine(R"(^ *(\d+)(?: ([0-9a-f?]{4,}) ([0-9A-F ?]+?))?\s*(?:\t(.*))?$)");
  static const std::regex kSection(R"(^\s*\.(text|data|bss|section\s+([^\s,]+)).*)");
  static const std::regex kLoc(R"(^\s*\.loc\s+(\d+)\s+(\d+).*)");
  static const std::regex kFunction(R"(^\s*\.type\s+([^,\s]+),\s*@function.*)");
  static const std::regex kLabel(R"(^([A-Za-z_][\w.$]*):.*)");
  std::vector<Assembled> result;
  std::set<std::string> functions;
  std::string section = ".text";
  std::map<std::string, std::pair<unsigned, unsigned>> loc;  // .loc counts for the section that it stands in
  std::map<std::string, std::pair<std::string, std::uint64_t>> function;
  std::set<std::string> new_loc;
  bool open = false;
  bool label_waits = false;
  std::string label;
  std::istringstream in(outcome.out);
  for (std::string line; std::getline(in, line);) {
    std::smatch match;
    if (!std::regex_match(line, match, kLine)) continue;
    const std::string text = match[4];
    std::string bytes = match[3];
    bytes.erase(std::remove(bytes.begin(), bytes.end(), ' '), bytes.end());
    std::transform(bytes.begin(), bytes.end(), bytes.begin(), [](unsigned char c) { return std::tolower(c); });
    std::smatch part;
    if (match[4].matched) {
      open = false;
      if (std::regex_match(text, part, kSection)) section = part[2].matched ? part[2].str() : "." + part[1].str();
      if (std::regex_match(text, part, kLoc)) new_loc.insert(section);
      if (std::regex_match(text, part, kLoc))
        loc[section] = {static_cast<unsigned>(std::stoul(part[1])), static_cast<unsigned>(std::stoul(part[2]))};
      if (std::regex_match(text, part, kFunction)) functions.insert(part[1]);
      if (std::regex_match(text, part, kLabel) && functions.count(part[1]) != 0) {
        label = part[1];
        label_waits = true;
      }
    }
    if (bytes.empty()) continue;
    if (!match[4].matched) {
      if (open) result.back().bytes += bytes;
      continue;
    }
    const std::uint64_t offset = std::stoull(match[2], nullptr, 16);
    if (label_waits) function[section] = {label, offset};
    label_waits = false;
    open = !is_data(text) && section.starts_with(".text");
    if (!open) continue;
    Assembled row;
    row.section = section;
    row.offset = offset;
    row.bytes = bytes;
    row.function = function[section].first;
    row.function_offset = offset - function[section].second;
    row.line = loc[section].second;
    row.starts = new_loc.erase(section) != 0;
    result.push_back(row);
  }
  return result;
}

std::vector<std::uint8_t> assembled_text(const std::string& source, const std::string& mode) {
  const TempFolder folder;
  write_file(folder / "source.s", source);
  std::vector<std::string> words = {"as", mode, "-o", folder / "object.o", folder / "source.s"};
  words.insert(words.end(), isa::kAssemblerOptions.begin(), isa::kAssemblerOptions.end());
  const Outcome outcome = run(words);
  EXPECT_EQ(outcome.status, 0) << outcome.err.substr(0, 2000);
  const auto elf = binary::Elf::open(folder / "object.o");
  EXPECT_TRUE(elf) << elf.error().message;
  if (!elf) return {};
  const Bytes bytes = elf->bytes_of(*elf->section_named(".text"));
  return {bytes.begin(), bytes.end()};
}

}  // namespace deeptrace::tests
