#include "process/attention.h"

#include <sys/prctl.h>
#include <sys/time.h>
#include <unistd.h>

#include <csignal>

namespace deeptrace::process {
namespace {

// A signal handler can reach nothing but objects of static storage.
volatile std::sig_atomic_t interrupt = 0;
volatile std::sig_atomic_t end = 0;
volatile std::sig_atomic_t beating = 0;
volatile std::sig_atomic_t listening = 0;  // the signals are ours

void every(suseconds_t microseconds) {
  const itimerval interval{{0, microseconds}, {0, microseconds}};
  ::setitimer(ITIMER_REAL, &interval, nullptr);
}

/// Every 20 milliseconds until it is answered, so that a wait that began after the check ends too.
void repeat(bool on) {
  constexpr suseconds_t kAsked = 20000, kBeat = 40000;
  every(on ? kAsked : beating != 0 ? kBeat : 0);
}

void on_signal(int signal) {
  if (signal == SIGALRM) return;
  (signal == SIGINT ? interrupt : end) = 1;
  repeat(true);
}

}  // namespace

Attention::Attention(pid_t parent) {
  interrupt = 0;
  end = 0;
  struct sigaction action {};
  action.sa_handler = on_signal;  // without SA_RESTART: waiting calls return
  for (std::size_t i = 0; i < kSignals.size(); ++i) ::sigaction(kSignals[i], &action, &earlier_[i]);
  listening = 1;
  if (parent == 0) return;
  ::prctl(PR_SET_PDEATHSIG, SIGHUP);
  if (::getppid() != parent) on_signal(SIGHUP);
}

Attention::~Attention() {
  listening = 0;
  repeat(false);
  for (std::size_t i = 0; i < kSignals.size(); ++i) ::sigaction(kSignals[i], &earlier_[i], nullptr);
}

Attention::Why Attention::asked() { return end != 0 ? Why::end : interrupt != 0 ? Why::interrupt : Why::none; }

void Attention::answer() {
  interrupt = 0;
  if (end == 0) repeat(false);
}

Attention::Beat::Beat(bool wanted) : wanted_(wanted && listening != 0 && beating == 0) {
  if (!wanted_) return;
  beating = 1;
  if (asked() == Why::none) repeat(false);
}

Attention::Beat::~Beat() {
  if (!wanted_) return;
  beating = 0;
  if (asked() == Why::none) repeat(false);
}

}  // namespace deeptrace::process
