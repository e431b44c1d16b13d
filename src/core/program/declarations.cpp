#include "program/declarations.h"

#include <algorithm>

namespace deeptrace::program {

const FlowBlocks* Declarations::flow_around(std::uint64_t address) {
  const debuginfo::DescribedFunction* function = scopes_.function_at(address);
  if (function == nullptr || function->optimised) return nullptr;
  const auto [place, added] = flows_.try_emplace({function->unit, function->entry});
  if (added) place->second = std::make_unique<FlowBlocks>(program_, scan_, function->ranges);
  return place->second.get();
}

bool Declarations::is_ahead(const debuginfo::SourceLine& line, std::span<const AddressRange> life,
                            std::uint64_t address) {
  const FlowBlocks* flow = flow_around(address);
  if (flow == nullptr) return false;
  const auto code = flow->code();
  const std::uint32_t after = flow->number_at(address + 1);
  if (after == 0) return false;
  const std::uint32_t here = after - 1;
  const auto lives = [&](std::uint32_t i) {
    return std::ranges::any_of(life, [&](const AddressRange& one) { return one.holds(code[i].address); });
  };
  std::vector<bool> reached(code.size(), false);
  std::vector<std::uint32_t> open;
  const auto reach_next = [&](std::uint32_t i) {
    const auto reach = [&](std::uint32_t next) {
      if (reached[next] || !lives(next)) return;
      reached[next] = true;
      open.push_back(next);
    };
    const FlowBlocks::Block& block = flow->blocks()[flow->block_of(i)];
    if (i + 1 < block.end) return reach(i + 1);
    for (const std::uint32_t to : block.to) reach(flow->blocks()[to].first);
  };
  bool has_code = false;
  for (std::uint32_t i = 0; i < code.size(); ++i) {
    if (!lives(i) || program_.lines().at(code[i].address) != line) continue;
    has_code = true;
    reach_next(i);
  }
  while (!open.empty()) {
    const std::uint32_t i = open.back();
    open.pop_back();
    reach_next(i);
  }
  return has_code && !reached[here];
}

}  // namespace deeptrace::program
