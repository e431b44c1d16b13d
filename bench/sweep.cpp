// Every ELF file below some folders through survey and a listing of all its code.   usage: sweep [FOLDER...]
//
// Each file is looked at in a process of its own, so that a crash is counted and not ours, and may take a minute. What
// is checked: no error but those that name another machine or a damaged file; the bytes of the survey add up to the
// file's size; instructions, data and padding add up to the size of the executable sections.
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <filesystem>
#include <map>
#include <numeric>
#include <string>

#include "program/program.h"
#include "study/listing.h"
#include "study/survey.h"

namespace {

namespace fs = std::filesystem;
using namespace deeptrace;

class Count : public study::ListingSink {
 public:
  void begin(const study::ListedFile& /*file*/) override {}
  void begin_function(const study::ListedFunction& /*function*/) override {}
  void instruction(const study::ListedInstruction& row) override { bytes += row.bytes.size(); }
  void end_function() override {}
  void end() override {}
  std::uint64_t bytes = 0;
};

enum Verdict : int { kFine, kNotElf, kRefused, kBytesDiffer, kCodeDiffers };

/// Executable bytes that lie in no function or piece must be padding.
std::uint64_t padding(const program::Program& program) {
  std::uint64_t sum = 0;
  for (const binary::Section& section : program.elf().sections()) {
    if (!section.is_code()) continue;
    const std::uint64_t size = program.elf().bytes_of(section).size();
    std::uint64_t at = section.address;
    const auto gap = [&](std::uint64_t to) {
      if (to <= at) return;
      if (program.only_padding({at, to})) {
        sum += to - at;
      } else {
        std::printf("%s: nothing covers %#llx..%#llx\n", program.elf().path().c_str(),
                    static_cast<unsigned long long>(at), static_cast<unsigned long long>(to));
      }
    };
    for (const program::Function& function : program.functions()) {
      if (function.address < section.address || function.address >= section.address + size) continue;
      gap(function.address);
      at = std::max(at, function.address + function.size);
    }
    gap(section.address + size);
  }
  return sum;
}

/// Bytes of pieces that overlap count once.
std::uint64_t covered(const program::Program& program) {
  std::uint64_t sum = 0, at = 0;
  for (const program::Function& function : program.functions()) {
    const std::uint64_t from = std::max(at, function.address), to = function.address + function.size;
    if (to > from) sum += to - from;
    at = std::max(at, to);
  }
  return sum;
}

int look_at(const std::string& path) {
  const auto program = program::Program::open(path, {{.all = true, .paths = {}}, {}, false, true});
  if (!program) {
    std::printf("refused: %s\n", program.error().message.c_str());
    return kRefused;
  }
  const study::Survey survey = study::survey(*program);
  const std::uint64_t sum = std::accumulate(survey.bytes.begin(), survey.bytes.end(), std::uint64_t(0));
  if (sum != program->elf().file_size()) return kBytesDiffer;
  // The sections of a file with nothing but debug information have no bytes.
  const bool no_code = std::ranges::none_of(program->elf().sections(), [&](const binary::Section& section) {
    return section.is_code() && !program->elf().bytes_of(section).empty();
  });
  if (no_code) return kFine;
  std::uint64_t executable = 0, functions = 0;
  for (const binary::Section& section : program->elf().sections()) {
    if (section.is_code()) executable += program->elf().bytes_of(section).size();
  }
  for (const program::Function& function : program->functions()) functions += function.size;
  const auto plan = study::plan_listing(*program, {});
  if (!plan) return kRefused;
  Count count;
  study::list(*plan, count);
  if (count.bytes != functions || covered(*program) + padding(*program) != executable) {
    std::printf("%s: listed %llu, functions %llu, covered %llu, padding %llu, executable %llu\n", path.c_str(),
                static_cast<unsigned long long>(count.bytes), static_cast<unsigned long long>(functions),
                static_cast<unsigned long long>(covered(*program)), static_cast<unsigned long long>(padding(*program)),
                static_cast<unsigned long long>(executable));
    return kCodeDiffers;
  }
  return kFine;
}

bool is_elf(const fs::path& path) {
  const auto file = MappedFile::open(path.string());
  return file && file->bytes().size() > 20 && file->bytes()[0] == 0x7f && file->bytes()[1] == 'E' &&
         file->bytes()[2] == 'L' && file->bytes()[3] == 'F';
}

}  // namespace

int main(int argc, char** argv) {
  std::vector<std::string> folders(argv + 1, argv + argc);
  if (folders.empty()) folders = {"/usr/bin", "/usr/lib", "/usr/sbin"};
  std::map<std::string, std::size_t> counts;
  double slowest = 0;
  std::string slowest_path;
  for (const std::string& folder : folders) {
    std::error_code problem;
    for (const auto& entry :
         fs::recursive_directory_iterator(folder, fs::directory_options::skip_permission_denied, problem)) {
      if (!entry.is_regular_file(problem) || entry.is_symlink(problem) || !is_elf(entry.path())) continue;
      const std::string path = entry.path().string();
      std::fflush(stdout);
      const auto start = std::chrono::steady_clock::now();
      const pid_t child = fork();
      if (child == 0) {
        alarm(60);
        const int verdict = look_at(path);
        std::fflush(stdout);
        _exit(verdict);
      }
      int status = 0;
      waitpid(child, &status, 0);
      const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
      if (seconds > slowest) {
        slowest = seconds;
        slowest_path = path;
      }
      const char* kVerdicts[] = {"fine", "", "refused", "bytes differ", "code differs"};
      const std::string verdict = WIFEXITED(status) ? kVerdicts[WEXITSTATUS(status) % 5] : "crashed or took a minute";
      ++counts[verdict];
      if (verdict != "fine" && verdict != "refused") std::printf("%s: %s\n", verdict.c_str(), path.c_str());
    }
  }
  for (const auto& [verdict, count] : counts) std::printf("%zu files %s\n", count, verdict.c_str());
  std::printf("slowest %.1f s: %s\n", slowest, slowest_path.c_str());
  return counts.size() == counts.count("fine") + counts.count("refused") ? 0 : 1;
}
