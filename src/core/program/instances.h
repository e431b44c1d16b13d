// A function as its code lies in a file: out of line, as clones that the compiler made for some of its calls, and
// inlined into other functions.
#pragma once

#include <cstddef>
#include <functional>
#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "debuginfo/scopes.h"
#include "program/program.h"

namespace deeptrace::program {

/// The linker's name of the function that a symbol is a clone of; empty where it is none. Compilers add to it what they
/// did: `.constprop` (arguments became constants), `.isra` (some are passed otherwise), `.part` (a part of it),
/// `.lto_priv` and `.llvm` (made unique), each perhaps with a number. `.cold` is a part that is no entry of its own.
std::string_view origin_of_clone(std::string_view symbol);

/// How many there are of each kind.
struct InstanceCounts {
  std::size_t functions = 0, clones = 0, inlined = 0;
  bool searched = true;  ///< false: inlined copies were not looked for
  /// "1 function, 2 clones, 3 inlined copies"; empty where there are functions and nothing else.
  [[nodiscard]] std::string words() const;
};

struct Instances {
  std::string name;                        ///< that was asked for
  std::vector<const Function*> functions;  ///< out of line
  std::vector<const Function*> clones;
  std::vector<debuginfo::InlinedCopy> inlined;  ///< by the address of some instruction
  bool searched = true;                         ///< false: there is too much debug information to look for copies
  bool is_short = false;                        ///< the name was short for theirs
  std::string ambiguous;  ///< "could be each of tide::Log::read, tide::Gauge::read"; there are none then
  [[nodiscard]] bool empty() const { return functions.empty() && clones.empty() && inlined.empty(); }
  [[nodiscard]] InstanceCounts counts() const { return {functions.size(), clones.size(), inlined.size(), searched}; }
  [[nodiscard]] std::string words() const { return counts().words(); }
  /// Its functions and clones; where there are none, the code of its inlined copies.
  [[nodiscard]] std::vector<AddressRange> code() const;
};

/// All instances of the functions that a name stands for (see Program::functions_meant). Inlined copies are looked for
/// in up to `most` bytes of debug information; 64 MB take about a second. 0: they are not looked for.
inline constexpr std::size_t kMostToSearch = std::size_t(64) << 20;
Instances instances_of(const Program& program, std::string_view name, std::size_t most = kMostToSearch);

/// How many copies of each function lie inlined in a file, by linker's name (of C functions their name). Nothing where
/// there is more than 64 MB of debug information.
std::map<std::string, std::size_t, std::less<>> inlined_counts(const Program& program);

}  // namespace deeptrace::program
