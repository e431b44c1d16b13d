#include "study/convention_check.h"

#include "study/convention_code.h"

namespace deeptrace::study {
namespace {

using program::Function;

/// Functions of the developer's own that somebody calls.
bool is_checked(ConventionCode& code, const Function& function) {
  const bool known = function.origin == Function::Origin::symbol || function.origin == Function::Origin::recovered;
  if (!known || function.is_cold_part() || function.size == 0 || !code.program.is_own(function)) return false;
  if (program::register_of_thunk(code.program, function.address) >= 0) return false;
  // Without symbols, what a compiler put elsewhere looks like a function, and is jumped to.
  return function.origin != Function::Origin::recovered || !code.callers_of(function.address).empty();
}

}  // namespace

std::vector<ConventionFinding> check_conventions(const program::Program& program) {
  if (program.elf().kind() == binary::Kind::core) return {};
  ConventionCode code(program);
  for (const Function& function : program.functions()) {
    if (!is_checked(code, function)) continue;
    const AddressRange range = function.range();
    const program::FlowBlocks blocks(program, code.scan, {&range, 1});
    if (blocks.code().empty()) continue;
    const std::vector<program::FramePlace> places = program::frame_places(program, code.scan, function);
    const CheckedFunction checked{function, blocks, places, code.is_hand_written(function)};
    check_registers(code, checked);
    check_stack(code, checked);
    check_state(code, checked);
    check_types(code, checked);
  }
  return code.take();
}

}  // namespace deeptrace::study
