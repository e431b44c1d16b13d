// Whoever wants to know of every time that a thread comes to some places, while the program runs on: cheaper than stop
// points, which bring all threads to a stand. One for each process.
#pragma once

#include <sys/types.h>

#include <cstdint>

namespace deeptrace::control {

class Control;

class SiteWatcher {
 public:
  virtual ~SiteWatcher() = default;

  /// A thread has come to a watched place and has not executed the instruction there; others may be running. False:
  /// the program is to be held (Stopped::Why::enough).
  virtual bool arrived(pid_t thread, std::uint64_t address) = 0;
  /// Modules were mapped or unmapped: there may be other places to watch.
  virtual void modules_changed() = 0;
  /// The process has executed another program; nothing of the old one is watched any more. modules_changed comes when
  /// the new one is mapped.
  virtual void replaced() = 0;
  virtual void thread_ended(pid_t thread) = 0;
  /// Whether every instruction is to be stepped, and `stepped` called after it, however the program runs.
  [[nodiscard]] virtual bool counts_instructions() const { return false; }
  virtual void stepped(pid_t /*thread*/) {}
  /// The whole process has ended.
  virtual void ended() = 0;
  /// A child process was born, and goes on watching the same places unless it runs a program of its own. Null: nothing
  /// is watched in it.
  virtual SiteWatcher* of_child(Control& child, pid_t forked_by) = 0;
};

}  // namespace deeptrace::control
