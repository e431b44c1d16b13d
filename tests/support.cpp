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

/// What is set on this machine is no part of a test. Programs that are run plainly have it in their environment, too.
[[maybe_unused]] const int kUnset = ::setenv("DEEPTRACE_CONFIG", "", 0);

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

pid_t start_deeptrace(const std::vector<std::string>& words, const fs::path& folder, const std::string& delay) {
  std::vector<std::string> all = {DEEPTRACE_PROGRAM};
  if (!delay.empty()) all = {"/usr/bin/env", "DEEPTRACE_DELAY=" + delay, DEEPTRACE_DELAYED_PROGRAM};
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

std::vector<RealSource> real_programs(const TempFolder& folder) {
  const std::vector<std::pair<std::string, std::vector<std::string>>> packages = {
      {"zlib1g-dev", {"-lz"}},
      {"libzstd-dev", {"-lzstd", "-pthread"}},
      {"liblzma-dev", {"-llzma"}},
      {"libpng-dev", {"-lpng", "-lz", "-lm"}}};
  // Parts of programs, and what needs files that are not installed.
  const std::set<std::string> left_out = {"infcover.c", "zran.c", "gzlog.c", "example.c"};
  std::vector<RealSource> result;
  for (const auto& [package, options] : packages) {
    const fs::path examples = "/usr/share/doc/" + package + "/examples";
    std::error_code none;
    for (const auto& entry : fs::directory_iterator(examples, none)) {
      const bool program = entry.path().extension() == ".c" && !left_out.contains(entry.path().filename());
      if (program) result.push_back({entry.path(), options});
    }
  }
  std::ranges::sort(result, {}, &RealSource::path);
  const std::vector<std::pair<std::string, std::string>> written = {
      {"format.cpp",
       "#define FMT_HEADER_ONLY\n#include <fmt/format.h>\nint main(int c, char** v) { fmt::print(\"{:>8} {:.3f}\\n\", "
       "v[0], c / 3.0); }\n"},
      {"json.cpp",
       "#include <nlohmann/json.hpp>\n#include <iostream>\nint main(int, char** v) { std::cout << "
       "nlohmann::json::parse(v[1])[\"level\"]; }\n"},
      {"options.cpp",
       "#include <cxxopts.hpp>\nint main(int c, char** v) { cxxopts::Options o(\"tide\"); o.add_options()(\"n,name\", "
       "\"a name\", "
       "cxxopts::value<std::string>()); return o.parse(c, v).count(\"name\"); }\n"}};
  for (const auto& [name, text] : written) {
    write_file(folder / name, text);
    result.push_back({folder / name, {}});
  }
  return result;
}

std::vector<RealSource> real_parts() {
  const std::string root = "/usr/src/googletest/googletest/";
  return {{root + "src/gtest-filepath.cc", {"-I" + root, "-I" + root + "include"}},
          {root + "src/gtest-test-part.cc", {"-I" + root, "-I" + root + "include"}}};
}

namespace {

/// The words of a directive, split at blanks, tabs and commas; what stands in quotes is one word, without them.
std::vector<std::string> words_of(std::string_view text) {
  std::vector<std::string> words;
  bool in_word = false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '"') {
      const std::size_t end = std::min(text.find('"', i + 1), text.size());
      words.emplace_back(text.substr(i + 1, end - i - 1));
      i = end;
      in_word = false;
    } else if (std::string_view(" \t,").find(text[i]) != std::string_view::npos) {
      in_word = false;
    } else {
      if (!in_word) words.emplace_back();
      in_word = true;
      words.back() += text[i];
    }
  }
  return words;
}

}  // namespace

/// The listing has a line for each source line: its number, the offset, up to some bytes, then the text; lines that
/// continue the bytes of the one above have no text.
std::vector<Assembled> assemble_with_listing(const fs::path& assembly, const fs::path& object) {
  const Outcome outcome =
      run({"as", "--64", "-aln", "--listing-lhs-width=8", "--listing-rhs-width=100000", "-o", object, assembly});
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  std::vector<Assembled> result;
  std::set<std::string> functions;
  std::map<std::string, std::string> files;  // by the number that .loc gives
  std::string section = ".text";
  std::map<std::string, std::pair<std::string, unsigned>> loc;  // .loc counts for the section that it stands in
  std::map<std::string, std::pair<std::string, std::uint64_t>> function;
  std::set<std::string> new_loc;
  bool open = false;
  std::string label;  // of a function whose first instruction has not come yet
  std::vector<std::string> lines;
  std::istringstream written(read_file(assembly));
  for (std::string line; std::getline(written, line);) lines.push_back(line);
  std::istringstream in(outcome.out);
  for (std::string line; std::getline(in, line);) {
    // Number of the line, offset, bytes; a tab; the source line, where it is not the rest of the bytes.
    const std::size_t tab = line.find('\t');
    const std::vector<std::string> head = words_of(std::string_view(line).substr(0, tab));
    if (head.empty()) continue;
    std::string text = tab == std::string::npos ? std::string() : line.substr(tab + 1);
    // Of a long line (names of sections can be long) the listing shows the start.
    constexpr std::size_t kCutAt = 150;
    if (const std::size_t number = std::stoul(head[0]); text.size() > kCutAt && number <= lines.size())
      text = lines[number - 1];
    if (tab != std::string::npos) {
      open = false;
      const std::vector<std::string> words = words_of(text);
      const std::string first = words.empty() ? std::string() : words[0];
      if (first == ".text" || first == ".data" || first == ".bss") section = first;
      if (first == ".section" && words.size() > 1) section = words[1];
      if (first == ".file" && words.size() > 2)
        files[words[1]] = fs::path(words.size() > 3 && !words[3].starts_with("0x") ? words[3] : words[2]).filename();
      if (first == ".loc") {
        loc[section] = {words[1], static_cast<unsigned>(std::stoul(words[2]))};
        new_loc.insert(section);
      }
      if (first == ".type" && words.size() > 2 && words[2] == "@function") functions.insert(words[1]);
      if (first.ends_with(':') && functions.contains(first.substr(0, first.size() - 1)))
        label = first.substr(0, first.size() - 1);
    }
    if (head.size() < 2) continue;
    std::string bytes;
    for (std::size_t i = tab == std::string::npos ? 1 : 2; i < head.size(); ++i) bytes += head[i];
    std::ranges::transform(bytes, bytes.begin(), [](unsigned char c) { return std::tolower(c); });
    if (bytes.empty()) continue;
    if (tab == std::string::npos) {
      if (open) result.back().bytes += bytes;
      continue;
    }
    const std::uint64_t offset = std::stoull(head[1], nullptr, 16);
    if (!label.empty()) function[section] = {label, offset};
    label.clear();
    open = !is_data(text) && section.starts_with(".text");
    if (!open) continue;
    const auto& [name, start] = function[section];
    const auto& [number, source_line] = loc[section];
    result.push_back(
        {section, offset, bytes, name, offset - start, files[number], source_line, new_loc.erase(section) != 0});
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
