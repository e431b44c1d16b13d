// What somebody looks at: a target and its modules, one of its threads, and what is known of the way there. A program
// under control is one; so is what a core file holds.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "look/card.h"
#include "look/code_lines.h"
#include "look/modules.h"
#include "look/stopped.h"
#include "state/target.h"
#include "state/thread_numbers.h"

namespace deeptrace::look {

class Subject {
 public:
  virtual ~Subject() = default;

  [[nodiscard]] virtual state::Target& target() = 0;
  [[nodiscard]] virtual Modules& modules() = 0;
  /// The program is gone: there is nothing to look at.
  [[nodiscard]] virtual bool ended() const { return false; }
  /// What the last motion of the current thread changed; of a thread that was just chosen nothing.
  [[nodiscard]] virtual const Moved& moved() { return moved_; }
  /// Where stop points stand in code, for code lines.
  [[nodiscard]] virtual StopNames stop_names() const { return {}; }
  /// The stop points that were hit, in words and values.
  [[nodiscard]] virtual std::vector<CardHit> hits_of(const Stopped& /*stopped*/) { return {}; }

  /// The current thread.
  [[nodiscard]] state::ThreadId thread() const { return thread_; }
  [[nodiscard]] const state::StateView& view() { return target().view(thread_); }
  /// Makes another thread the current one. Its number, from 1 in the order they were seen, or the kernel's.
  bool choose_thread(std::uint64_t number);
  [[nodiscard]] std::uint64_t number_of(state::ThreadId thread) { return numbers_.of(target(), thread); }
  /// Where a thread stands, in words.
  std::string place(state::ThreadId thread);
  /// Path of the program.
  [[nodiscard]] const std::string& path() { return modules().main().path; }

 protected:
  state::ThreadId thread_ = 0;
  Moved moved_;

 private:
  state::ThreadNumbers numbers_;
};

}  // namespace deeptrace::look
