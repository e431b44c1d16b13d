#include "study/convention_check.h"

#include <algorithm>
#include <map>
#include <optional>
#include <span>

#include "abi/described_function.h"
#include "base/number.h"
#include "base/path.h"
#include "debuginfo/frame_rules.h"
#include "isa/text.h"
#include "isa/walk.h"
#include "program/code_starts.h"
#include "program/flow_blocks.h"
#include "program/frame.h"
#include "program/references.h"
#include "program/register_read.h"
#include "state/known.h"

namespace deeptrace::study {
namespace {

using isa::ControlFlow;
using program::FlowBlocks;
using program::Function;
using program::Program;

constexpr std::int64_t kAlignment = 16;  // bytes

isa::Meaning meaning_of(const isa::Instruction& instruction) {
  return isa::operation_of(isa::row_of(instruction)).meaning;
}

std::uint32_t bit(unsigned number) { return 1U << number; }

/// What one instruction does with registers that are kept.
struct KeptUse {
  std::uint32_t saved = 0;   ///< put on the stack or into another register, whole
  std::uint32_t loaded = 0;  ///< taken from the stack or from another register, whole
  std::uint32_t written = 0;
};

KeptUse kept_use(const isa::Instruction& instruction, const arch::Machine& machine) {
  KeptUse use;
  const isa::Operands operands = isa::operands_of(instruction);
  use.written = state::general_use(isa::effects_of(instruction, operands)).written & machine.kept;
  const isa::Meaning meaning = meaning_of(instruction);
  const auto whole = [&](const isa::Operand& operand) {
    return operand.kind == isa::Operand::Kind::reg && operand.reg.file == isa::RegisterFile::general &&
           operand.reg.width == machine.word * 8;
  };
  if (operands.shown == 0) {
    if (meaning == isa::meaning::leave) use.loaded = bit(machine.frame_pointer);
    return use;
  }
  const isa::Operand& first = operands[0];
  if (meaning == isa::meaning::push && whole(first)) use.saved = bit(first.reg.index);
  if (meaning == isa::meaning::pop && whole(first)) use.loaded = bit(first.reg.index);
  if (meaning == isa::meaning::copy && operands.shown == 2) {
    const isa::Operand& from = operands[1];
    if (whole(from)) use.saved = bit(from.reg.index);
    const bool place = from.kind == isa::Operand::Kind::memory || whole(from);
    if (whole(first) && place) use.loaded = bit(first.reg.index);
  }
  return use;
}

class Checker {
 public:
  explicit Checker(const Program& program)
      : program_(program), scan_(program), references_(program), machine_(arch::machine_of(program.mode())) {}

  std::vector<ConventionFinding> run() {
    for (const Function& function : program_.functions()) {
      const bool code = function.origin == Function::Origin::symbol || function.origin == Function::Origin::recovered;
      if (!code || function.is_cold_part() || function.size == 0 || !program_.is_own(function)) continue;
      if (program::register_of_thunk(program_, function.address) >= 0) continue;
      // Without symbols, what a compiler put elsewhere looks like a function, and is jumped to.
      if (function.origin == Function::Origin::recovered && callers_of(function.address).empty()) continue;
      check(function);
    }
    return std::move(found_);
  }

 private:
  void check(const Function& function) {
    const AddressRange range = function.range();
    const FlowBlocks blocks(program_, scan_, {&range, 1});
    if (blocks.code().empty()) return;
    registers(function, blocks);
    stack(function);
    direction(function, blocks);
    result(function, blocks);
  }

  // ---- what holds before an instruction, along all ways ----

  /// Bits that hold on every way to a block, from `entry` at the function's start; `step` takes them over an
  /// instruction. Blocks that no way leads to (handlers of exceptions) begin with all.
  template <class Step>
  static std::vector<std::uint32_t> along(const FlowBlocks& blocks, std::uint32_t entry, const Step& step) {
    std::vector<std::uint32_t> before(blocks.blocks().size(), ~0U);
    if (!before.empty()) before[0] = entry;
    for (bool changed = true; changed;) {
      changed = false;
      for (std::size_t i = 0; i < before.size(); ++i) {
        const FlowBlocks::Block& block = blocks.blocks()[i];
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
  template <class Step, class Visit>
  static void at_returns(const FlowBlocks& blocks, const std::vector<std::uint32_t>& before, const Step& step,
                         const Visit& visit) {
    for (std::size_t i = 0; i < before.size(); ++i) {
      std::uint32_t bits = before[i];
      const FlowBlocks::Block& block = blocks.blocks()[i];
      for (std::uint32_t at = block.first; at < block.end; ++at) {
        const FlowBlocks::Code& code = blocks.code()[at];
        if (code.instruction && isa::flow_of(code.instruction) == ControlFlow::return_) visit(code, bits);
        bits = step(code, bits);
      }
    }
  }

  // ---- the rules ----

  void registers(const Function& function, const FlowBlocks& blocks) {
    // A register that is put away nowhere cannot come back.
    std::uint32_t saved = 0, written = 0;
    for (const FlowBlocks::Code& code : blocks.code()) {
      if (!code.instruction) continue;
      const KeptUse use = kept_use(code.instruction, machine_);
      saved |= use.saved;
      written |= use.written;
    }
    if (written == 0) return;
    const auto step = [&](const FlowBlocks::Code& code, std::uint32_t kept) {
      if (!code.instruction) return kept;
      if (isa::flow_of(code.instruction) == ControlFlow::call && never_returns(code)) return ~0U;
      const KeptUse use = kept_use(code.instruction, machine_);
      return (kept & ~use.written) | (use.loaded & saved);
    };
    std::uint32_t lost = 0;
    std::uint64_t at = 0;
    const std::uint32_t asked = machine_.kept & ~bit(machine_.stack_pointer);
    at_returns(blocks, along(blocks, asked, step), step, [&](const FlowBlocks::Code& code, std::uint32_t kept) {
      if ((asked & ~kept & ~lost) != 0) at = code.address;
      lost |= asked & ~kept;
    });
    for (unsigned number = 0; number < machine_.general_registers(); ++number) {
      if ((lost >> number & 1) != 0) changed_register(function, static_cast<isa::General>(number), at);
    }
  }

  void changed_register(const Function& function, isa::General number, std::uint64_t returns) {
    const std::string name(
        isa::name_of(arch::RegisterPart{arch::RegisterFile::general, static_cast<std::uint8_t>(number), 0,
                                        static_cast<std::uint16_t>(machine_.word * 8)}));
    const auto writer = program::first_write(program_, function.address, number);
    ConventionFinding finding;
    finding.kind = "kept_register_changed";
    finding.text = function.name.str() + " does not give " + name + " back as it was";
    finding.evidence.push_back("it returns at " + place(returns) + " with " + name + " changed on some way");
    finding.note = true;
    for (const std::uint64_t call : callers_of(function.address)) {
      const isa::Instruction instruction = instruction_at(call);
      const auto read = program::next_read(program_, call + instruction.length, number, true);
      if (!read) continue;
      finding.note = false;
      finding.evidence.push_back("a caller reads it after the call, at " + place(read->address));
      break;
    }
    doubt_compiled(function, finding);
    add(function, writer.value_or(returns), std::move(finding));
  }

  void stack(const Function& function) {
    const std::vector<program::StackPoint> points = program::stack_points(program_, scan_, function);
    // In an object file, what such a call leaves on the stack is not followed (state/known.h).
    const bool object = program_.elf().kind() == binary::Kind::relocatable;
    if (object && std::ranges::any_of(points, [&](const auto& point) { return finds_itself(point); })) return;
    for (const program::StackPoint& point : points) {
      const std::optional<std::int64_t> to_cfa = depth(function, point);
      if (!to_cfa) continue;
      const std::int64_t word = machine_.word;
      const bool returns = isa::flow_of(point.instruction) == ControlFlow::return_;
      if (returns && *to_cfa != word && is_hand_written(function)) {
        ConventionFinding finding;
        finding.kind = "stack_not_restored";
        finding.text = function.name.str() + " returns with the stack pointer " + std::to_string(*to_cfa - word) +
                       " bytes below its return address";
        add(function, point.address, std::move(finding));
      }
      if (!returns) misaligned(function, point, *to_cfa);
    }
  }

  /// By the compiler's unwind table, where there is one; of hand-written code by what it does. After a call that does
  /// not come back stands code that belongs to another way, at another depth.
  std::optional<std::int64_t> depth(const Function& function, const program::StackPoint& point) {
    const auto rule = is_hand_written(function) ? std::nullopt : frames_.at(point.address);
    if (!rule) return point.to_cfa;
    const bool by_stack =
        rule->cfa_expression.empty() && rule->cfa_register == machine_.dwarf_number(machine_.stack_pointer);
    return by_stack ? std::optional(rule->cfa_offset) : std::nullopt;
  }

  /// True of a call after which the unwind table has another depth: what stands there belongs to another way.
  bool never_returns(const FlowBlocks::Code& call) {
    const auto before = frames_.at(call.address), after = frames_.at(call.address + call.instruction.length);
    return before && after &&
           (before->cfa_register != after->cfa_register || before->cfa_offset != after->cfa_offset) &&
           before->cfa_expression.empty() && after->cfa_expression.empty();
  }

  void misaligned(const Function& function, const program::StackPoint& point, std::int64_t to_cfa) {
    if (machine_.mode != arch::Mode::bits64 || to_cfa % kAlignment == 0) return;
    if (finds_itself(point)) return;
    const auto target = program::target_of(program_, point.address, point.instruction);
    const Function* called = target ? program_.function_at(*target) : nullptr;
    const bool here = called != nullptr && called->origin != Function::Origin::plt;
    const auto relies = here ? program::aligned_access(program_, called->address) : std::nullopt;
    // A compiler that knows both leaves it out where nothing needs it.
    if (here && !relies && !is_hand_written(function)) return;
    ConventionFinding finding;
    finding.kind = "stack_misaligned";
    finding.text = function.name.str() + " calls " +
                   (called != nullptr ? called->name.str() : std::string("a function elsewhere")) +
                   " with the stack pointer " + std::to_string((to_cfa % kAlignment + kAlignment) % kAlignment) +
                   " bytes off a multiple of 16";
    finding.note = !relies;
    if (relies) finding.evidence.push_back("it faults then at " + place(*relies));
    add(function, point.address, std::move(finding));
  }

  void direction(const Function& function, const FlowBlocks& blocks) {
    constexpr std::uint16_t kDirection = 0x400;  // Intel SDM volume 1, 3.4.3.2
    const auto flags = [](const FlowBlocks::Code& code) {
      return isa::operation_of(isa::row_of(code.instruction)).flags;
    };
    const auto step = [&](const FlowBlocks::Code& code, std::uint32_t clear) {
      if (!code.instruction) return clear;
      if (isa::flow_of(code.instruction) == ControlFlow::call && never_returns(code)) return ~0U;
      const isa::FlagUse use = flags(code);
      if ((use.set & kDirection) != 0) return 0U;
      return ((use.cleared | use.written) & kDirection) != 0 ? 1U : clear;  // popf brings back what was
    };
    const bool sets = std::ranges::any_of(blocks.code(), [&](const FlowBlocks::Code& code) {
      return code.instruction && (flags(code).set & kDirection) != 0;
    });
    if (!sets) return;
    at_returns(blocks, along(blocks, 1, step), step, [&](const FlowBlocks::Code& code, std::uint32_t clear) {
      if ((clear & 1) != 0) return;
      ConventionFinding finding;
      finding.kind = "direction_flag_set";
      finding.text = function.name.str() + " returns with df set on some way: string instructions go downwards then";
      doubt_compiled(function, finding);
      add(function, code.address, std::move(finding));
    });
  }

  /// Of functions whose type is known, and says that an integer or address comes back.
  void result(const Function& function, const FlowBlocks& blocks) {
    if (program_.debug().empty()) return;
    const auto described = abi::described_function(program_, types_, scopes_, locals_, function.address);
    if (!described) return;
    const abi::CallLayout layout =
        abi::layout_of_call(program_.mode(), described->compiler, types_, {}, described->result);
    const bool general = layout.result.pieces.size() == 1 && !layout.result.by_address &&
                         layout.result.pieces.front().part.file == arch::RegisterFile::general;
    if (!general || function.name.str() == "main") return;  // C11, 5.1.2.2.3
    const std::uint32_t result = bit(machine_.result);
    const auto step = [&](const FlowBlocks::Code& code, std::uint32_t set) {
      if (!code.instruction) return set;
      const ControlFlow flow = isa::flow_of(code.instruction);
      if (flow == ControlFlow::call || flow == ControlFlow::system) return set | result;
      return set | (state::general_use(isa::effects_of(code.instruction)).written & result);
    };
    at_returns(blocks, along(blocks, 0, step), step, [&](const FlowBlocks::Code& code, std::uint32_t set) {
      if ((set & result) != 0) return;
      ConventionFinding finding;
      finding.kind = "result_not_set";
      finding.note = true;
      finding.text = function.name.str() + " returns " + types_.name(described->result) +
                     ", and nothing sets the result on some way to here";
      add(function, code.address, std::move(finding));
    });
  }

  // ---- helpers ----

  /// Compilers keep the rules, but for assembly that is written among the source.
  void doubt_compiled(const Function& function, ConventionFinding& finding) {
    if (is_hand_written(function)) return;
    finding.note = true;
    finding.evidence.emplace_back(
        "compiled code: assembly in the source may do that; or the way leads over a call that never returns");
  }

  [[nodiscard]] isa::Instruction instruction_at(std::uint64_t address) const {
    return isa::decode(program_.elf().bytes_at(address), program_.mode());
  }

  /// Without debug information: compilers make unwind tables, and few others do.
  [[nodiscard]] bool is_hand_written(const Function& function) {
    if (program_.debug().units_at(function.address).empty()) return !frames_.at(function.address).has_value();
    return program::is_assembly(program_, function.address);
  }

  /// A call of the next instruction, by which code learns where it lies.
  [[nodiscard]] bool finds_itself(const program::StackPoint& point) const {
    return isa::flow_of(point.instruction) == ControlFlow::call &&
           program::target_of(program_, point.address, point.instruction) == point.address + point.instruction.length;
  }

  /// Direct calls, gathered when they are first asked for.
  const std::vector<std::uint64_t>& callers_of(std::uint64_t function) {
    if (!callers_known_) {
      callers_known_ = true;
      for (const Function& one : program_.functions()) {
        references_.each(one, [&](std::uint64_t address, const isa::Instruction& instruction, const auto&) {
          if (!instruction || isa::flow_of(instruction) != ControlFlow::call) return;
          if (const auto target = program::target_of(program_, address, instruction))
            callers_[*target].push_back(address);
        });
      }
    }
    return callers_[function];
  }

  [[nodiscard]] std::string place(std::uint64_t address) const {
    std::string text = program_.place_name(address);
    if (const auto line = program_.lines().at(address); line && line->line != 0)
      text += "  " + base_name(program_.source_path(*line)) + ":" + std::to_string(line->line);
    return text;
  }

  void add(const Function& function, std::uint64_t address, ConventionFinding finding) {
    finding.function = function.name.str();
    finding.address = address;
    if (const auto line = program_.lines().at(address); line && line->line != 0) {
      finding.file = program_.source_path(*line);
      finding.line = line->line;
    }
    found_.push_back(std::move(finding));
  }

  const Program& program_;
  program::CodeScan scan_;
  program::References references_;
  const arch::Machine& machine_;
  debuginfo::FrameTable frames_{program_.elf(), program_.debug_elf()};
  debuginfo::Types types_{program_.debug()};
  debuginfo::Scopes scopes_{program_.debug()};
  debuginfo::Locals locals_{program_.debug(), scopes_};
  std::map<std::uint64_t, std::vector<std::uint64_t>> callers_;
  bool callers_known_ = false;
  std::vector<ConventionFinding> found_;
};

}  // namespace

std::vector<ConventionFinding> check_conventions(const Program& program) {
  return program.elf().kind() == binary::Kind::core ? std::vector<ConventionFinding>() : Checker(program).run();
}

}  // namespace deeptrace::study
