#include "state/target.h"

#include <csignal>

namespace deeptrace::state {

bool PendingSignal::is_fault() const {
  return code > 0 && (number == SIGSEGV || number == SIGBUS || number == SIGFPE || number == SIGILL);
}

PendingSignal pending_signal(int number, int code, std::uint64_t address) {
  PendingSignal signal{.number = number, .code = code};
  if (!signal.is_fault()) return signal;
  signal.fault_address = address;
  signal.fault_address_known = code != SI_KERNEL;
  return signal;
}

}  // namespace deeptrace::state
