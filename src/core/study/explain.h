// The work of `explain`: what bytes, an instruction's name, a flags word, a register, a system call, an error, a signal
// or a constant means, from the tables alone.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "arch/register_roles.h"
#include "base/result.h"
#include "isa/effects.h"
#include "isa/text.h"
#include "study/explain_convention.h"
#include "study/explain_frame.h"
#include "study/explain_passing.h"
#include "study/explain_system.h"

namespace deeptrace::study {

struct ExplainRequest {
  std::string kind;  ///< one of explained_kinds(); empty: all of them
  std::string word;
  std::string file;        ///< that has the function `word`: of the kinds "frame" and "passing"; empty: a declaration
  std::string convention;  ///< of declarations; empty: that of C functions of the mode
  isa::Mode mode = isa::Mode::bits64;
  isa::Syntax syntax = isa::Syntax::intel;
};

/// A piece of an encoding.
struct ExplainedField {
  unsigned at = 0;  ///< bytes from the start
  std::vector<std::uint8_t> bytes;
  std::string meaning;
};

struct ExplainedOperand {
  std::string text;
  bool hidden = false;
  std::string access;       ///< "read", "written", "read and written", "perhaps written" …
  unsigned width = 0;       ///< bits; 0 for an address only
  std::string consequence;  ///< "the upper half of rax becomes 0"; empty where nothing is to be said
};

/// What an operation does beside its operands, in words.
struct ExplainedDoing {
  std::string flags_read, flags_written, flags_undefined, flags_cleared, flags_set;  ///< names; empty for none
  std::vector<std::string> remarks;                                                  ///< "may fault by its values"
};

struct ExplainedBytes {
  std::vector<std::uint8_t> bytes;  ///< of the instruction
  std::size_t rest = 0;             ///< bytes after it
  std::string text, sentence, note, feature, encoding;
  std::string_view unproved;  ///< why this processor cannot prove what is said here; empty where it can
  std::vector<ExplainedField> fields;
  std::vector<ExplainedOperand> operands;
  ExplainedDoing doing;
};

struct ExplainedForm {
  std::string text;      ///< "add r/m32, imm8"
  std::string encoding;  ///< "83 /0"
  std::string feature;
  std::uint8_t modes = 3;     ///< as in Row
  std::string_view unproved;  ///< as in ExplainedBytes
};

struct ExplainedOperation {
  std::string sentence, note;
  ExplainedDoing doing;
  std::vector<ExplainedForm> forms;
};

struct ExplainedInstruction {
  std::string name;
  std::vector<ExplainedOperation> operations;
};

struct ExplainedFlag {
  unsigned bit = 0;
  std::string_view name, meaning;
  bool set = false;
};

struct ExplainedFlags {
  std::uint64_t value = 0;
  std::vector<ExplainedFlag> flags;
  std::uint64_t unnamed = 0;  ///< bits that have no name
};

struct ExplainedRegister {
  std::string name;
  std::vector<std::string> parts;
  arch::RegisterRole role;
  std::string remark;
};

/// A prefix by the name that assemblers have for it.
struct ExplainedPrefix {
  std::string name;
  std::string encoding;              ///< "f0"
  std::string meaning;               ///< a sentence
  std::vector<std::string> remarks;  ///< where it may stand, what people get wrong with it
};

struct Explanation {
  std::optional<ExplainedBytes> bytes;
  std::optional<ExplainedInstruction> instruction;
  std::optional<ExplainedFlags> flags;
  std::optional<ExplainedRegister> reg;
  std::optional<ExplainedPrefix> prefix;
  std::optional<ExplainedCall> call;
  std::optional<ExplainedError> error;
  std::optional<ExplainedSignal> signal;
  std::optional<ExplainedConstants> constants;
  std::optional<ExplainedConvention> convention;
  std::optional<ExplainedPassing> passing;
  std::optional<ExplainedFrame> frame;
  bool brief = false;  ///< of a bare number: of what the operating system has by it, the names are enough
};

/// "bytes", "instruction" …; with a word for what each takes.
struct ExplainedKind {
  std::string_view name, takes;
};
std::span<const ExplainedKind> explained_kinds();

/// Every meaning of the word. Errors (Fault::usage): no such kind; digits that are none; a word without a meaning, with
/// names that are near.
Result<Explanation> explain(const ExplainRequest& request);

}  // namespace deeptrace::study
