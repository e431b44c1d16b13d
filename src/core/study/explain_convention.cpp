#include "study/explain_convention.h"

#include <algorithm>

#include "isa/register.h"

namespace deeptrace::study {
namespace {

std::vector<std::string> changed_by(const abi::Convention& one) {
  const arch::Machine& machine = arch::machine_of(one.mode);
  const std::vector<std::string_view> kept = abi::names_in(one.kept);
  std::vector<std::string> result;
  for (unsigned i = 0; i < machine.general_registers(); ++i) {
    const auto general = static_cast<isa::General>(i);
    const std::string name(
        isa::name_of({isa::RegisterFile::general, general, 0, static_cast<std::uint16_t>(machine.word * 8)}));
    if (general != machine.stack_pointer && std::ranges::find(kept, name) == kept.end()) result.push_back(name);
  }
  return result;
}

std::vector<ExplainedConvention::Slot> stack_of(const abi::Convention& one) {
  if (!one.stack) return {};
  const std::int64_t word = arch::machine_of(one.mode).word;
  const auto in_registers = static_cast<std::int64_t>(abi::names_in(one.integers).size());
  std::vector<ExplainedConvention::Slot> result;
  const std::int64_t first = one.home != 0 ? word + one.home : word;
  for (std::int64_t i = 1; i >= 0; --i)
    result.push_back({first + i * word, "argument " + std::to_string(in_registers + i + 1)});
  for (std::int64_t i = one.home / word; i-- > 0;)
    result.push_back({word + i * word, "room for argument " + std::to_string(i + 1) + ", which is in its register"});
  result.push_back({0, "return address"});
  if (one.red_zone != 0) result.push_back({-static_cast<std::int64_t>(one.red_zone), "the red zone begins here"});
  return result;
}

}  // namespace

std::optional<ExplainedConvention> explain_convention(std::string_view word) {
  const abi::Convention* found = abi::convention_named(word);
  if (found == nullptr) return std::nullopt;
  return ExplainedConvention{found, changed_by(*found), stack_of(*found)};
}

}  // namespace deeptrace::study
