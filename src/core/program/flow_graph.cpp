#include "program/flow_graph.h"

#include <algorithm>
#include <map>
#include <set>

#include "isa/operand.h"

namespace deeptrace::program {
namespace {

using isa::ControlFlow;

class Builder {
 public:
  Builder(const Program& program, CodeScan& scan, const Function& function)
      : program_(program), scan_(scan), function_(function) {}

  FlowGraph run() {
    graph_.function = function_.name;
    decode();
    find_leaders();
    make_blocks();
    connect();
    find_loops(graph_);
    graph_.all_blocks = graph_.blocks.size();
    return std::move(graph_);
  }

  /// Marks edges that lead back, and for each block the loops that it lies in: natural loops of back edges in a
  /// depth-first walk, those with one head together.
  static void find_loops(FlowGraph& graph) {
    const std::size_t count = graph.blocks.size();
    for (FlowBlock& block : graph.blocks) {
      block.loop = -1;
      block.loop_depth = 0;
      for (FlowEdge& edge : block.edges) edge.back = false;
    }
    mark_back_edges(graph);
    std::vector<std::vector<std::size_t>> before(count);
    for (std::size_t i = 0; i < count; ++i) {
      for (const FlowEdge& edge : graph.blocks[i].edges) before[edge.to].push_back(i);
    }
    std::map<std::size_t, std::set<std::size_t>> bodies;
    for (std::size_t i = 0; i < count; ++i) {
      for (const FlowEdge& edge : graph.blocks[i].edges) {
        if (!edge.back) continue;
        std::set<std::size_t>& body = bodies[edge.to];
        body.insert(edge.to);
        std::vector<std::size_t> open = {i};
        while (!open.empty()) {
          const std::size_t at = open.back();
          open.pop_back();
          if (!body.insert(at).second) continue;
          open.insert(open.end(), before[at].begin(), before[at].end());
        }
      }
    }
    graph.loops = bodies.size();
    std::vector<std::size_t> size(count, ~std::size_t(0));
    for (const auto& [head, body] : bodies) {
      for (const std::size_t block : body) {
        ++graph.blocks[block].loop_depth;
        if (body.size() >= size[block]) continue;
        size[block] = body.size();
        graph.blocks[block].loop = static_cast<std::int64_t>(head);
      }
    }
  }

 private:
  struct Decoded {
    std::uint64_t address = 0;
    isa::Instruction instruction;
  };

  static void mark_back_edges(FlowGraph& graph) {
    enum State : std::uint8_t { kNew, kOpen, kDone };
    std::vector<State> states(graph.blocks.size(), kNew);
    struct Frame {
      std::size_t block, edge;
    };
    for (std::size_t root = 0; root < graph.blocks.size(); ++root) {
      if (states[root] != kNew) continue;
      std::vector<Frame> stack = {{root, 0}};
      states[root] = kOpen;
      while (!stack.empty()) {
        Frame& frame = stack.back();
        if (frame.edge == graph.blocks[frame.block].edges.size()) {
          states[frame.block] = kDone;
          stack.pop_back();
          continue;
        }
        FlowEdge& edge = graph.blocks[frame.block].edges[frame.edge++];
        if (states[edge.to] == kOpen) edge.back = true;
        if (states[edge.to] != kNew) continue;
        states[edge.to] = kOpen;
        stack.push_back({edge.to, 0});
      }
    }
  }

  void decode() {
    for_each_instruction(program_, scan_.split(function_.range()),
                         [this](std::uint64_t address, const isa::Instruction& instruction) {
                           code_.push_back({address, instruction});
                         });
  }

  [[nodiscard]] bool inside(std::uint64_t address) const { return function_.range().holds(address); }

  /// In an object file a jump with a relocation leaves.
  [[nodiscard]] bool local_target(const Decoded& at, std::uint64_t& target) const {
    if (!isa::direct_target(at.instruction, at.address, target)) return false;
    if (program_.elf().kind() == binary::Kind::relocatable &&
        program_.relocation_in(at.address, at.instruction.length) != nullptr)
      return false;
    return inside(target);
  }

  void find_leaders() {
    leaders_.insert(function_.address);
    for (const JumpTable& table : scan_.tables_of(function_)) {
      std::vector<std::uint64_t>& targets = tables_[table.jump];
      for (std::uint64_t i = 0; i < table.entries; ++i) {
        const auto target = target_of(program_, table, i);
        if (target && inside(*target)) targets.push_back(*target);
      }
      std::ranges::sort(targets);
      targets.erase(std::unique(targets.begin(), targets.end()), targets.end());
      leaders_.insert(targets.begin(), targets.end());
    }
    for (const Decoded& at : code_) {
      const ControlFlow flow = isa::flow_of(at.instruction);
      if (flow == ControlFlow::next || flow == ControlFlow::call || flow == ControlFlow::system) continue;
      std::uint64_t target = 0;
      if (local_target(at, target)) leaders_.insert(target);
      leaders_.insert(at.address + at.instruction.length);
    }
  }

  void make_blocks() {
    std::set<std::uint32_t> lines;
    const auto close = [&] {
      if (!graph_.blocks.empty()) graph_.blocks.back().lines.assign(lines.begin(), lines.end());
      lines.clear();
    };
    for (const Decoded& at : code_) {
      if (leaders_.contains(at.address) || graph_.blocks.empty()) {
        close();
        FlowBlock block;
        block.address = at.address;
        block.entry = graph_.blocks.empty();
        graph_.blocks.push_back(block);
      }
      FlowBlock& block = graph_.blocks.back();
      block.end = at.address + at.instruction.length;
      // Padding after an end is no block worth showing.
      if (!isa::does_nothing(at.instruction)) ++block.instructions;
      if (const auto line = program_.lines().at(at.address)) lines.insert(line->line);
      if (isa::flow_of(at.instruction) == ControlFlow::call) add_call(block, at);
    }
    close();
    std::erase_if(graph_.blocks, [](const FlowBlock& block) { return block.instructions == 0 && !block.entry; });
  }

  void add_call(FlowBlock& block, const Decoded& at) const {
    std::uint64_t target = 0;
    std::string name;
    if (const auto relocated = program_.relocated_reference(at.address, at.instruction.length)) {
      name = relocated->name;
    } else if (isa::direct_target(at.instruction, at.address, target) ||
               isa::fixed_memory_address(at.instruction, at.address, target)) {
      name = program_.reference(target).name;
    }
    if (!name.empty()) block.calls.push_back(std::move(name));
  }

  [[nodiscard]] std::optional<std::size_t> block_at(std::uint64_t address) const {
    const auto found = std::ranges::lower_bound(graph_.blocks, address, {}, &FlowBlock::address);
    if (found == graph_.blocks.end()) return std::nullopt;
    // Padding in front of a block belongs to it.
    if (found->address != address && !program_.only_padding({address, found->address})) return std::nullopt;
    return static_cast<std::size_t>(found - graph_.blocks.begin());
  }

  void connect() {
    std::size_t number = 0;
    for (std::size_t i = 0; i < graph_.blocks.size(); ++i) {
      FlowBlock& block = graph_.blocks[i];
      while (number < code_.size() && code_[number].address + code_[number].instruction.length < block.end) ++number;
      if (number == code_.size()) break;
      const Decoded& last = code_[number];
      const auto add = [&](std::uint64_t address, FlowEdge::Kind kind) {
        if (const auto to = block_at(address)) {
          block.edges.push_back({*to, kind, false});
        } else {
          block.leaves = true;
        }
      };
      const std::uint64_t next = last.address + last.instruction.length;
      std::uint64_t target = 0;
      switch (isa::flow_of(last.instruction)) {
        case ControlFlow::conditional:
          local_target(last, target) ? add(target, FlowEdge::Kind::taken) : void(block.leaves = true);
          add(next, FlowEdge::Kind::not_taken);
          break;
        case ControlFlow::jump: {
          const auto table = tables_.find(last.address);
          if (table != tables_.end()) {
            for (const std::uint64_t to : table->second) add(to, FlowEdge::Kind::table);
          } else if (local_target(last, target)) {
            add(target, FlowEdge::Kind::taken);
          } else {
            block.leaves = true;
            std::uint64_t unused = 0;
            if (!isa::direct_target(last.instruction, last.address, unused))
              graph_.complete = graph_.complete && scan_.unresolved_jump() == 0;
          }
          break;
        }
        case ControlFlow::return_:
        case ControlFlow::trap: block.leaves = true; break;
        default: inside(next) && block_at(next) ? add(next, FlowEdge::Kind::next) : void(block.leaves = true);
      }
    }
  }

  const Program& program_;
  CodeScan& scan_;
  const Function& function_;
  FlowGraph graph_;
  std::vector<Decoded> code_;
  std::set<std::uint64_t> leaders_;
  std::map<std::uint64_t, std::vector<std::uint64_t>> tables_;  ///< targets of jumps through tables, by the jump
};

/// Puts blocks together until few enough are left. Blocks that are gone have no instructions.
class Condenser {
 public:
  Condenser(FlowGraph graph, std::size_t most) : graph_(std::move(graph)), most_(most), left_(graph_.blocks.size()) {}

  FlowGraph run() {
    while (left_ > most_) {
      if (!join_chains() && !join_branches() && !join_smallest_loop() && !join_anything()) break;
    }
    return renumbered();
  }

 private:
  [[nodiscard]] bool gone(std::size_t i) const { return graph_.blocks[i].instructions == 0 && !graph_.blocks[i].entry; }

  [[nodiscard]] std::vector<std::set<std::size_t>> predecessors() const {
    std::vector<std::set<std::size_t>> result(graph_.blocks.size());
    for (std::size_t i = 0; i < graph_.blocks.size(); ++i) {
      if (gone(i)) continue;
      for (const FlowEdge& edge : graph_.blocks[i].edges) result[edge.to].insert(i);
    }
    return result;
  }

  [[nodiscard]] std::set<std::size_t> successors(std::size_t i) const {
    std::set<std::size_t> result;
    for (const FlowEdge& edge : graph_.blocks[i].edges) result.insert(edge.to);
    return result;
  }

  /// Makes `other` a part of `into`.
  void merge(std::size_t into, std::size_t other) {
    FlowBlock& a = graph_.blocks[into];
    FlowBlock& b = graph_.blocks[other];
    a.address = std::min(a.address, b.address);
    a.end = std::max(a.end, b.end);
    a.instructions += b.instructions;
    a.blocks += b.blocks;
    a.leaves |= b.leaves;
    a.entry |= b.entry;
    a.calls.insert(a.calls.end(), b.calls.begin(), b.calls.end());
    std::vector<std::uint32_t> lines;
    std::ranges::set_union(a.lines, b.lines, std::back_inserter(lines));
    a.lines = std::move(lines);
    std::vector<FlowEdge> edges;
    const auto keep = [&](FlowEdge edge) {
      if (edge.to == other) edge.to = into;
      if (edge.to == into) return;  // what goes on inside is not shown
      edge.kind = FlowEdge::Kind::region;
      const bool known = std::ranges::any_of(edges, [&](const FlowEdge& e) { return e.to == edge.to; });
      if (!known) edges.push_back(edge);
    };
    for (const FlowEdge& edge : a.edges) keep(edge);
    for (const FlowEdge& edge : b.edges) keep(edge);
    a.edges = std::move(edges);
    b = FlowBlock{};
    for (FlowBlock& block : graph_.blocks) {
      bool to_other = false, to_into = false;
      for (const FlowEdge& edge : block.edges) {
        to_other |= edge.to == other;
        to_into |= edge.to == into;
      }
      if (!to_other) continue;
      if (to_into) std::erase_if(block.edges, [other](const FlowEdge& edge) { return edge.to == other; });
      for (FlowEdge& edge : block.edges) {
        if (edge.to == other) edge.to = into;
      }
    }
    --left_;
  }

  bool join_chains() {
    bool any = false;
    auto before = predecessors();
    for (std::size_t i = 0; i < graph_.blocks.size() && left_ > most_; ++i) {
      while (!gone(i) && left_ > most_) {
        const std::set<std::size_t> next = successors(i);
        if (next.size() != 1 || graph_.blocks[i].leaves) break;
        const std::size_t to = *next.begin();
        if (to == i || before[to].size() != 1 || graph_.blocks[to].entry) break;
        for (const std::size_t after : successors(to)) {
          before[after].erase(to);
          before[after].insert(i);
        }
        merge(i, to);
        any = true;
      }
    }
    return any;
  }

  /// A way that leaves a branch and meets the other again, or ends.
  bool join_branches() {
    auto before = predecessors();
    for (std::size_t i = 0; i < graph_.blocks.size(); ++i) {
      if (gone(i)) continue;
      const std::set<std::size_t> ways = successors(i);
      if (ways.size() < 2) continue;
      for (const std::size_t way : ways) {
        if (way == i || before[way].size() != 1 || graph_.blocks[way].entry) continue;
        const std::set<std::size_t> next = successors(way);
        const bool meets =
            next.empty() || (next.size() == 1 && (ways.contains(*next.begin()) || before[*next.begin()].size() > 1));
        if (!meets || next.contains(way)) continue;
        merge(i, way);
        return true;
      }
    }
    return false;
  }

  bool join_smallest_loop() {
    Builder::find_loops(graph_);
    std::map<std::int64_t, std::vector<std::size_t>> members;
    for (std::size_t i = 0; i < graph_.blocks.size(); ++i) {
      if (!gone(i) && graph_.blocks[i].loop >= 0 && static_cast<std::size_t>(graph_.blocks[i].loop) != i)
        members[graph_.blocks[i].loop].push_back(i);
    }
    const auto smallest = std::ranges::min_element(members, {}, [](const auto& item) { return item.second.size(); });
    // A loop that holds half of the function would leave nothing to see.
    if (smallest == members.end() || smallest->second.size() > left_ - most_ + 4) return false;
    for (const std::size_t block : smallest->second) merge(static_cast<std::size_t>(smallest->first), block);
    return true;
  }

  /// The smallest block goes to one that leads to it.
  bool join_anything() {
    const auto before = predecessors();
    std::size_t best = graph_.blocks.size();
    for (std::size_t i = 0; i < graph_.blocks.size(); ++i) {
      if (gone(i) || graph_.blocks[i].entry) continue;
      if (best == graph_.blocks.size() || graph_.blocks[i].instructions < graph_.blocks[best].instructions) best = i;
    }
    if (best == graph_.blocks.size()) return false;
    std::size_t into = 0;
    for (const std::size_t candidate : before[best]) {
      if (candidate != best) into = candidate;
    }
    merge(into, best);
    return true;
  }

  FlowGraph renumbered() {
    std::vector<std::size_t> numbers(graph_.blocks.size(), 0);
    std::vector<FlowBlock> blocks;
    for (std::size_t i = 0; i < graph_.blocks.size(); ++i) {
      if (gone(i)) continue;
      numbers[i] = blocks.size();
      blocks.push_back(std::move(graph_.blocks[i]));
    }
    for (FlowBlock& block : blocks) {
      for (FlowEdge& edge : block.edges) edge.to = numbers[edge.to];
    }
    graph_.blocks = std::move(blocks);
    const std::size_t loops = graph_.loops;
    Builder::find_loops(graph_);
    graph_.loops = std::max(loops, graph_.loops);
    return std::move(graph_);
  }

  FlowGraph graph_;
  std::size_t most_, left_;
};

}  // namespace

FlowGraph flow_graph_of(const Program& program, CodeScan& scan, const Function& function) {
  return Builder(program, scan, function).run();
}

FlowGraph condensed(FlowGraph graph, std::size_t most) { return Condenser(std::move(graph), most).run(); }

}  // namespace deeptrace::program
