// What kinds of files and machines are called everywhere.
#pragma once

#include <string_view>

#include "program/program.h"

namespace deeptrace::report {

inline std::string_view kind_words(binary::Kind kind) {
  switch (kind) {
    case binary::Kind::relocatable: return "object file";
    case binary::Kind::executable: return "executable";
    case binary::Kind::position_independent: return "position-independent executable";
    case binary::Kind::shared_library: return "shared library";
    case binary::Kind::core: return "core file";
  }
  return {};
}

inline std::string_view machine_words(const program::Program& program) { return program.elf().machine().name; }

}  // namespace deeptrace::report
