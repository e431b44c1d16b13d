#include "program/flow_blocks.h"

#include <algorithm>

#include "isa/operand.h"

namespace deeptrace::program {
namespace {

using isa::ControlFlow;

constexpr std::uint32_t kNone = ~std::uint32_t(0);

}  // namespace

FlowBlocks::FlowBlocks(const Program& program, CodeScan& scan, std::span<const AddressRange> ranges)
    : program_(program), scan_(scan), ranges_(ranges) {
  decode();
  find_blocks();
  connect();
  before_ = dominators(true);
  place_.resize(blocks_.size());
  for (std::uint32_t i = 0; i < blocks_.size(); ++i) place_[before_.order[i]] = i;
  after_ = dominators(false);
  find_loops();
}

void FlowBlocks::decode() {
  for (const AddressRange& range : ranges_) {
    for_each_instruction(program_, scan_.split(range), [this](std::uint64_t address, const isa::Instruction& one) {
      code_.push_back({address, one});
    });
  }
  std::ranges::sort(code_, {}, &Code::address);
  leave_out_padding();
  for (const AddressRange& range : ranges_) {
    const Function* function = program_.function_at(range.from);
    if (function == nullptr) continue;
    const auto tables = scan_.tables_of(*function);
    tables_.insert(tables_.end(), tables.begin(), tables.end());
  }
  std::ranges::sort(tables_, {}, &JumpTable::jump);
}

/// What fills a gap after an end of the flow is not executed, unless somebody jumps there.
void FlowBlocks::leave_out_padding() {
  bool after_end = false;
  std::erase_if(code_, [&](const Code& at) {
    if (after_end && isa::does_nothing(at.instruction)) return true;
    const ControlFlow flow = isa::flow_of(at.instruction);
    after_end = flow == ControlFlow::jump || flow == ControlFlow::return_ || flow == ControlFlow::trap;
    return false;
  });
}

std::uint32_t FlowBlocks::number_at(std::uint64_t address) const {
  return static_cast<std::uint32_t>(std::ranges::lower_bound(code_, address, {}, &Code::address) - code_.begin());
}

std::uint32_t FlowBlocks::number_reached(std::uint64_t address) const {
  const auto none = static_cast<std::uint32_t>(code_.size());
  const auto range = std::ranges::find_if(ranges_, [address](const AddressRange& one) { return one.holds(address); });
  if (range == ranges_.end()) return none;
  const std::uint32_t number = number_at(address);  // padding that was left out leads to what follows
  return number < none && range->holds(code_[number].address) ? number : none;
}

/// In an object file a jump with a relocation leaves.
bool FlowBlocks::local_target(const Code& at, std::uint64_t& target) const {
  return isa::direct_target(at.instruction, at.address, target) &&
         !(program_.elf().kind() == binary::Kind::relocatable &&
           program_.relocation_in(at.address, at.instruction.length) != nullptr);
}

void FlowBlocks::find_blocks() {
  std::vector<bool> leads(code_.size() + 1, false);
  const auto lead = [&](std::uint64_t address) { leads[number_reached(address)] = true; };
  for (const AddressRange& range : ranges_) lead(range.from);
  for (const JumpTable& table : tables_) {
    for (const std::uint64_t target : targets_of(program_, table)) lead(target);
  }
  for (std::size_t i = 0; i < code_.size(); ++i) {
    const ControlFlow flow = isa::flow_of(code_[i].instruction);
    if (flow == ControlFlow::next || flow == ControlFlow::call || flow == ControlFlow::system) continue;
    std::uint64_t target = 0;
    if (local_target(code_[i], target)) lead(target);
    leads[i + 1] = true;
  }
  block_of_.resize(code_.size());
  for (std::uint32_t i = 0; i < code_.size(); ++i) {
    const bool gap = i > 0 && code_[i - 1].address + code_[i - 1].instruction.length != code_[i].address;
    if (i == 0 || leads[i] || gap) blocks_.push_back({i, i, {}, {}});
    blocks_.back().end = i + 1;
    block_of_[i] = static_cast<std::uint32_t>(blocks_.size() - 1);
  }
}

void FlowBlocks::connect() {
  for (std::uint32_t b = 0; b < blocks_.size(); ++b) {
    const Code& last = code_[blocks_[b].end - 1];
    const auto add = [&](std::uint64_t address) {
      const std::uint32_t number = number_reached(address);
      if (number == code_.size()) return;
      const std::uint32_t to = block_of_[number];
      if (blocks_[to].first != number || std::ranges::find(blocks_[b].to, to) != blocks_[b].to.end()) return;
      blocks_[b].to.push_back(to);
      blocks_[to].from.push_back(b);
    };
    const std::uint64_t next = last.address + last.instruction.length;
    std::uint64_t target = 0;
    switch (isa::flow_of(last.instruction)) {
      case ControlFlow::conditional:
        if (local_target(last, target)) add(target);
        add(next);
        break;
      case ControlFlow::jump: {
        auto table = std::ranges::lower_bound(tables_, last.address, {}, &JumpTable::jump);
        const bool known = table != tables_.end() && table->jump == last.address;
        for (; table != tables_.end() && table->jump == last.address; ++table) {
          for (const std::uint64_t one : targets_of(program_, *table)) add(one);
        }
        if (!known && local_target(last, target)) add(target);
        break;
      }
      case ControlFlow::return_:
      case ControlFlow::trap: break;
      default: add(next);
    }
  }
}

FlowBlocks::Tree FlowBlocks::dominators(bool forwards) const {
  const auto count = static_cast<std::uint32_t>(blocks_.size());
  const auto targets = [&](std::uint32_t b) -> const std::vector<std::uint32_t>& {
    return forwards ? blocks_[b].to : blocks_[b].from;
  };
  const auto sources = [&](std::uint32_t b) -> const std::vector<std::uint32_t>& {
    return forwards ? blocks_[b].from : blocks_[b].to;
  };
  // A walk in depth from all roots; where none is left (a loop without an end, seen backwards), from any block.
  std::vector<std::uint32_t> finished;
  std::vector<std::uint8_t> seen(count, 0);
  std::vector<bool> roots(count, false);
  std::vector<std::pair<std::uint32_t, std::size_t>> open;
  const auto walk = [&](std::uint32_t root) {
    if (seen[root] != 0) return;
    roots[root] = true;
    seen[root] = 1;
    open.emplace_back(root, 0);
    while (!open.empty()) {
      auto& [block, edge] = open.back();
      if (edge == targets(block).size()) {
        finished.push_back(block);
        open.pop_back();
        continue;
      }
      const std::uint32_t to = targets(block)[edge++];
      if (seen[to] != 0) continue;
      seen[to] = 1;
      open.emplace_back(to, 0);
    }
  };
  for (std::uint32_t b = 0; b < count; ++b) {
    if (forwards ? is_root(b) : blocks_[b].to.empty()) {
      roots[b] = true;
      walk(b);
    }
  }
  for (std::uint32_t b = 0; b < count; ++b) walk(b);
  Tree tree;
  tree.order.assign(finished.rbegin(), finished.rend());
  std::vector<std::uint32_t> place(count + 1);  // `count` stands for what is above all roots
  for (std::uint32_t i = 0; i < count; ++i) place[tree.order[i]] = i + 1;
  place[count] = 0;
  std::vector<std::uint32_t> parent(count, kNone);
  for (bool changed = true; changed;) {
    changed = false;
    for (const std::uint32_t block : tree.order) {
      std::uint32_t found = roots[block] ? count : kNone;
      for (std::uint32_t other : sources(block)) {
        if (parent[other] == kNone) continue;
        if (found == kNone) {
          found = other;
          continue;
        }
        while (found != other) {
          while (place[other] > place[found]) other = parent[other];
          while (place[found] > place[other]) found = parent[found];
        }
      }
      if (found == parent[block]) continue;
      parent[block] = found;
      changed = true;
    }
  }
  // Numbers on the way down and up: parents come first in `order`.
  std::vector<std::uint32_t> below(count + 1, 1), next(count + 1, 0);
  for (std::uint32_t i = count; i-- > 0;) below[parent[tree.order[i]]] += below[tree.order[i]];
  tree.down.resize(count);
  tree.up.resize(count);
  next[count] = 1;
  for (const std::uint32_t block : tree.order) {
    tree.down[block] = next[parent[block]];
    next[parent[block]] += below[block];
    next[block] = tree.down[block] + 1;
    tree.up[block] = tree.down[block] + below[block];
  }
  return tree;
}

void FlowBlocks::find_loops() {
  loop_.assign(blocks_.size(), kNone);
  outer_.assign(blocks_.size(), kNone);
  std::vector<std::uint32_t> open;
  // Inner heads come later in the order: they claim their blocks first.
  for (std::size_t i = before_.order.size(); i-- > 0;) {
    const std::uint32_t head = before_.order[i];
    for (const std::uint32_t from : blocks_[head].from) {
      if (before_.above(head, from)) open.push_back(from);
    }
    if (open.empty()) continue;
    std::vector<bool> seen(blocks_.size(), false);
    seen[head] = true;
    if (loop_[head] == kNone) loop_[head] = head;
    while (!open.empty()) {
      const std::uint32_t block = open.back();
      open.pop_back();
      if (seen[block]) continue;
      seen[block] = true;
      if (loop_[block] == kNone) loop_[block] = head;
      if (loop_[block] == block && outer_[block] == kNone) outer_[block] = head;
      for (const std::uint32_t from : blocks_[block].from) open.push_back(from);
    }
  }
}

bool FlowBlocks::follows_on(std::uint32_t a, std::uint32_t b) const {
  return a == b || (after_.above(b, a) && only_after(a, b));
}

bool FlowBlocks::only_after(std::uint32_t a, std::uint32_t b) const { return before_.above(a, b) && in_loops_of(a, b); }

bool FlowBlocks::in_loops_of(std::uint32_t a, std::uint32_t b) const {
  for (std::uint32_t loop = loop_[a]; loop != loop_[b]; loop = outer_[loop]) {
    if (loop == kNone) return false;
  }
  return true;
}

bool FlowBlocks::reached_without(std::span<const std::uint32_t> others, std::uint32_t block) const {
  std::vector<bool> seen(blocks_.size());
  for (const std::uint32_t other : others) seen[other] = true;
  std::vector<std::uint32_t> open = {block};  // backwards, to a root
  seen[block] = true;
  while (!open.empty()) {
    const std::uint32_t here = open.back();
    open.pop_back();
    if (is_root(here)) return true;
    for (const std::uint32_t from : blocks_[here].from) {
      if (!seen[from]) open.push_back(from);
      seen[from] = true;
    }
  }
  return false;
}

}  // namespace deeptrace::program
