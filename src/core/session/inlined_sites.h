// Where control comes to functions that the compiler has inlined into own code.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "look/modules.h"

namespace deeptrace::session {

struct InlinedSite {
  std::uint64_t address = 0;  ///< in the process
  unsigned depth = 1;         ///< of inlined calls: 1 is one in the function itself
  std::string function;
  bool described = true;  ///< false: the debug information does not count the instruction among the function's, and has
                          ///< no places of its parameters there
};

/// Of a module's own functions, those that are inlined from own sources; by address, and there from the outside in.
std::vector<InlinedSite> inlined_sites_of(const look::Module& module);

}  // namespace deeptrace::session
