#include "control/program_to_run.h"

#include "process/attention.h"
#include "process/maps.h"

namespace deeptrace::control {

using process::Process;

Result<program::Program> program_to_run(const std::string& path, const program::OpenOptions& options) {
  Result<program::Program> program = program::Program::open(path, options);
  if (program && program->elf().kind() == binary::Kind::relocatable)
    return Error{Fault::program, path + ": is an object file; link it into a program first"};
  return program;
}

Result<Running> launch(const process::LaunchOptions& launch, const program::OpenOptions& options) {
  const Result<std::string> path = process::find_program(launch.program);
  if (!path) return path.error();
  Result<program::Program> program = program_to_run(*path, options);
  if (!program) return program.error();
  Result<std::unique_ptr<Process>> process = Process::launch(launch);
  if (!process) return process.error();
  return Running{std::move(*process), std::move(*program)};
}

Result<Running> attach(pid_t pid, const program::OpenOptions& options) {
  // Where the file cannot be read, attaching may fail as well, and its error says more.
  const std::string path = process::executable_of(pid);
  Result<program::Program> program = program_to_run(path, options);
  Result<std::unique_ptr<Process>> process = Process::attach(pid);
  if (!process) return process.error();
  if (const std::string now = process::executable_of(pid); !program || now != path) {
    program = program_to_run(now, options);  // it has executed another one meanwhile
    if (!program) return program.error();
  }
  if (auto error = end_is_asked()) return *error;
  return Running{std::move(*process), std::move(*program)};
}

std::optional<Error> end_is_asked() {
  if (process::Attention::asked() != process::Attention::Why::end) return std::nullopt;
  return Error{Fault::program, "interrupted before the program was followed"};
}

}  // namespace deeptrace::control
