// The file of a program that is run or attached to.
#pragma once

#include <string>

#include "base/result.h"
#include "program/program.h"

namespace deeptrace::control {

/// Errors: as Program::open; an object file.
inline Result<program::Program> program_to_run(const std::string& path, const program::OpenOptions& options) {
  Result<program::Program> program = program::Program::open(path, options);
  if (program && program->elf().kind() == binary::Kind::relocatable)
    return Error{Fault::program, path + ": is an object file; link it into a program first"};
  return program;
}

}  // namespace deeptrace::control
