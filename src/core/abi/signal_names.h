// Signals by name (signal(7)).
#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace deeptrace::abi {

/// "SIGSEGV"; "signal 34" for one without a name.
std::string signal_name(int signal);

/// The number of "SIGSEGV", "SEGV" or "11"; nothing for other words.
std::optional<int> signal_named(std::string_view name);

}  // namespace deeptrace::abi
