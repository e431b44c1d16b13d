// Where a module's own code has to be watched for its calls to be seen: where its functions begin, and where it calls
// what is not own.
#pragma once

#include <cstdint>
#include <functional>
#include <string_view>
#include <vector>

#include "look/modules.h"

namespace deeptrace::session {

struct CallSites {
  std::vector<std::uint64_t> entries;  ///< addresses in the process
  std::vector<std::uint64_t> calls;    ///< of instructions that call or jump to code that is not own, or may be
};

/// `own_elsewhere` says of a symbol's name whether another module has an own function of that name.
CallSites call_sites_of(const look::Module& module, const std::function<bool(std::string_view)>& own_elsewhere);

}  // namespace deeptrace::session
