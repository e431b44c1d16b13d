#include "session/signal_return.h"

#include "abi/system_calls.h"
#include "base/byte_reader.h"
#include "isa/operand.h"

namespace deeptrace::session {

unsigned signal_return_length(const state::StateView& view, std::uint64_t address) {
  constexpr unsigned kMost = 3;
  std::uint8_t bytes[kMost * isa::kLongestInstruction] = {};
  Bytes code(bytes, view.read_memory(address, bytes));
  bool numbered = false;
  for (unsigned i = 1; i <= kMost; ++i) {
    const isa::Instruction instruction = isa::decode(code, view.mode());
    if (!instruction) return 0;
    code = code.subspan(instruction.length);
    if (isa::flow_of(instruction) == isa::ControlFlow::system) return numbered ? i : 0;
    const isa::Operands operands = isa::operands_of(instruction);
    const isa::RegisterPart to = operands[0].reg;
    if (to.file != isa::RegisterFile::general || to.index != isa::kRax) return 0;
    const auto* call =
        operands.count == 2 && operands[1].kind == isa::Operand::Kind::immediate
            ? abi::system_call(static_cast<std::uint64_t>(operands[1].value), abi::call_table(view.mode()))
            : nullptr;
    numbered = call != nullptr && (call->name == "rt_sigreturn" || call->name == "sigreturn");
  }
  return 0;
}

}  // namespace deeptrace::session
