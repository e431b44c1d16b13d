// Hand-written routines against the declaration that their callers have. x86-64: System V psABI, 3.2.3.
#include <algorithm>

#include "study/convention_code.h"

namespace deeptrace::study {
namespace {

using Code = program::FlowBlocks::Code;

/// Whether an instruction of a function writes a register, any part of it; calls may set results.
bool writes(const CheckedFunction& checked, arch::RegisterFile file, unsigned number) {
  return std::ranges::any_of(checked.blocks.code(), [&](const Code& code) {
    if (!code.instruction) return false;
    const isa::ControlFlow flow = isa::flow_of(code.instruction);
    if (flow == isa::ControlFlow::call || flow == isa::ControlFlow::system) return true;
    const isa::Effects effects = isa::effects_of(code.instruction);
    return std::any_of(effects.registers.begin(), effects.registers.begin() + effects.register_count,
                       [&](const isa::RegisterEffect& one) {
                         return one.part.file == file && one.part.index == number && isa::writes(one.access);
                       });
  });
}

bool returns(const CheckedFunction& checked) {
  return std::ranges::any_of(checked.blocks.code(), [](const Code& code) {
    return code.instruction && isa::flow_of(code.instruction) == isa::ControlFlow::return_;
  });
}

}  // namespace

void check_types(ConventionCode& code, const CheckedFunction& checked) {
  if (!checked.hand_written || code.machine.mode != arch::Mode::bits64 || !returns(checked)) return;
  const auto described = code.described(checked.function.address);
  if (!described || !described->complete) return;
  const abi::CallLayout layout = abi::layout_of(*described, code.program.mode(), code.types());
  if (!layout.known) return;
  const std::string name = checked.function.name.str();

  std::uint32_t passed = layout.hidden_result ? bit(code.machine.arguments.front()) : 0;
  for (const abi::Passed& one : layout.arguments) {
    for (const abi::Piece& piece : one.pieces) {
      if (piece.part.file == arch::RegisterFile::general) passed |= bit(piece.part.index);
    }
  }
  // Who only takes its address declares it as `void f(void)`.
  const bool says = !described->parameters.empty();
  const std::uint32_t read = says ? code.arguments_read(checked.function) & ~passed : 0;
  for (unsigned number = 0; number < code.machine.general_registers(); ++number) {
    if ((read >> number & 1) == 0) continue;
    ConventionFinding finding;
    finding.kind = "argument_not_passed";
    finding.text = name + " reads " + code.name_of(number) +
                   " before it sets it: by the declaration that its callers have, nothing is passed there";
    code.add(checked, checked.function.address, std::move(finding));
  }

  if (layout.result.pieces.size() != 1 || layout.result.by_address) return;
  const arch::RegisterPart part = layout.result.pieces.front().part;
  const bool in_vector = part.file == arch::RegisterFile::vector;
  if (!in_vector || writes(checked, part.file, part.index)) return;
  const bool is_argument = std::ranges::any_of(layout.arguments, [&](const abi::Passed& one) {
    return std::ranges::any_of(one.pieces, [&](const abi::Piece& piece) { return piece.part.file == part.file; });
  });
  if (is_argument) return;  // what was passed in it may be what comes back
  ConventionFinding finding;
  finding.kind = "result_in_wrong_register";
  finding.text = name + " returns " + code.types().name(described->result) +
                 " by the declaration that its callers have: that is in xmm0, and nothing sets it";
  if (writes(checked, arch::RegisterFile::general, code.machine.result))
    finding.evidence.push_back(code.name_of(code.machine.result) + " is set: integers and addresses come back there");
  code.add(checked, checked.function.address, std::move(finding));
}

}  // namespace deeptrace::study
