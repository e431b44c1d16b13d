// Who keeps which register across a call, by the System V calling convention for x86-64 (psABI, figure 3.4).
#pragma once

#include <cstdint>
#include <string_view>

#include "arch/register.h"

namespace deeptrace::arch {

struct RegisterRole {
  std::string_view role;        ///< "third integer argument"; empty where it has none
  bool kept_by_callee = false;  ///< a called function gives it back as it was
};

/// The role of a register in calls. Parts have the role of the whole.
RegisterRole role_of(RegisterPart part);

}  // namespace deeptrace::arch
