#include "program/access_widths.h"

#include <algorithm>
#include <bit>
#include <map>

#include "program/program.h"
#include "program/references.h"

namespace deeptrace::program {

AccessWidths::AccessWidths(const Program& program) {
  constexpr std::uint64_t kMostCode = std::uint64_t(4) << 20;
  std::uint64_t code = 0;
  for (const binary::Section& section : program.elf().sections()) code += section.is_code() ? section.size : 0;
  if (code > kMostCode) return;
  References references(program);
  for (const Function& function : program.functions()) {
    if (function.origin == Function::Origin::plt) continue;
    references.each_straight(function, [&](std::uint64_t address, const isa::Instruction& instruction,
                                           std::span<const CodeReference> found) {
      // In object files the relocation says what is meant.
      if (const auto* relocation = program.elf().kind() == binary::Kind::relocatable
                                       ? program.relocation_in(address, instruction.length)
                                       : nullptr) {
        if (!relocation->defined) return;
        const std::int64_t distance = program.distance_in_addend(*relocation, address, instruction.length);
        const std::uint64_t target =
            relocation->symbol_value + static_cast<std::uint64_t>(relocation->addend + distance);
        for (const isa::Operand& operand : isa::operands_of(instruction)) {
          if (operand.kind == isa::Operand::Kind::memory && !operand.hidden)
            accesses_.push_back({target, operand.width / 8U, true});
        }
        return;
      }
      for (const CodeReference& reference : found) {
        const bool access = reference.kind == UseKind::read || reference.kind == UseKind::write ||
                            reference.kind == UseKind::read_write;
        if (access) accesses_.push_back({reference.target, static_cast<unsigned>(reference.size), reference.computed});
      }
    });
  }
  std::erase_if(accesses_, [](const Access& one) { return one.bytes > 8 || !std::has_single_bit(one.bytes); });
  std::ranges::sort(accesses_, {}, &Access::address);
}

unsigned AccessWidths::most_often(AddressRange range) const {
  std::map<unsigned, std::pair<std::size_t, std::size_t>> counts;  // all, and through registers
  auto at = std::ranges::lower_bound(accesses_, range.from, {}, &Access::address);
  for (; at != accesses_.end() && at->address < range.to; ++at) {
    if (range.size() % at->bytes != 0) continue;
    auto& [all, computed] = counts[at->bytes];
    ++all;
    computed += at->computed ? 1 : 0;
  }
  const auto best = std::ranges::max_element(counts, {}, [](const auto& one) { return one.second; });
  return best != counts.end() ? best->first : 0;
}

}  // namespace deeptrace::program
