// A program that is run or attached to: its process and what its file says.
#pragma once

#include <memory>
#include <string>

#include "base/result.h"
#include "process/process.h"
#include "program/program.h"

namespace deeptrace::control {

struct Running {
  std::unique_ptr<process::Process> process;
  program::Program program;
};

/// Errors: as Program::open; an object file.
[[nodiscard]] Result<program::Program> program_to_run(const std::string& path, const program::OpenOptions& options);

/// At its first instruction. Errors: no such program; as program_to_run and Process::launch.
[[nodiscard]] Result<Running> launch(const process::LaunchOptions& launch, const program::OpenOptions& options);

/// Held where it stands. What can be read before it is held is read before, so that it waits for less. Errors: as
/// program_to_run and Process::attach; somebody asked for the end meanwhile.
[[nodiscard]] Result<Running> attach(pid_t pid, const program::OpenOptions& options);

/// An error when somebody has asked for the end: looked for between the parts of a beginning, while the program is held
/// and nobody waits for events.
[[nodiscard]] std::optional<Error> end_is_asked();

}  // namespace deeptrace::control
