#include "live_support.h"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/ptrace.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cstddef>
#include <fstream>

#include "binary/elf.h"

namespace deeptrace::tests {

std::string built(const TempFolder& folder, const std::string& name, const std::string& text,
                  std::vector<std::string> options) {
  const std::string file = folder / (name + (options[0].ends_with("++") ? ".cpp" : ".c"));
  write_file(file, text);
  const std::string program = folder / name;
  options.insert(options.end(), {"-o", program, file, "-lpthread"});
  const Outcome compiled = run(options);
  EXPECT_EQ(compiled.status, 0) << compiled.err;
  return program;
}

nlohmann::json explained(std::vector<std::string> words) {
  words.insert(words.begin(), "explain");
  words.insert(words.end(), {"--format", "json"});
  const Outcome outcome = deeptrace(words);
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  return nlohmann::json::parse(outcome.out);
}

nlohmann::json hits_of(std::vector<std::string> words, int status) {
  words.insert(words.begin(), {"hits", "--format", "json"});
  const Outcome outcome = deeptrace(words);
  EXPECT_EQ(outcome.status, status) << outcome.err;
  EXPECT_TRUE(nlohmann::json::accept(outcome.out)) << outcome.out.substr(0, 500);
  return nlohmann::json::parse(outcome.out, nullptr, false);
}

std::string status_field(pid_t pid, const std::string& field) {
  std::ifstream file("/proc/" + std::to_string(pid) + "/status");
  for (std::string line; std::getline(file, line);) {
    if (line.starts_with(field + ":")) return line.substr(field.size() + 2);
  }
  return "";
}

bool wait_until(const std::function<bool()>& condition, int milliseconds) {
  for (int i = 0; i < milliseconds / 5; ++i) {
    if (condition()) return true;
    ::usleep(5000);
  }
  return false;
}

void expect_untouched(pid_t pid, const std::string& program) {
  EXPECT_TRUE(wait_until([&] { return status_field(pid, "TracerPid") == "0"; })) << status_field(pid, "TracerPid");
  for (const auto& entry : std::filesystem::directory_iterator("/proc/" + std::to_string(pid) + "/task")) {
    const pid_t task = std::stoi(entry.path().filename());
    if (::ptrace(PTRACE_SEIZE, task, nullptr, nullptr) != 0) continue;
    ::ptrace(PTRACE_INTERRUPT, task, nullptr, nullptr);
    int status = 0;
    ::waitpid(task, &status, __WALL);
    EXPECT_EQ(::ptrace(PTRACE_PEEKUSER, task, offsetof(user, u_debugreg) + 8 * 7, nullptr) & 0xff, 0);
    ::ptrace(PTRACE_DETACH, task, nullptr, nullptr);
  }
  const auto elf = binary::Elf::open(program);
  ASSERT_TRUE(elf);
  const binary::Section* code = elf->section_named(".text");
  const Bytes bytes = elf->bytes_of(*code);
  std::vector<std::uint8_t> now(bytes.size());
  const int memory = ::open(("/proc/" + std::to_string(pid) + "/mem").c_str(), O_RDONLY);
  EXPECT_EQ(::pread(memory, now.data(), now.size(), static_cast<off_t>(code->address)),
            static_cast<ssize_t>(now.size()));
  ::close(memory);
  EXPECT_TRUE(std::ranges::equal(bytes, now));
}

Outcome conversation(const TempFolder& folder, const std::vector<std::string>& program, const std::string& words) {
  write_file(folder / "words", words);
  std::string command = "exec timeout 60 '" DEEPTRACE_PROGRAM "' console";
  for (const std::string& word : program) command += " '" + word + "'";
  return run({"sh", "-c", command + " < '" + (folder / "words").string() + "'"});
}

}  // namespace deeptrace::tests
