#include "look/code_ways.h"

#include <algorithm>
#include <compare>
#include <set>
#include <vector>

#include "isa/operand.h"
#include "isa/table.h"

namespace deeptrace::look {

std::optional<std::uint64_t> target_of_jump(const isa::Instruction& one, std::uint64_t address) {
  const isa::ControlFlow flow = isa::flow_of(one);
  std::uint64_t target = 0;
  const bool jumps = flow == isa::ControlFlow::jump || flow == isa::ControlFlow::conditional;
  return jumps && isa::direct_target(one, address, target) ? std::optional(target) : std::nullopt;
}

bool comes_back(const program::Program& program, std::uint64_t from, std::uint64_t to, std::uint64_t end) {
  while (from < end) {
    const isa::Instruction one = isa::decode(program.elf().bytes_at(from), program.mode());
    if (!one) return true;
    const auto target = target_of_jump(one, from);
    if (target ? *target <= to : isa::flow_of(one) == isa::ControlFlow::jump) return true;
    from += one.length;
  }
  return false;
}

AddressRange range_around(const debuginfo::DescribedFunction* function, std::uint64_t address) {
  if (function == nullptr) return {};
  const auto found =
      std::ranges::find_if(function->ranges, [&](const AddressRange& one) { return one.holds(address); });
  return found != function->ranges.end() ? *found : AddressRange{};
}

bool writes_any(const isa::Effects& effects, std::span<const arch::RegisterPart> registers) {
  const auto is_one = [&](const isa::RegisterEffect& effect) {
    return isa::writes(effect.access) && std::ranges::any_of(registers, [&](arch::RegisterPart part) {
             return part.file == effect.part.file && part.index == effect.part.index;
           });
  };
  return std::ranges::any_of(std::span(effects.registers).first(effects.register_count), is_one);
}

bool is_copied(const program::Program& program, AddressRange range, arch::RegisterPart from, arch::RegisterPart to) {
  constexpr std::uint64_t kFar = 4096;  // bytes
  bool copied = false;
  for (std::uint64_t at = range.from; at < range.to && at - range.from < kFar;) {
    const isa::Instruction one = isa::decode(program.elf().bytes_at(at), program.mode());
    if (!one) return false;
    at += one.length;
    const isa::Operands operands = isa::operands_of(one);
    if (operands.shown == 0 || !isa::is_register(operands[0], to)) continue;
    copied = isa::operation_of(one).meaning == isa::meaning::copy && operands.shown == 2 &&
             isa::is_register(operands[1], from);
  }
  return copied;
}

bool loop_leaves(const program::Program& program, const debuginfo::DescribedFunction* function, AddressRange loop,
                 arch::RegisterPart reg) {
  const AddressRange code = range_around(function, loop.from);
  for (std::uint64_t at = code.from; at < code.to;) {
    const isa::Instruction one = isa::decode(program.elf().bytes_at(at), program.mode());
    if (!one) return false;
    const bool inside = loop.from <= at && at <= loop.to;
    const auto target = target_of_jump(one, at);
    const bool comes_in = target && loop.from <= *target && *target <= loop.to &&
                          (at > loop.to || (at < loop.from && *target != loop.from));
    if (comes_in || (inside && writes_any(isa::effects_of(one), {&reg, 1}))) return false;
    at += one.length;
  }
  return true;
}

std::optional<std::uint64_t> only_writer(const program::Program& program, const debuginfo::DescribedFunction* function,
                                         arch::RegisterPart reg, std::uint64_t place) {
  constexpr std::size_t kMost = 1 << 15;
  const AddressRange code = range_around(function, place);
  struct Arrival {
    std::uint64_t at = 0, writer = 0;
    auto operator<=>(const Arrival&) const = default;
  };
  std::set<Arrival> seen;
  std::vector<Arrival> open{{code.from, 0}};
  std::optional<std::uint64_t> found;
  while (!open.empty()) {
    Arrival now = open.back();
    open.pop_back();
    if (!seen.insert(now).second) continue;
    if (!code.holds(now.at) || seen.size() > kMost) return std::nullopt;
    if (now.at == place && found.value_or(now.writer) != now.writer) return std::nullopt;
    if (now.at == place) found = now.writer;
    const isa::Instruction one = isa::decode(program.elf().bytes_at(now.at), program.mode());
    if (!one) return std::nullopt;
    if (writes_any(isa::effects_of(one), {&reg, 1})) now.writer = now.at;
    const isa::ControlFlow flow = isa::flow_of(one);
    const auto target = target_of_jump(one, now.at);
    if (!target && (flow == isa::ControlFlow::jump || flow == isa::ControlFlow::conditional)) return std::nullopt;
    const bool stays = target && range_around(function, *target).size() != 0;  // else it is a call in tail position
    if (stays) open.push_back({*target, now.writer});
    if (flow != isa::ControlFlow::jump && flow != isa::ControlFlow::return_ && flow != isa::ControlFlow::trap)
      open.push_back({now.at + one.length, now.writer});
  }
  return found.value_or(0) != 0 ? found : std::nullopt;
}

}  // namespace deeptrace::look
