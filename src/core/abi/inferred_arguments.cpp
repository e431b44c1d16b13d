#include "abi/inferred_arguments.h"

#include <optional>
#include <set>

#include "isa/walk.h"
#include "program/flow_blocks.h"
#include "program/frame.h"
#include "state/known.h"

namespace deeptrace::abi {
namespace {

using program::FlowBlocks;

constexpr unsigned kNone = ~0U;

class Reader {
 public:
  Reader(const program::Program& program, program::CodeScan& scan, const program::Function& function)
      : program_(program),
        scan_(scan),
        function_(function),
        range_(function.range()),
        blocks_(program, scan, {&range_, 1}),
        machine_(arch::machine_of(program.mode())) {}

  std::vector<Passed> run() {
    follow();
    std::vector<Passed> result;
    const auto add = [&](unsigned number) {
      if ((read_ >> number & 1) == 0) return;
      read_ &= ~(1U << number);
      const arch::RegisterPart part{arch::RegisterFile::general, static_cast<std::uint8_t>(number), 0,
                                    static_cast<std::uint16_t>(machine_.word * 8)};
      result.push_back({{{part, 0, 0, machine_.word}}, false});
    };
    read_ &= ~(1U << machine_.stack_pointer);
    for (const arch::General one : machine_.arguments) add(one);
    for (unsigned number = 0; number < machine_.general_registers(); ++number) add(number);
    for (const std::uint64_t offset : words_)
      result.push_back({{{arch::RegisterPart{}, offset, 0, machine_.word}}, false});
    return result;
  }

 private:
  /// Registers that were written on every way to a block shrink until nothing changes; what is read is added up then.
  void follow() {
    const auto blocks = blocks_.blocks();
    std::vector<std::uint32_t> written(blocks.size(), kNone);
    for (std::uint32_t i = 0; i < blocks.size(); ++i) {
      if (blocks_.is_root(i)) written[i] = i == 0 ? 0 : kNone;  // handlers of exceptions are no beginning
    }
    for (bool changed = true; changed;) {
      changed = false;
      for (std::uint32_t i = 0; i < blocks.size(); ++i) {
        const std::uint32_t after = written[i] == kNone ? kNone : through(blocks[i], written[i], false);
        for (const std::uint32_t to : blocks[i].to) {
          const std::uint32_t both = written[to] & after;
          changed |= both != written[to];
          written[to] = both;
        }
      }
    }
    for (std::uint32_t i = 0; i < blocks.size(); ++i) {
      if (written[i] != kNone) through(blocks[i], written[i], true);
    }
  }

  std::uint32_t through(const FlowBlocks::Block& block, std::uint32_t written, bool note) {
    for (std::uint32_t i = block.first; i < block.end; ++i) {
      const FlowBlocks::Code& code = blocks_.code()[i];
      if (!code.instruction) continue;
      const isa::Operands operands = isa::operands_of(code.instruction);
      const Use use = use_of(code.instruction, operands);
      const bool saves = isa::operation_of(code.instruction).meaning == isa::meaning::push;
      if (note && !state::clears(code.instruction, operands)) {
        read_ |= use.read & ~written & ~(saves ? unsigned{machine_.kept} : 0U);
        note_words(code, operands);
      }
      written |= use.written;
      if (isa::flow_of(code.instruction) == isa::ControlFlow::call) written |= machine_.changed_by_call();
    }
    return written;
  }

  struct Use {
    std::uint32_t read = 0, written = 0;  ///< bits by general register
  };
  /// What a write leaves of a register is not read.
  static Use use_of(const isa::Instruction& instruction, const isa::Operands& operands) {
    const isa::Effects effects = isa::effects_of(instruction, operands);
    Use use;
    for (std::size_t i = 0; i < effects.register_count; ++i) {
      const isa::RegisterEffect& one = effects.registers[i];
      if (one.part.file != isa::RegisterFile::general) continue;
      if (isa::reads(one.access)) use.read |= 1U << one.part.index;
      if (isa::writes(one.access)) use.written |= 1U << one.part.index;
    }
    return use;
  }

  /// Words above the return address that an instruction reads. With registers for arguments nothing tells them from
  /// what a caller that has no convention keeps there.
  void note_words(const FlowBlocks::Code& code, const isa::Operands& operands) {
    if (!machine_.arguments.empty()) return;
    for (const isa::Operand& operand : operands) {
      if (operand.kind != isa::Operand::Kind::memory || !isa::reads(operand.access)) continue;
      const isa::MemoryRecipe recipe = operand.memory();
      const bool by_stack = recipe.base && recipe.base.index == machine_.stack_pointer;
      const bool by_frame = recipe.base && recipe.base.index == machine_.frame_pointer;
      if ((!by_stack && !by_frame) || recipe.index) continue;
      const auto below = below_cfa(code.address, by_stack);
      if (!below) continue;
      constexpr std::int64_t kFarthest = 64 * 4;  // bytes
      const std::int64_t offset = static_cast<std::int64_t>(recipe.displacement) - *below;
      if (offset >= 0 && offset < kFarthest)
        words_.insert(static_cast<std::uint64_t>(offset) / machine_.word * machine_.word);
    }
  }

  /// How far the stack or frame pointer is below where the stack pointer stands before the call.
  std::optional<std::int64_t> below_cfa(std::uint64_t address, bool by_stack) {
    if (!by_stack) {
      if (!frame_pointer_) frame_pointer_ = program::frame_of(program_, scan_, function_).frame_pointer;
      // Its old value and the return address lie above it.
      return *frame_pointer_ ? std::optional<std::int64_t>(2 * machine_.word) : std::nullopt;
    }
    const auto point = program::frame_at(program_, scan_, function_, address);
    return point && point->by_stack ? std::optional(point->to_cfa) : std::nullopt;
  }

  const program::Program& program_;
  program::CodeScan& scan_;
  const program::Function& function_;
  AddressRange range_;
  FlowBlocks blocks_;
  const arch::Machine& machine_;
  std::optional<bool> frame_pointer_;  ///< it marks the frame
  std::uint32_t read_ = 0;             ///< bits by general register
  std::set<std::uint64_t> words_;      ///< bytes above where the stack pointer stands before the call
};

}  // namespace

std::vector<Passed> inferred_arguments(const program::Program& program, program::CodeScan& scan,
                                       const program::Function& function) {
  if (function.size == 0) return {};
  return Reader(program, scan, function).run();
}

}  // namespace deeptrace::abi
