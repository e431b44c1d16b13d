// Where control comes to a source line.
//
// A line's code is many pieces where the compiler copied it (unrolled loops, inlined calls, templates), moved parts of
// it, or put other lines between. Control *enters* a line, in one instance of its scope (the function, or one inlined
// call), where it comes to the line from code that is not the line's in that instance. What an inlined call executes is
// code of the line that calls it as well. The rules, with the reasons in docs/architecture.md ("Where a line is
// entered"):
//
//  - Where the compiler marks statements apart from instructions (gcc with optimisation), its marks are the order of
//    the statements; a line is entered at a mark of it after a mark of another line.
//  - Elsewhere each instruction belongs to a line. A piece that always follows an earlier piece of the same line goes
//  on
//    with it and is no entry, unless it repeats what that piece did: then it is a copy (an unrolled loop).
//  - A piece that only leads into another entry of the same line (the jump to a loop's condition) is none itself.
#pragma once

#include <cstdint>
#include <map>
#include <span>
#include <vector>

#include "debuginfo/scopes.h"
#include "program/code_scan.h"
#include "program/program.h"

namespace deeptrace::program {

struct LineEntry {
  std::uint64_t address = 0;  ///< in the file
  debuginfo::SourceLine line;
  unsigned depth = 0;     ///< of the scope whose line it is: 0 the function itself, 1 a call that is inlined in it, …
  bool statement = true;  ///< false: the compiler recommends no stop at the line there
  friend bool operator==(const LineEntry&, const LineEntry&) = default;
};

/// Where control comes to a function that is inlined into another: there may be several such places, as the compiler
/// copies and moves code.
struct InlinedEntry {
  std::uint64_t address = 0;       ///< in the file
  unsigned depth = 0;              ///< 1: a call in the function itself
  std::uint64_t call = 0;          ///< the offset of its entry in the debug information of the unit
  debuginfo::SourceLine declared;  ///< where the function is declared; line 0: unknown
  friend bool operator==(const InlinedEntry&, const InlinedEntry&) = default;
};

/// Works entries out for a function at a time and keeps them. Not safe for use by two threads at once.
class LineEntries {
 public:
  /// All must outlive it.
  LineEntries(const Program& program, debuginfo::Scopes& scopes, CodeScan& scan)
      : program_(program), scopes_(scopes), scan_(scan) {}

  /// The entries of all lines in the code of the function that holds an address, its parts elsewhere included, by
  /// address and there in the order of the program. Empty where no lines are known. Holds until the object ends.
  std::span<const LineEntry> around(std::uint64_t address) { return function_around(address).lines; }

  /// Of the same code the entries of inlined calls, by address.
  std::span<const InlinedEntry> inlined_around(std::uint64_t address) { return function_around(address).inlined; }

  /// The entries of one line, by address, of each address the innermost; `files` are indices into LineTable::files().
  std::vector<LineEntry> of(std::span<const std::uint32_t> files, std::uint32_t line);

  /// The line that control enters at an address with a statement, of several the last and innermost that is at most
  /// `depth` inlined calls deep; null where none is.
  const LineEntry* at(std::uint64_t address, unsigned depth);

  struct OfFunction {
    std::vector<LineEntry> lines;
    std::vector<InlinedEntry> inlined;
  };

 private:
  const OfFunction& function_around(std::uint64_t address);

  const Program& program_;
  debuginfo::Scopes& scopes_;
  CodeScan& scan_;
  std::map<std::uint64_t, OfFunction> functions_;  ///< by the first address of their code
};

}  // namespace deeptrace::program
