// Whether control can have come past the declaration of a local variable: before that the variable's memory holds what
// was there before.
//
// For code that the compiler did not optimise, where each line's instructions stand in the source's order and a
// variable has one place for its whole life.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <span>
#include <utility>

#include "debuginfo/scopes.h"
#include "program/code_scan.h"
#include "program/flow_blocks.h"
#include "program/program.h"

namespace deeptrace::program {

/// Keeps the flow of the functions it was asked about. Not safe for use by two threads at once.
class Declarations {
 public:
  /// All must outlive it.
  Declarations(const Program& program, debuginfo::Scopes& scopes, CodeScan& scan)
      : program_(program), scopes_(scopes), scan_(scan) {}

  /// True when no way leads from the code of `line` to the instruction at `address` without leaving `life`, the ranges
  /// of the block that the variable is declared in. False where that is not known: the line has no code there, the
  /// function is optimised.
  bool is_ahead(const debuginfo::SourceLine& line, std::span<const AddressRange> life, std::uint64_t address);

 private:
  const FlowBlocks* flow_around(std::uint64_t address);

  const Program& program_;
  debuginfo::Scopes& scopes_;
  CodeScan& scan_;
  std::map<std::pair<const debuginfo::Unit*, std::uint64_t>, std::unique_ptr<FlowBlocks>> flows_;  ///< by entry
};

}  // namespace deeptrace::program
