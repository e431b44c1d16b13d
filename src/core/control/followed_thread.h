// The thread that `steps` follows, instruction by instruction and at full speed, among the others of its program.
//
// While it is stepped the other threads can take turns with it, an instruction each; those in system calls go on
// meanwhile. While it runs at full speed they all do.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <utility>
#include <vector>

#include "control/progress.h"
#include "process/process.h"
#include "state/registers.h"
#include "state/thread_numbers.h"

namespace deeptrace::control {

/// Why the followed thread stands still.
struct FollowedStop {
  enum class Kind : std::uint8_t {
    stepped,    ///< one instruction was executed
    stop_byte,  ///< it stands at a stop byte, before the program's own instruction there
    signal,     ///< a signal is about to be delivered to it
    replaced,   ///< it has executed another program (exec)
    ended,      ///< the thread is gone while others go on
    exited,     ///< the whole program ended by itself
    killed,     ///< the whole program was ended by a signal, or by us because somebody asked for the end
    let_go,     ///< an attached program goes on alone because somebody asked for the end
    loaded,     ///< a thread came to where the dynamic linker reports changes
  };
  Kind kind = Kind::stepped;
  int number = 0;                   ///< signal: its number; exited: the status; killed: the signal's number
  std::uint64_t fault_address = 0;  ///< signal: the address it concerns, for faults
  bool fault_address_known = true;  ///< false: the kernel did not say it (a general protection fault)
  bool by_instruction = false;      ///< signal: the instruction at hand brought it about (a fault or trap)

  [[nodiscard]] bool program_is_gone() const {
    return kind == Kind::exited || kind == Kind::killed || kind == Kind::let_go;
  }
};

class FollowedThread {
 public:
  explicit FollowedThread(std::unique_ptr<process::Process> process);

  [[nodiscard]] process::Process& process() { return *process_; }
  [[nodiscard]] const process::Process& process() const { return *process_; }
  [[nodiscard]] pid_t thread() const { return thread_; }
  /// The number that people know a thread by (state/thread_numbers.h).
  std::uint64_t number_of(pid_t thread) {
    if (thread != numbered_) {
      number_ = numbers_.of(*process_, thread);
      numbered_ = thread;
    }
    return number_;
  }
  [[nodiscard]] const state::StateView& view() const { return process_->view(thread_); }
  /// As they were when it came to its last stand; they stay when it is gone.
  [[nodiscard]] const state::RegisterSet& registers() const { return registers_; }
  [[nodiscard]] isa::Mode mode() const { return state::mode_of(registers_); }
  [[nodiscard]] bool alone() const { return process_->alone() && !process_->has_family(); }
  /// Threads other than the followed one that were seen.
  [[nodiscard]] std::size_t other_threads_seen() const { return process_->threads_started(); }

  /// An instruction of each of the other threads; those in system calls go on. Afterwards they are held, so that what
  /// the followed one finds and leaves in memory is its own. `stepped` where nothing came of it for the followed one.
  FollowedStop others_turn();
  /// Executes one instruction while the others are held; with `signal`, delivers that first. `plain` as for
  /// Process::step_plain. Beside other threads one that `calls_kernel` runs from entry to exit, while those take turns.
  FollowedStop step(int signal = 0, bool plain = false, bool calls_kernel = false);
  /// All repetitions of one, or whatever else ends at a stop byte, while the others are held.
  FollowedStop run_alone();
  /// Process::pass_plain. False where the instruction has to be stepped.
  bool pass(const state::RegisterSet& after);
  /// Lets the threads take turns until `wanted` says that one's event is what is waited for; that thread is the
  /// followed one then.
  FollowedStop next_in_turn(const std::function<bool(const process::Event&)>& wanted);
  /// The same at full speed; events of `system_calls` are among those that it is asked about where that is wanted.
  FollowedStop run_all(bool system_calls, const std::function<bool(const process::Event&)>& wanted);
  /// Runs until something happens; with `signal`, delivers that first.
  FollowedStop run(int signal = 0);
  /// Whichever thread comes to a stop byte first becomes the followed one, or the one of that number (from 1, in the
  /// order they were seen); used before stepping begins.
  void follow_first_of(std::uint64_t number) {
    choosing_ = true;
    wanted_ = number;
  }
  /// Children are traced too, and theirs, until it is chosen: it may be a thread of theirs.
  void trace_children();
  /// It is chosen: nothing holds the other processes from now on. They run beside this one while it runs at full speed
  /// or is in a system call.
  void follow_this();
  /// Lets the other processes run to their ends, or go when they were attached to.
  void finish_others();
  /// Makes another thread the followed one, by that number or the kernel's. False when there is none.
  bool follow(std::uint64_t number);
  /// Where the dynamic linker reports changes; 0: nowhere.
  void watch_loader(std::uint64_t function) { loader_ = function; }
  /// True once when the threads that take turns get nowhere (Progress).
  [[nodiscard]] bool stuck() { return progress_.stuck(); }
  /// True once a thread came there while others were stepped.
  [[nodiscard]] bool loader_came() { return std::exchange(loader_came_, false); }

 private:
  /// Threads take turns; what waits in the kernel goes on when the turn ends, unless other processes are traced.
  [[nodiscard]] process::Process::Running turns() const {
    return {.stepping = true, .calls_go_on = !process_->has_family()};
  }
  process::Process::Answer in_turn(const process::Event& event);
  process::Process::Answer at_full_speed(const process::Event& event);
  FollowedStop stop_of(const process::Event& event);
  void take_registers();
  void take_children(process::Process& parent);
  void watch(process::Process& member);
  void move_to(const process::Process& member, pid_t thread);
  bool move_to_living();
  FollowedStop run_to_reports(const process::Process::Running& how, const process::Process::Visit& visit);
  [[nodiscard]] bool at_loader(const process::Event& event) const;
  void watch_progress(const process::Event& event);

  std::unique_ptr<process::Process> process_;
  std::vector<std::unique_ptr<process::Process>> beside_;  ///< other processes that are traced
  const process::Process* arrived_ = nullptr;              ///< one of them, of which a thread came to a stop byte
  pid_t arrived_thread_ = 0;
  pid_t thread_;
  bool choosing_ = false;
  std::uint64_t wanted_ = 0;  ///< 0: any
  state::ThreadNumbers numbers_;
  pid_t numbered_ = 0;  ///< the thread that was asked for last, and its number
  std::uint64_t number_ = 0;
  std::uint64_t loader_ = 0;
  bool loader_came_ = false;
  Progress progress_;
  state::RegisterSet registers_;
};

}  // namespace deeptrace::control
