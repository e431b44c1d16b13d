// What the rules of `survey --check` share: a function with its code, what holds along its ways, and who calls it.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "abi/described_function.h"
#include "debuginfo/frame_rules.h"
#include "isa/effects.h"
#include "program/flow_blocks.h"
#include "program/frame.h"
#include "program/references.h"
#include "study/convention_check.h"

namespace deeptrace::study {

inline std::uint32_t bit(unsigned number) { return 1U << number; }

/// A function that is looked at.
struct CheckedFunction {
  const program::Function& function;
  const program::FlowBlocks& blocks;
  const std::vector<program::FramePlace>& places;  ///< by address
  bool hand_written = false;                       ///< as far as that is known
};

/// A file that is looked at. Not safe for use by two threads at once.
class ConventionCode {
 public:
  explicit ConventionCode(const program::Program& file)
      : program(file), scan(file), machine(arch::machine_of(file.mode())), references_(file) {}

  const program::Program& program;
  program::CodeScan scan;
  const arch::Machine& machine;

  /// Without debug information: compilers make unwind tables, and few others do.
  [[nodiscard]] bool is_hand_written(const program::Function& function);
  std::optional<debuginfo::FrameRule> rule_at(std::uint64_t address) { return frames_.at(address); }
  /// What the debug information says of the function at an address.
  std::optional<abi::DescribedFunction> described(std::uint64_t address);
  debuginfo::Types& types() { return types_; }
  /// The general registers that a function reads before it writes them, of those that pass arguments; bits by number.
  std::uint32_t arguments_read(const program::Function& function);

  /// Direct calls of a function, gathered when they are first asked for.
  const std::vector<std::uint64_t>& callers_of(std::uint64_t function);
  [[nodiscard]] isa::Instruction instruction_at(std::uint64_t address) const;
  /// A call of the next instruction, by which code learns where it lies.
  [[nodiscard]] bool finds_itself(const isa::Instruction& call, std::uint64_t address) const;
  /// True of a call that does not come back, by its name or by the unwind table, which has another depth after it: what
  /// stands there belongs to another way.
  bool never_returns(const program::FlowBlocks::Code& call);
  /// True of a function whose code neither returns nor leaves: all its ways end in calls that do not come back.
  bool has_no_end(const program::Function& function);
  /// How far off a multiple of 16 the stack pointer is where a function is called, beside what the convention asks for:
  /// routines without a name may have a convention of their own, which their callers show. Nothing: not known.
  std::optional<std::int64_t> off_at_entry(const program::Function& function, unsigned levels = 3);
  /// "rbx"
  [[nodiscard]] std::string name_of(unsigned general) const;
  /// "level_sum+0x12  levels.c:31"
  [[nodiscard]] std::string place(std::uint64_t address) const;

  /// Compilers keep the rules, but for assembly that is written among the source.
  static void doubt_compiled(const CheckedFunction& checked, ConventionFinding& finding);
  void add(const CheckedFunction& checked, std::uint64_t address, ConventionFinding finding);
  std::vector<ConventionFinding> take() { return std::move(found_); }

 private:
  program::References references_;
  debuginfo::FrameTable frames_{program.elf(), program.debug_elf()};
  debuginfo::Types types_{program.debug()};
  debuginfo::Scopes scopes_{program.debug()};
  debuginfo::Locals locals_{program.debug(), scopes_};
  std::map<std::uint64_t, std::vector<std::uint64_t>> callers_;
  bool callers_known_ = false;
  std::map<std::uint64_t, std::uint32_t> arguments_;  ///< by function
  std::map<std::uint64_t, bool> endless_;             ///< likewise
  std::vector<ConventionFinding> found_;
};

/// Bits that hold on every way to a block, from `entry` at the function's start; `step` takes them over an instruction.
/// Blocks that no way leads to (handlers of exceptions) begin with all.
template <class Step>
std::vector<std::uint32_t> along(const program::FlowBlocks& blocks, std::uint32_t entry, const Step& step) {
  std::vector<std::uint32_t> before(blocks.blocks().size(), ~0U);
  if (!before.empty()) before[0] = entry;
  for (bool changed = true; changed;) {
    changed = false;
    for (std::size_t i = 0; i < before.size(); ++i) {
      const program::FlowBlocks::Block& block = blocks.blocks()[i];
      std::uint32_t bits = before[i];
      for (std::uint32_t at = block.first; at < block.end; ++at) bits = step(blocks.code()[at], bits);
      for (const std::uint32_t to : block.to) {
        const std::uint32_t both = before[to] & bits;
        changed |= both != before[to];
        before[to] = both;
      }
    }
  }
  return before;
}

/// Each instruction with the bits that hold before it.
template <class Step, class Visit>
void at_each(const program::FlowBlocks& blocks, const std::vector<std::uint32_t>& before, const Step& step,
             const Visit& visit) {
  for (std::size_t i = 0; i < before.size(); ++i) {
    std::uint32_t bits = before[i];
    const program::FlowBlocks::Block& block = blocks.blocks()[i];
    for (std::uint32_t at = block.first; at < block.end; ++at) {
      const program::FlowBlocks::Code& code = blocks.code()[at];
      if (code.instruction) visit(code, bits);
      bits = step(code, bits);
    }
  }
}
/// The same of returns alone.
template <class Step, class Visit>
void at_returns(const program::FlowBlocks& blocks, const std::vector<std::uint32_t>& before, const Step& step,
                const Visit& visit) {
  at_each(blocks, before, step, [&](const program::FlowBlocks::Code& code, std::uint32_t bits) {
    if (isa::flow_of(code.instruction) == isa::ControlFlow::return_) visit(code, bits);
  });
}

// ---- the rules ----

/// Kept registers come back; what a call may change is not read after it; arguments are set.
void check_registers(ConventionCode& code, const CheckedFunction& checked);
/// The stack pointer comes back and is aligned at calls; what lies below it is not relied on; unwind tables say what
/// the code does.
void check_stack(ConventionCode& code, const CheckedFunction& checked);
/// The direction flag, the floating-point unit, the result.
void check_state(ConventionCode& code, const CheckedFunction& checked);
/// What a routine takes and gives back, against its declaration.
void check_types(ConventionCode& code, const CheckedFunction& checked);

}  // namespace deeptrace::study
