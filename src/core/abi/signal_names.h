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

/// What a program that does not handle a signal does with it, and what sends it (signal(7), tables of standard
/// signals).
struct SignalFacts {
  std::string_view action;  ///< "ends the program", "is ignored" …
  std::string_view cause;   ///< "an address that is not the program's" …
};
/// Of 1 to 64.
SignalFacts signal_facts(int signal);

}  // namespace deeptrace::abi
