// The control-flow graph of a function: blocks that run from first to last instruction, where control goes from each,
// and loops.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "program/code_scan.h"
#include "program/program.h"

namespace deeptrace::program {

struct FlowEdge {
  enum class Kind : std::uint8_t { next, taken, not_taken, table, region };
  std::size_t to = 0;  ///< index of a block
  Kind kind = Kind::next;
  bool back = false;  ///< leads back to the head of a loop
};

struct FlowBlock {
  std::uint64_t address = 0, end = 0;  ///< of the code; of several blocks in one the lowest and the highest
  std::size_t instructions = 0;
  std::size_t blocks = 1;            ///< that were put together
  std::vector<std::uint32_t> lines;  ///< of its source, ascending, each once
  std::vector<FlowEdge> edges;
  std::vector<std::string> calls;  ///< names, in order
  bool entry = false;
  bool leaves = false;      ///< control leaves the function: a return, a jump elsewhere, an end
  unsigned loop_depth = 0;  ///< how many loops it lies in
  std::int64_t loop = -1;   ///< head (index of a block) of the innermost; -1: none
};

struct FlowGraph {
  std::string function;
  std::vector<FlowBlock> blocks;  ///< by address; the first is the entry
  std::size_t loops = 0;
  std::size_t all_blocks = 0;  ///< before any were put together
  bool complete = true;        ///< false: an indirect jump's targets are unknown
};

FlowGraph flow_graph_of(const Program& program, CodeScan& scan, const Function& function);

/// The same flow with at most `most` blocks: what always runs one after the other becomes one, then what lies between a
/// branch and where its ways meet, then whole loops, the smallest first.
FlowGraph condensed(FlowGraph graph, std::size_t most);

}  // namespace deeptrace::program
