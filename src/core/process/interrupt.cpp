#include "process/interrupt.h"

#include <csignal>
#include <initializer_list>

namespace deeptrace::process {
namespace {

// A signal handler can reach nothing but objects of static storage.
volatile std::sig_atomic_t target = 0;
volatile std::sig_atomic_t came = 0;

void on_signal(int /*signal*/) {
  came = 1;
  if (target > 0) ::kill(static_cast<pid_t>(target), SIGKILL);
}

}  // namespace

InterruptGuard::InterruptGuard(pid_t pid) {
  came = 0;
  target = pid;
  struct sigaction action {};
  action.sa_handler = on_signal;
  for (const int signal : {SIGINT, SIGTERM, SIGHUP}) ::sigaction(signal, &action, nullptr);
}

InterruptGuard::~InterruptGuard() {
  target = 0;
  for (const int signal : {SIGINT, SIGTERM, SIGHUP}) ::signal(signal, SIG_DFL);
}

bool InterruptGuard::interrupted() { return came != 0; }

}  // namespace deeptrace::process
