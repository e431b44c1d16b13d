// What the debug information of a function says of its parameters and result.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "abi/passing.h"
#include "debuginfo/locals.h"
#include "debuginfo/scopes.h"
#include "debuginfo/types.h"
#include "program/program.h"

namespace deeptrace::abi {

struct DescribedFunction {
  struct Parameter {
    std::string name;
    debuginfo::TypeId type = debuginfo::kVoid;
  };
  std::vector<Parameter> parameters;
  debuginfo::TypeId result = debuginfo::kVoid;
  Compiler compiler;
  bool complete = true;  ///< false: parameters are left out, and it is not known where the others travel
};

/// Of the function that an address of the file lies in. Where there is no debug information of it, or that of an
/// assembler, which says nothing of the kind, those who call it may have declared it: its parameters have no names
/// then. Nothing where nobody has.
std::optional<DescribedFunction> described_function(const program::Program& program, debuginfo::Types& types,
                                                    debuginfo::Scopes& scopes, debuginfo::Locals& locals,
                                                    std::uint64_t address);

/// Where what it takes and returns travels.
CallLayout layout_of(const DescribedFunction& function, arch::Mode mode, debuginfo::Types& types);

/// Parameters that a function has by its name, as C++ writes it: "put(int, Box<int, 3>) const" has two. Nothing for
/// other names.
std::optional<std::size_t> parameters_in(std::string_view name);

}  // namespace deeptrace::abi
