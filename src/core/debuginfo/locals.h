// Parameters and local variables of functions, by the scope that they lie in (DWARF 5, sections 3.5 and 4.1), and what
// calls say of the values that they passed (section 3.4).
#pragma once

#include <map>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "debuginfo/scopes.h"
#include "debuginfo/types.h"

namespace deeptrace::debuginfo {

struct LocalVariable {
  std::string name;
  EntryPlace entry;     ///< with the location, if it has one
  EntryPlace origin{};  ///< of a copy's: the entry that it is a copy of
  EntryPlace type;      ///< the entry that says the type: itself or what it is an instance of
  bool parameter = false;
  bool in_left_out_block = false;  ///< nobody says where it begins and ends
  Declaration declared;            ///< its line is 0 when unknown
};

/// A function, a block in it, or an inlined call.
struct LocalScope {
  std::vector<AddressRange> ranges;
  unsigned depth = 0;   ///< scopes around it, blocks too; 0: the function itself
  std::string inlined;  ///< the function that was called, of an inlined call
  std::vector<LocalVariable> variables;
  std::vector<LocalVariable> left_out;  ///< of blocks in it that a copy leaves out
};

/// The one of some scopes that a variable stands in; null: none.
const LocalScope* scope_of(const LocalVariable& variable, std::span<const LocalScope* const> scopes);

/// A call and what is known of the values that were passed (DW_TAG_call_site).
struct CallSite {
  std::uint64_t return_address = 0;
  struct Parameter {
    Bytes location;           ///< where the called function finds it; empty: its copy has no place for it
    std::uint64_t entry = 0;  ///< the parameter's entry, by its offset in .debug_info; 0: not said
    Bytes value;              ///< what it is, in terms of the calling function
  };
  std::vector<Parameter> parameters;
};

struct FunctionLocals {
  std::vector<LocalScope> scopes;  ///< outer ones before those in them
  std::vector<CallSite> calls;
  Bytes frame_base;
};

/// Reads functions when they are first asked for.
class Locals {
 public:
  Locals(const DebugInfo& info, Scopes& scopes) : info_(info), scopes_(scopes) {}

  /// Of the function at an address; null where debug information knows none.
  const FunctionLocals* at(std::uint64_t address);
  /// The scopes that an address lies in, innermost first. The reference holds until the next call.
  const std::vector<const LocalScope*>& around(std::uint64_t address);

 private:
  FunctionLocals read(const DescribedFunction& function);

  const DebugInfo& info_;
  Scopes& scopes_;
  std::map<std::pair<const Unit*, std::uint64_t>, FunctionLocals> functions_;
  std::uint64_t last_ = ~std::uint64_t(0);  ///< a condition asks for the same address again and again
  std::vector<const LocalScope*> last_around_;
};

}  // namespace deeptrace::debuginfo
