// What `explain` says of the operating system: system calls, errors, signals and the constants of its headers.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "isa/instruction.h"

namespace deeptrace::study {

struct ExplainedConstant {
  std::string_view name;
  std::int64_t value = 0;
};

/// The constants that an argument is one, or a set, of.
struct ExplainedGroup {
  std::string argument;  ///< that takes them
  bool set = false;
  std::vector<ExplainedConstant> constants;
};

struct ExplainedMember {
  std::uint64_t offset = 0, size = 0;  ///< bytes
  std::string declaration;             ///< "long tv_sec"
};

/// A structure that an argument points to.
struct ExplainedStructure {
  std::string argument, name;
  std::uint64_t size = 0;  ///< bytes
  std::vector<ExplainedMember> fields;
};

struct ExplainedArgument {
  std::string name, reg, meaning;
};

/// A system call in one of the numberings.
struct ExplainedCallForm {
  isa::Mode mode = isa::Mode::bits64;
  std::uint64_t number = 0;
  std::string number_register, instruction;  ///< "rax", "syscall"
  std::vector<ExplainedArgument> arguments;
  ExplainedArgument result;
};

struct ExplainedCall {
  std::string name;
  std::vector<ExplainedCallForm> forms;  ///< of the numbering that was asked for first
  std::vector<ExplainedGroup> groups;    ///< of the first form, as are structures and errors
  std::vector<ExplainedStructure> structures;
  std::vector<std::pair<std::string, std::string>> errors;  ///< names and meanings
  std::string
      same_number;  ///< the call that has the first form's number in the other numbering; empty: none, or itself
};

struct ExplainedError {
  int number = 0;
  std::string name, meaning, cause;  ///< the cause is empty where nothing is known
};

struct ExplainedSignal {
  int number = 0;
  std::string name, meaning, action, cause;
};

/// Constants of one name, or of one value.
struct ExplainedConstants {
  std::string word;
  struct One {
    ExplainedConstant constant;
    std::vector<std::string> taken_by;  ///< "socket: domain"
  };
  std::vector<One> found;
};

/// By name or number; the numbering is that of `mode`. Nothing for a word that no call has.
std::optional<ExplainedCall> explain_call(std::string_view word, isa::Mode mode);
/// "EFAULT", "14", "-14", or the 64- or 32-bit register that holds it (0xfffffffffffffff2).
std::optional<ExplainedError> explain_error(std::string_view word);
/// "SIGSEGV", "segv", "11".
std::optional<ExplainedSignal> explain_signal(std::string_view word);
/// By name, "O_WRONLY|O_CREAT", or by value.
std::optional<ExplainedConstants> explain_constant(std::string_view word);

/// Names that these know, for words that are near.
std::vector<std::string> system_names(std::string_view kind);

}  // namespace deeptrace::study
