// A program and the child processes that are traced with it (`--children trace`).
//
// Each process has a Control of its own: its stop points, modules and threads. A forked child begins with the stop
// points of its parent; they count from 0 there. One process is the current one, which motions move; while it runs, the
// others run beside it, and wherever a stop comes first, that process becomes the current one.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "base/result.h"
#include "control/control.h"

namespace deeptrace::control {

class ProcessTree {
 public:
  /// Errors: as Control::start.
  static Result<std::unique_ptr<ProcessTree>> start(const ControlOptions& options);

  [[nodiscard]] Control& current() { return *members_[current_].control; }
  /// The program that was launched or attached to; it stays when it has ended.
  [[nodiscard]] Control& first() { return *members_.front().control; }
  /// True when all processes have ended.
  [[nodiscard]] bool ended() const;
  /// True once there has been another process than the first.
  [[nodiscard]] bool has_children() const { return seen_ > 1; }

  struct Member {
    std::uint64_t number = 0;  ///< from 1, in the order they were seen
    std::unique_ptr<Control> control;
  };
  /// Those that live, and the first.
  [[nodiscard]] const std::vector<Member>& members() const { return members_; }
  /// Number of the current process.
  [[nodiscard]] std::uint64_t number() const { return members_[current_].number; }
  /// Makes another process the current one, by its number or the kernel's. False when there is none that lives.
  bool choose(std::uint64_t number);

  /// As Control::go. The end of a process is a note while others are left; with the last one ends the program, with the
  /// status of the first.
  Result<Stopped> go(const Motion& motion);
  /// Lets all go.
  void detach();

  /// Stop points of the first process with the hits of all.
  [[nodiscard]] std::vector<HaltInfo> halts() const;
  void remove_all();

 private:
  ProcessTree() = default;
  void add(std::unique_ptr<Control> control);
  void say(const Member& member, std::vector<std::string>& notes, const std::string& text) const;
  void bury(std::vector<std::string>& notes);
  bool move_to_living();

  std::vector<Member> members_;  ///< the first one first
  std::size_t current_ = 0;
  std::uint64_t seen_ = 0;
  Stopped first_end_;
  std::vector<std::pair<unsigned, std::uint64_t>> past_hits_;  ///< of processes that are gone: stop point, hits
  std::vector<std::string> notes_;
};

}  // namespace deeptrace::control
