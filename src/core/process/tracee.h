// A program under ptrace(2): launching, stepping and running one thread of it, its registers and memory, and stop
// bytes in its code.
//
// One thread is followed. Other threads run freely; when one of them hits a stop byte, it is taken over it with the
// followed thread held, so that nothing is lost. A forked child gets its code back as it was and is let go; a child
// that shares memory (vfork, posix_spawn) is taken over stop bytes until it has its own program.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/result.h"
#include "process/launch.h"
#include "process/maps.h"
#include "process/memory.h"
#include "state/target.h"
#include "state/view.h"

namespace deeptrace::process {

/// Why the followed thread stands still.
struct Stop {
  enum class Kind {
    stepped,    ///< one instruction was executed
    stop_byte,  ///< it stands at a stop byte, before the program's own instruction there
    signal,     ///< a signal is about to be delivered to it
    replaced,   ///< it has executed another program (exec)
    ended,      ///< the thread is gone while others go on
    exited,     ///< the whole program ended by itself
    killed,     ///< the whole program was ended by a signal
  };
  Kind kind = Kind::stepped;
  int number = 0;                   ///< signal: its number; exited: the status; killed: the signal's number
  std::uint64_t fault_address = 0;  ///< signal: the address it concerns, for faults
  bool fault_address_known = true;  ///< false: the kernel did not say it (a general protection fault)
  bool by_instruction = false;      ///< signal: the instruction at hand brought it about (a fault or trap)

  [[nodiscard]] bool program_is_gone() const { return kind == Kind::exited || kind == Kind::killed; }
};

class Tracee : public state::StateView, public state::Target {
 public:
  /// Starts the program; it stands at its very first instruction (of the dynamic linker, if it has one). The program
  /// ends when the tracing process does. Errors: Fault::program.
  static Result<std::unique_ptr<Tracee>> launch(const LaunchOptions& options);

  ~Tracee() override;
  Tracee(const Tracee&) = delete;
  Tracee& operator=(const Tracee&) = delete;

  [[nodiscard]] pid_t pid() const { return pid_; }
  [[nodiscard]] pid_t thread() const { return followed_; }
  [[nodiscard]] bool alone() const { return others_.empty(); }
  /// Threads other than the followed one that were seen.
  [[nodiscard]] std::size_t other_threads_seen() const { return threads_seen_; }

  /// Executes one instruction; with `signal`, delivers that first. `may_trap` says that the instruction can itself
  /// bring about a trap (int3), so that the kernel is asked which kind it was.
  Stop step(int signal = 0, bool may_trap = false);
  /// Runs until something happens; with `signal`, delivers that first.
  Stop run(int signal = 0);
  /// Whichever thread comes to a stop byte first becomes the followed one; used before stepping begins.
  void follow_any(bool any) { follow_any_ = any; }
  /// Ends the program at once and waits for its end.
  void kill();

  // StateView: the followed thread.
  [[nodiscard]] isa::Mode mode() const override { return isa::Mode::bits64; }
  [[nodiscard]] const state::RegisterSet& registers() const override { return registers_; }
  void read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const override {
    memory_.read(requests, provenance);
  }
  using state::StateView::read_memory;

  // Target: one thread.
  [[nodiscard]] std::vector<pid_t> threads() const override { return {followed_}; }
  [[nodiscard]] const StateView& view(pid_t /*thread*/) const override { return *this; }
  [[nodiscard]] std::vector<state::Mapping> mappings() const override { return mappings_of(pid_); }
  [[nodiscard]] std::optional<std::uint64_t> auxiliary(state::Auxiliary type) const override {
    return auxiliary_value(pid_, type);
  }
  [[nodiscard]] std::optional<state::PendingSignal> pending_signal(pid_t /*thread*/) const override { return {}; }
  [[nodiscard]] std::optional<std::uint64_t> system_call(pid_t /*thread*/) const override { return {}; }

  void set_register(state::Reg reg, std::uint64_t value);
  [[nodiscard]] state::VectorSet vectors() const;
  bool write_memory(std::uint64_t address, std::span<const std::uint8_t> bytes) {
    return memory_.write(address, bytes);
  }

  bool plant(std::uint64_t address) { return memory_.plant(address); }
  void remove(std::uint64_t address) { memory_.remove(address); }
  void remove_all() { memory_.remove_all(); }
  [[nodiscard]] bool is_planted(std::uint64_t address) const { return memory_.is_planted(address); }

 private:
  enum class Other { thread, shares_memory };
  explicit Tracee(pid_t pid) : pid_(pid), followed_(pid) {}

  Stop resume(int request, int signal);
  Stop await();
  std::optional<Stop> classify(pid_t thread, int status);
  std::optional<Stop> classify_event(pid_t thread, unsigned event);
  void handle_other(pid_t thread, int status);
  void step_other_over(pid_t thread, std::uint64_t address);
  void adopt(pid_t child, bool shares_memory, bool is_thread);
  void let_go(pid_t child);
  Stop classify_trap(pid_t thread);
  void fetch_registers();

  pid_t pid_;
  pid_t followed_;
  bool gone_ = false;
  bool follow_any_ = false;
  bool may_trap_ = false;
  int last_request_ = 0;  ///< how the followed thread was last resumed
  state::RegisterSet registers_;
  Memory memory_;
  std::map<pid_t, Other> others_;
  std::map<pid_t, int> early_;  ///< stops of children that came before the event that announces them
  std::size_t threads_seen_ = 0;
};

}  // namespace deeptrace::process
