// What a function leaves beside registers and stack: the direction flag, the floating-point unit, its result. x86-64:
// System V psABI, 3.2.1 and 3.2.3. i386: System V psABI, 2.2.1 and 2.2.4.
#include <algorithm>
#include <set>
#include <utility>

#include "state/known.h"
#include "study/convention_code.h"

namespace deeptrace::study {
namespace {

using isa::ControlFlow;
using Code = program::FlowBlocks::Code;

class State {
 public:
  State(ConventionCode& code, const CheckedFunction& checked)
      : code_(code), checked_(checked), machine_(code.machine) {}

  void run() {
    direction();
    if (checked_.hand_written) {
      mmx();
      floating_stack();
    }
    result();
  }

 private:
  void direction() {
    constexpr std::uint16_t kDirection = 0x400;  // Intel SDM volume 1, 3.4.3.2
    const auto flags = [](const Code& code) { return isa::operation_of(code.instruction).flags; };
    const auto step = [&](const Code& code, std::uint32_t clear) {
      if (!code.instruction) return clear;
      if (isa::flow_of(code.instruction) == ControlFlow::call && code_.never_returns(code)) return ~0U;
      const isa::FlagUse use = flags(code);
      if ((use.set & kDirection) != 0) return 0U;
      return ((use.cleared | use.written) & kDirection) != 0 ? 1U : clear;  // popf brings back what was
    };
    const bool sets = std::ranges::any_of(checked_.blocks.code(), [&](const Code& code) {
      return code.instruction && (flags(code).set & kDirection) != 0;
    });
    if (!sets) return;
    at_returns(checked_.blocks, along(checked_.blocks, 1, step), step, [&](const Code& code, std::uint32_t clear) {
      if ((clear & 1) != 0) return;
      ConventionFinding finding;
      finding.kind = "direction_flag_set";
      finding.text =
          checked_.function.name.str() + " returns with df set on some way: string instructions go downwards then";
      ConventionCode::doubt_compiled(checked_, finding);
      code_.add(checked_, code.address, std::move(finding));
    });
  }

  // ---- the floating-point unit ----

  static bool uses_mmx(const isa::Instruction& instruction) {
    return std::ranges::any_of(isa::operands_of(instruction), [](const isa::Operand& operand) {
      return operand.kind == isa::Operand::Kind::reg && operand.reg.file == isa::RegisterFile::mmx;
    });
  }
  static bool empties(const isa::Instruction& instruction) {
    const std::string_view name = isa::mnemonic_of(isa::row_of(instruction));
    return name == "emms" || name == "femms" || name == "fninit" || name == "finit";
  }

  /// Its registers are the floating-point unit's: in use until `emms`.
  void mmx() {
    const auto step = [&](const Code& code, std::uint32_t clean) {
      if (!code.instruction) return clean;
      if (empties(code.instruction)) return 1U;
      return uses_mmx(code.instruction) ? 0U : clean;
    };
    const bool any = std::ranges::any_of(
        checked_.blocks.code(), [](const Code& code) { return code.instruction && uses_mmx(code.instruction); });
    if (!any) return;
    bool reported = false;
    at_each(checked_.blocks, along(checked_.blocks, 1, step), step, [&](const Code& code, std::uint32_t clean) {
      const ControlFlow flow = isa::flow_of(code.instruction);
      if ((flow != ControlFlow::return_ && flow != ControlFlow::call) || (clean & 1) != 0 || reported) return;
      reported = true;
      ConventionFinding finding;
      finding.kind = "mmx_state_left";
      finding.note = true;  // callers may empty it
      finding.text = checked_.function.name.str() + (flow == ControlFlow::call ? " calls" : " returns") +
                     " with mmx registers in use: the floating-point stack is full then, until `emms`";
      code_.add(checked_, code.address, std::move(finding));
    });
  }

  /// How many registers of the floating-point stack are in use, along all ways; at a return one may be: the result.
  void floating_stack() {
    const auto blocks = checked_.blocks.blocks();
    std::set<std::pair<std::uint32_t, int>> seen = {{0, 0}};
    std::vector<std::pair<std::uint32_t, int>> open = {{0, 0}};
    while (!open.empty() && !blocks.empty()) {
      auto [number, depth] = open.back();
      open.pop_back();
      for (std::uint32_t at = blocks[number].first; at < blocks[number].end; ++at) {
        const Code& code = checked_.blocks.code()[at];
        if (!code.instruction) continue;
        const ControlFlow flow = isa::flow_of(code.instruction);
        if (flow == ControlFlow::call) return;  // what it leaves there is its result, or nothing
        if (flow == ControlFlow::return_ && (depth > 1 || depth < 0)) return unbalanced(code.address, depth);
        depth = empties(code.instruction) ? 0 : depth + isa::effects_of(code.instruction).x87_pushes;
      }
      constexpr int kRegisters = 8;
      if (depth > kRegisters || depth < -kRegisters) continue;
      for (const std::uint32_t to : blocks[number].to) {
        if (seen.emplace(to, depth).second) open.emplace_back(to, depth);
      }
    }
  }

  void unbalanced(std::uint64_t address, int depth) {
    ConventionFinding finding;
    finding.kind = "x87_stack_left";
    finding.text =
        checked_.function.name.str() +
        (depth < 0 ? " takes more off the floating-point stack than it puts there: " + std::to_string(-depth) +
                         " of its caller's"
                   : " returns with " + std::to_string(depth) +
                         " values on the floating-point stack, where at most the result may be");
    code_.add(checked_, address, std::move(finding));
  }

  // ---- the result ----

  /// Of functions whose type is known, and says that an integer or address comes back.
  void result() {
    const auto described = code_.described(checked_.function.address);
    if (!described) return;
    const abi::CallLayout layout =
        abi::layout_of_call(code_.program.mode(), described->compiler, code_.types(), {}, described->result);
    const bool general = layout.result.pieces.size() == 1 && !layout.result.by_address &&
                         layout.result.pieces.front().part.file == arch::RegisterFile::general;
    if (!general || checked_.function.name.str() == "main") return;  // C11, 5.1.2.2.3
    const std::uint32_t register_bit = bit(machine_.result);
    const auto step = [&](const Code& code, std::uint32_t set) {
      if (!code.instruction) return set;
      const ControlFlow flow = isa::flow_of(code.instruction);
      if (flow == ControlFlow::call || flow == ControlFlow::system) return set | register_bit;
      return set | (state::general_use(isa::effects_of(code.instruction)).written & register_bit);
    };
    at_returns(checked_.blocks, along(checked_.blocks, 0, step), step, [&](const Code& code, std::uint32_t set) {
      if ((set & register_bit) != 0) return;
      ConventionFinding finding;
      finding.kind = "result_not_set";
      finding.note = true;
      finding.text = checked_.function.name.str() + " returns " + code_.types().name(described->result) +
                     ", and nothing sets the result on some way to here";
      code_.add(checked_, code.address, std::move(finding));
    });
  }

  ConventionCode& code_;
  const CheckedFunction& checked_;
  const arch::Machine& machine_;
};

}  // namespace

void check_state(ConventionCode& code, const CheckedFunction& checked) { State(code, checked).run(); }

}  // namespace deeptrace::study
