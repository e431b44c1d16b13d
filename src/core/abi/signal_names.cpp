#include "abi/signal_names.h"

#include <csignal>
#include <cstring>

#include "base/number.h"

namespace deeptrace::abi {

std::string signal_name(int signal) {
  const char* name = ::sigabbrev_np(signal);
  return name != nullptr ? std::string("SIG") + name : "signal " + std::to_string(signal);
}

std::optional<int> signal_named(std::string_view name) {
  constexpr int kMost = 64;
  if (const auto number = number_in(name); number && *number >= 1 && *number <= kMost) return static_cast<int>(*number);
  if (name.starts_with("SIG")) name.remove_prefix(3);
  for (int signal = 1; signal <= kMost; ++signal) {
    const char* known = ::sigabbrev_np(signal);
    if (known != nullptr && name == known) return signal;
  }
  return std::nullopt;
}

}  // namespace deeptrace::abi
