#include "process/launch.h"

#include <fcntl.h>
#include <sys/ioctl.h>
#include <sys/personality.h>
#include <sys/ptrace.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <climits>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <optional>
#include <sstream>

#include "base/file_descriptor.h"

namespace deeptrace::process {
namespace {

bool is_regular(const std::string& path) {
  struct stat status {};
  return ::stat(path.c_str(), &status) == 0 && S_ISREG(status.st_mode);
}

Result<std::string> checked(const std::string& path) {
  struct stat status {};
  const auto refuse = [&](const std::string& why) { return Error{Fault::program, path + ": " + why}; };
  if (::stat(path.c_str(), &status) != 0) return refuse(errno == ENOENT ? "no such program" : std::strerror(errno));
  if (S_ISDIR(status.st_mode)) return refuse("is a directory, not a program");
  if (::access(path.c_str(), X_OK) != 0)
    return refuse("may not be executed (" + std::string(std::strerror(errno)) + "); chmod +x makes it executable");
  return path;
}

/// What a launched child reports when it cannot become the program.
struct LaunchProblem {
  enum Stage : int { kInput, kFolder, kFilter, kExecute } stage;
  int error;
};

[[noreturn]] void give_up(int pipe, LaunchProblem::Stage stage) {
  const LaunchProblem problem{stage, errno};
  (void)!::write(pipe, &problem, sizeof problem);
  ::_exit(127);
}

/// The child's side of the launch, between fork and exec.
[[noreturn]] void become(const LaunchOptions& options, const std::string& path, int go, int problems) {
  char token = 0;
  if (::read(go, &token, 1) != 1) ::_exit(127);
  if (!options.input.empty()) {
    const FileDescriptor input(::open(options.input.c_str(), O_RDONLY));
    if (!input || ::dup2(input.get(), STDIN_FILENO) < 0) give_up(problems, LaunchProblem::kInput);
  }
  if (options.terminal >= 0) {
    ::setsid();
    ::ioctl(options.terminal, TIOCSCTTY, 0);
    for (const int standard : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO}) {
      if (standard != STDIN_FILENO || options.input.empty()) ::dup2(options.terminal, standard);
    }
  }
  if (options.output >= 0) ::dup2(options.output, STDOUT_FILENO);
  if (!options.folder.empty() && ::chdir(options.folder.c_str()) != 0) give_up(problems, LaunchProblem::kFolder);
  for (const auto& [name, value] : options.environment) ::setenv(name.c_str(), value.c_str(), 1);
  if (!options.randomise) ::personality(static_cast<unsigned long>(::personality(0xffffffff)) | ADDR_NO_RANDOMIZE);
  std::vector<char*> arguments = {const_cast<char*>(options.program.c_str())};
  for (const std::string& argument : options.arguments) arguments.push_back(const_cast<char*>(argument.c_str()));
  arguments.push_back(nullptr);
  if (options.filter && !install(*options.filter)) give_up(problems, LaunchProblem::kFilter);
  ::execv(path.c_str(), arguments.data());
  give_up(problems, LaunchProblem::kExecute);
}

Error launch_error(const LaunchOptions& options, const std::string& path, LaunchProblem problem) {
  const std::string why = std::strerror(problem.error);
  switch (problem.stage) {
    case LaunchProblem::kInput:
      return {Fault::program, options.input + ": cannot be opened as the program's input: " + why};
    case LaunchProblem::kFolder: return {Fault::program, options.folder + ": cannot be entered: " + why};
    case LaunchProblem::kFilter:
    case LaunchProblem::kExecute: break;
  }
  return {Fault::program, path + ": cannot be executed: " + why};
}

/// Waits for a child that stops or ends; interruptions by signals do not count.
int wait_for(pid_t child) {
  int status = 0;
  while (::waitpid(child, &status, __WALL) < 0 && errno == EINTR) {
  }
  return status;
}

/// Waits for a launched child until it has executed the program, or gives up; the filter may stop it on its way. The
/// wait status there.
int wait_for_exec(pid_t child) {
  for (;;) {
    const int status = wait_for(child);
    const int event = status >> 16;
    if (!WIFSTOPPED(status) || event == PTRACE_EVENT_EXEC || event == PTRACE_EVENT_EXIT) return status;
    ::ptrace(PTRACE_CONT, child, nullptr, event == 0 ? static_cast<long>(WSTOPSIG(status)) : 0L);
  }
}

}  // namespace

Result<std::string> find_program(const std::string& word) {
  if (word.find('/') != std::string::npos) return checked(word);
  if (is_regular(word)) return checked("./" + word);
  const char* path = std::getenv("PATH");
  std::istringstream folders(path == nullptr ? "/usr/bin:/bin" : path);
  for (std::string folder; std::getline(folders, folder, ':');) {
    const std::string candidate = (folder.empty() ? "." : folder) + "/" + word;
    if (is_regular(candidate) && ::access(candidate.c_str(), X_OK) == 0) return candidate;
  }
  return Error{Fault::program, word + ": no such program here or in PATH"};
}

Result<Launched> launch_seized(const LaunchOptions& options, long trace_options) {
  Result<std::string> found = find_program(options.program);
  if (!found) return found.error();
  char real[PATH_MAX];
  const std::string path = ::realpath(found->c_str(), real) != nullptr ? real : *found;
  Pipe go = Pipe::make(), problems = Pipe::make();
  if (!go.reading || !problems.reading) return Error{Fault::program, std::string("pipe: ") + std::strerror(errno)};
  const pid_t child = ::fork();
  if (child < 0) return Error{Fault::program, std::string("fork: ") + std::strerror(errno)};
  if (child == 0) {
    go.writing.close();
    become(options, path, go.reading.get(), problems.writing.get());
  }
  go.reading.close();
  problems.writing.close();
  std::optional<Error> error;
  if (::ptrace(PTRACE_SEIZE, child, nullptr, trace_options) != 0) {
    error = Error{Fault::program, path + ": cannot be traced: " + std::strerror(errno)};
  } else if (::write(go.writing.get(), "", 1) != 1) {
    error = Error{Fault::program, path + ": the launched process is gone"};
  }
  go.writing.close();
  const int status_then = error ? 0 : wait_for_exec(child);
  LaunchProblem problem{};
  if (!error && ::read(problems.reading.get(), &problem, sizeof problem) == static_cast<ssize_t>(sizeof problem))
    error = launch_error(options, path, problem);
  const bool unfiltered = options.filter && error && problem.stage == LaunchProblem::kFilter && problem.error != 0;
  if (error) {
    ::kill(child, SIGKILL);
    ::ptrace(PTRACE_CONT, child, nullptr, nullptr);  // it may stand at its end already
    while (WIFSTOPPED(wait_for(child))) ::ptrace(PTRACE_CONT, child, nullptr, nullptr);
    if (!unfiltered) return *error;
    LaunchOptions without = options;
    without.filter.reset();
    return launch_seized(without, trace_options);
  }
  const Error early{Fault::program, path + ": ended before its first instruction"};
  if (!WIFSTOPPED(status_then) || status_then >> 8 != (SIGTRAP | (PTRACE_EVENT_EXEC << 8))) return early;
  // At the event the system call has not returned yet, and rax is not what the program will find. An interrupt stops
  // it again after the call, before its first instruction.
  ::ptrace(PTRACE_INTERRUPT, child, nullptr, nullptr);
  ::ptrace(PTRACE_CONT, child, nullptr, nullptr);
  if (!WIFSTOPPED(wait_for(child))) return early;
  return Launched{child, options.filter.has_value()};
}

void give_own_bytes(pid_t child, const StopBytes& stops) {
  const FileDescriptor memory(::open(("/proc/" + std::to_string(child) + "/mem").c_str(), O_WRONLY | O_CLOEXEC));
  if (!memory) return;
  for (const auto& [address, own] : stops.all()) (void)!::pwrite(memory.get(), &own, 1, static_cast<off_t>(address));
}

}  // namespace deeptrace::process
