// Declarations of C functions, as people write them, made into types: what `explain passing` takes.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "arch/machine.h"
#include "base/result.h"
#include "debuginfo/types.h"

namespace deeptrace::study {

struct DeclaredFunction {
  struct Parameter {
    std::string name;  ///< empty: it has none
    debuginfo::TypeId type = debuginfo::kVoid;
  };
  std::string name;
  std::vector<Parameter> parameters;
  debuginfo::TypeId result = debuginfo::kVoid;
  bool variadic = false;
};

/// Reads "long sum(const short *levels, struct { int a; double b; } range, ...)". Known are the types of C, those of
/// stdint.h and stddef.h by their names, and __m128; structures, unions and enumerations have to be written out where
/// they are passed themselves. Sizes are those of the mode. Errors (Fault::usage) say at which character what was
/// expected, or is not known.
Result<DeclaredFunction> parse_declaration(std::string_view text, arch::Mode mode, debuginfo::Types& types);

}  // namespace deeptrace::study
