// Variables that have a place in the file: globals, static members, variables of namespaces, and static ones of
// functions (DWARF 5, 4.1).
#pragma once

#include <string>
#include <vector>

#include "debuginfo/debug_info.h"
#include "debuginfo/types.h"

namespace deeptrace::debuginfo {

struct StaticVariable {
  std::string name;  ///< "tide_level", "tide::level", of a static one in a function "count::calls"
  std::string_view linkage_name;
  TypeId type = kVoid;
  std::uint64_t address = 0;  ///< of a thread's own variable: the offset in the block of such variables
  bool in_thread = false;     ///< each thread has its own
  const Unit* unit = nullptr;
  std::optional<std::uint64_t> file;  ///< of its declaration: the number in the unit's line table
  std::uint32_t line = 0;
};

/// The fixed address that an expression stands for; nothing when it depends on registers.
struct FixedPlace {
  std::uint64_t address = 0;
  bool in_thread = false;
};
std::optional<FixedPlace> fixed_place(const DebugInfo& info, const Unit& unit, Bytes expression);

/// A name that stands for a value without a place: an enumerator, a constant static member or variable that the
/// compiler gave none.
struct NamedConstant {
  std::string name;         ///< "tide::State::open"
  std::string enumeration;  ///< of an enumerator: "State", which C and unscoped enumerations leave out
  TypeId type = kVoid;
  std::vector<std::uint8_t> bytes;  ///< in memory order
};

/// Those whose name ends with the parts of `name` ("open", "State::open"), each once; of enumerators the enumeration's
/// name may be left out. All debug information is gone through.
std::vector<NamedConstant> constants_named(const DebugInfo& info, Types& types, std::string_view name);

/// True when `full` is `wanted`, or ends with it after "::".
bool ends_with_name(std::string_view full, std::string_view wanted);

/// All of them, in the order of the file. Those that were discarded at linking are left out.
std::vector<StaticVariable> static_variables(const DebugInfo& info, Types& types);

}  // namespace deeptrace::debuginfo
