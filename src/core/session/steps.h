// The work of `steps`: a stretch of a program, instruction by instruction, as rows of what each one changed.
//
// Own code is stepped; everything else runs at full speed and becomes one row each time. See docs/architecture.md,
// "How steps follows a program".
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "abi/signal_names.h"
#include "base/result.h"
#include "isa/instruction.h"
#include "look/address_name.h"
#include "look/argument.h"
#include "look/kernel_call.h"
#include "look/stack_words.h"
#include "process/launch.h"
#include "program/program.h"
#include "session/run_end.h"
#include "state/delta.h"

namespace deeptrace::session {

struct StepsRequest {
  process::LaunchOptions launch;
  pid_t attach = 0;  ///< in place of launching
  program::OpenOptions open;
  std::uint64_t from_hit = 1;  ///< stepping begins when control comes to `from` for the n-th time
  std::string from;            ///< empty: main, or the entry where there is none; attached: where it stands
  bool all_threads = false;    ///< every thread has rows
  /// The process that comes to `from` first is followed, be it the program or a child of it.
  bool trace_children = false;
  std::uint64_t thread = 0;  ///< number from 1 in the order they were seen, or the kernel's; 0: the first
  std::string to;            ///< empty: none
  std::optional<std::uint64_t> count = 1000;  ///< instructions at most; nothing: all
  bool stack = false;                         ///< rows of instructions that move or write the stack have its words
  std::function<void()> pause{};              ///< see Process::at_pauses
};

struct StepRow {
  enum class Kind : std::uint8_t {
    instruction,
    full_speed,     ///< code that is not own ran at full speed; its memory writes were not followed
    signal,         ///< the kernel took the thread into a signal handler
    signal_return,  ///< the kernel took it back to where the signal had come
    kernel,         ///< memory that the kernel wrote in the system call of the row before
  };
  Kind kind = Kind::instruction;
  std::uint64_t number = 0;  ///< from 1, over all kinds
  pid_t thread = 0;
  std::uint64_t thread_number = 0;  ///< that people know it by, from 1
  std::uint64_t address = 0;
  std::string_view function;  ///< name; empty when unknown
  std::uint64_t offset = 0;   ///< bytes from the function's start
  std::string_view file;      ///< source path; empty when the instruction belongs to no line
  std::uint32_t line = 0;
  std::string_view text;         ///< the instruction, or what happened
  std::string_view target_name;  ///< what a direct target or fixed memory operand refers to
  std::string_view target_text;  ///< the readable string there, raw
  isa::ControlFlow flow = isa::ControlFlow::next;
  isa::Mode mode = isa::Mode::bits64;     ///< that the instruction ran in: names and widths of the registers
  std::optional<bool> taken;              ///< conditional jumps: whether it jumped
  std::optional<std::uint64_t> compared;  ///< of cmp and test: what they found in memory
  const state::Delta* delta = nullptr;
  /// The integer core around it; null where it is not one moment's.
  const state::RegisterSet *before = nullptr, *after = nullptr;
  bool completed = true;                     ///< false: it faulted, or was interrupted and will go on
  bool registers_followed = true;            ///< false: it may have changed registers that are not compared
  bool memory_followed = true;               ///< false: it may have written memory that is not in the row
  std::optional<std::uint64_t> repetitions;  ///< of a repeated string instruction
  int signal = 0;                            ///< of a signal row, or the one that a fault brought about
  std::uint64_t fault_address = 0;
  std::string_view note;  ///< what else happened before this row; empty when nothing did
  /// The stack afterwards (StepsRequest::stack): the words of the innermost frame. Null where it stayed as it was.
  const std::vector<look::StackWord>* stack = nullptr;
  const look::KernelCall* call = nullptr;  ///< the system call that it made; null: it made none, or none that is known
};

/// Names for what a row shows, for those who show it to people. They hold during the call of StepsSink::row.
class RowNames {
 public:
  virtual ~RowNames() = default;
  /// What lies at an address that the row shows; nothing known for numbers.
  virtual look::AddressName address(const StepRow& row, std::uint64_t value) = 0;
  /// The variable or part of one that is written: "total", "heads[1]", "[rbp-0x14] sum"; empty when there is none.
  virtual std::string memory(const StepRow& row, const state::MemoryChange& change) = 0;
  /// Why a conditional jump went where it did: "3 is less than 6, signed"; empty where that is not known. Rows are to
  /// be asked about in order.
  virtual std::string reason(const StepRow& row) = 0;
};

struct StepsStart {
  std::string_view program;
  isa::Mode mode = isa::Mode::bits64;
  bool randomised = false;
  bool all_threads = false;  ///< rows come from all threads, in turns
  pid_t thread = 0;
  std::uint64_t address = 0;
  std::string_view place;
  pid_t process = 0;  ///< where it may be a child's; 0: it is the program's
  RowNames* names = nullptr;
};

/// Why stepping ended; the program then ran on to its end.
enum class StepsEnd : std::uint8_t { returned, to, count, program_end, replaced, thread_end, interrupt };
std::string_view name_of(StepsEnd end);

struct StepsSummary {
  StepsEnd ended = StepsEnd::program_end;
  RunEnd exit;  ///< exited, killed, or detached
  std::uint64_t rows = 0;
  std::uint64_t instructions = 0;
  std::size_t other_threads = 0;        ///< that ran alongside and were not stepped
  std::vector<look::Finding> findings;  ///< why a signal ended it, where a mistake of the program did
};

/// Receives the rows. Views hold during the call only.
class StepsSink {
 public:
  virtual ~StepsSink() = default;
  /// Whether rows are shown to people: what they need beside the changes (RowNames::reason, Delta::written) is kept
  /// then.
  [[nodiscard]] virtual bool for_people() const { return false; }
  virtual void begin(const StepsStart& start) = 0;
  virtual void row(const StepRow& row) = 0;
  virtual void end(const StepsSummary& summary) = 0;
};

/// Runs the program. Errors before the first row: an unusable file or program, an unknown location, an end before
/// `from`; nothing has been sent to the sink then.
Result<StepsSummary> steps(const StepsRequest& request, StepsSink& sink);

}  // namespace deeptrace::session
