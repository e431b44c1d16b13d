// Functions as debug information describes them, and the calls in them that the compiler replaced by the called
// function's own instructions (DWARF 5, 3.3).
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <string>
#include <unordered_map>
#include <vector>

#include "debuginfo/debug_info.h"
#include "debuginfo/types.h"

namespace deeptrace::debuginfo {

/// Where something is declared.
struct Declaration {
  const Unit* unit = nullptr;  ///< null when unknown
  std::uint64_t file = 0;      ///< number in that unit's line table
  std::uint32_t line = 0;
};

/// A function's instructions in the midst of another's.
struct InlinedCall {
  std::string name;  ///< of the function that was called; with its namespaces
  std::vector<AddressRange> ranges;
  unsigned depth = 1;                      ///< 1: called by the function itself; 2: by one that is inlined there
  std::optional<std::uint64_t> call_file;  ///< where the call stands: number in the unit's line table
  std::uint32_t call_line = 0;             ///< 0 when unknown
  Declaration declared;                    ///< of the function that was called
  std::uint64_t entry = 0;                 ///< offset of its entry in the unit's section
};

struct DescribedFunction {
  const Unit* unit = nullptr;
  std::uint64_t entry = 0;  ///< offset of its entry in the unit's section
  std::vector<AddressRange> ranges;
  std::vector<InlinedCall> inlined;  ///< outer ones before those in them
  Declaration declared;
  bool optimised = false;  ///< by the compiler, as far as debug information tells
};

/// Looks functions up by address. A unit is looked over when its first address is asked for, a function is read when it
/// is the one that was asked for.
class Scopes {
 public:
  explicit Scopes(const DebugInfo& info) : info_(info), types_(info) {}

  /// The function whose code holds an address, or null. Holds until the object ends.
  const DescribedFunction* function_at(std::uint64_t address);
  /// A declaration of a function by its linker's name, as those who call it have it; nothing where none says more than
  /// its name, and where there is too much debug information to look for one (64 MB).
  EntryPlace prototype_of(std::string_view name);
  /// The inlined calls that an address lies in, outermost first.
  std::vector<const InlinedCall*> inlined_at(std::uint64_t address);

 private:
  struct Held {
    AddressRange range;
    std::uint64_t entry;  ///< offset of the function's entry
  };
  struct UnitFunctions {
    std::vector<Held> by_address;
    bool whole = false;  ///< functions inside functions were looked for too
  };
  void find_prototypes();
  void look_over(const Unit& unit, UnitFunctions& into, bool whole);
  const Held* held_at(const Unit& unit, std::uint64_t address);
  const DescribedFunction& described(const Unit& unit, std::uint64_t entry);

  const DebugInfo& info_;
  Types types_;
  std::unordered_map<const Unit*, UnitFunctions> units_;
  std::optional<std::map<std::string, EntryPlace, std::less<>>> prototypes_;
  std::map<std::pair<const Unit*, std::uint64_t>, DescribedFunction> functions_;
  const DescribedFunction* last_ = nullptr;  ///< addresses are mostly asked for one after the other
};

/// Where a function was inlined.
struct InlinedCopy {
  EntryPlace entry;
  EntryPlace origin;                                                           ///< the entry of the function
  std::vector<AddressRange> ranges;                                            ///< none is empty
  [[nodiscard]] std::uint64_t address() const { return ranges.front().from; }  ///< of some instruction of it
};
/// All copies of the functions that `is_wanted` takes, given a function's entry with a name. Looks over all units.
std::vector<InlinedCopy> inlined_copies(const DebugInfo& info, const std::function<bool(const Entry&)>& is_wanted);

}  // namespace deeptrace::debuginfo
