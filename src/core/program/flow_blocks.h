// The flow of control in a function's code, made for analyses over many functions: instructions, blocks, which block
// dominates which, and loops. A figure's graph with names and lines is program/flow_graph.h.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "program/code_scan.h"
#include "program/program.h"

namespace deeptrace::program {

class FlowBlocks {
 public:
  struct Code {
    std::uint64_t address = 0;
    isa::Instruction instruction;
  };
  struct Block {
    std::uint32_t first = 0, end = 0;     ///< indices into code(); `end` is past the last
    std::vector<std::uint32_t> to, from;  ///< indices of blocks
  };

  /// The code in `ranges`, by address, which may be the parts of one function and has to outlive the object. Where a
  /// call does not return is not known: control is taken to go on after it.
  FlowBlocks(const Program& program, CodeScan& scan, std::span<const AddressRange> ranges);

  /// By address.
  [[nodiscard]] std::span<const Code> code() const { return code_; }
  [[nodiscard]] std::span<const Block> blocks() const { return blocks_; }
  /// The block that instruction `number` lies in.
  [[nodiscard]] std::uint32_t block_of(std::uint32_t number) const { return block_of_[number]; }
  /// The first instruction at or after an address; code().size() where there is none.
  [[nodiscard]] std::uint32_t number_at(std::uint64_t address) const;
  /// True when control comes to the block from outside: at the function's start, or where no way to it is known, as to
  /// handlers of exceptions.
  [[nodiscard]] bool is_root(std::uint32_t block) const { return block == 0 || blocks_[block].from.empty(); }
  /// True when `b` follows whenever `a` has been executed, and only then: every way to `b` leads through `a`, every way
  /// from `a` through `b`, and no loop holds `b` alone. After a loop that holds `a`, it follows once.
  [[nodiscard]] bool follows_on(std::uint32_t a, std::uint32_t b) const;
  /// True when no loop holds `b` that does not hold `a`.
  [[nodiscard]] bool in_loops_of(std::uint32_t a, std::uint32_t b) const;
  /// True when control may come to a block by a way that leads through none of the others.
  [[nodiscard]] bool reached_without(std::span<const std::uint32_t> others, std::uint32_t block) const;
  /// True when every way to `b` leads through `a`, and no loop holds `b` alone.
  [[nodiscard]] bool only_after(std::uint32_t a, std::uint32_t b) const;
  /// True when every way to `b` leads through `a`.
  [[nodiscard]] bool dominates(std::uint32_t a, std::uint32_t b) const { return before_.above(a, b); }
  /// Blocks that lead on have a lower number than those they lead to, but for loops.
  [[nodiscard]] std::uint32_t order_of(std::uint32_t block) const { return place_[block]; }

 private:
  void decode();
  void leave_out_padding();
  void find_blocks();
  /// The instruction that a jump to an address comes to; code().size() where none of this code is there.
  [[nodiscard]] std::uint32_t number_reached(std::uint64_t address) const;
  [[nodiscard]] bool local_target(const Code& at, std::uint64_t& target) const;
  void connect();
  void find_loops();

  /// A tree over the blocks, as numbers on the way down and up.
  struct Tree {
    std::vector<std::uint32_t> down, up;
    std::vector<std::uint32_t> order;  ///< blocks as they were reached, those that lead on before those they lead to
    [[nodiscard]] bool above(std::uint32_t a, std::uint32_t b) const { return down[a] <= down[b] && up[b] <= up[a]; }
  };
  /// Dominators along `to` (forwards) or `from`: repeated over the blocks in order until nothing changes.
  [[nodiscard]] Tree dominators(bool forwards) const;

  const Program& program_;
  CodeScan& scan_;
  std::span<const AddressRange> ranges_;
  std::vector<Code> code_;
  std::vector<Block> blocks_;
  std::vector<std::uint32_t> block_of_;
  std::vector<JumpTable> tables_;
  Tree before_, after_;
  std::vector<std::uint32_t> place_;  ///< of each block in before_.order
  std::vector<std::uint32_t> outer_;  ///< of each head of a loop: that of the loop around it; ~0: none
  std::vector<std::uint32_t> loop_;   ///< the head of the innermost loop of each block; ~0: none
};

}  // namespace deeptrace::program
