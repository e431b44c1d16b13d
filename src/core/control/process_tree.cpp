#include "control/process_tree.h"

#include <algorithm>
#include <utility>

#include "abi/signal_names.h"

namespace deeptrace::control {

using Why = Stopped::Why;

namespace {

std::string how_it_ended(const Stopped& end) {
  if (end.why == Why::let_go) return "was let go";
  return end.why == Why::killed ? "was ended by " + abi::signal_name(end.number)
                                : "ended with status " + std::to_string(end.number);
}

}  // namespace

Result<std::unique_ptr<ProcessTree>> ProcessTree::start(const ControlOptions& options) {
  Result<std::unique_ptr<Control>> control = Control::start(options);
  if (!control) return control.error();
  std::unique_ptr<ProcessTree> tree(new ProcessTree);
  ProcessTree* const here = tree.get();
  (*control)->on_child([here](std::unique_ptr<Control> child) { here->add(std::move(child)); });
  tree->members_.push_back({1, std::move(*control)});
  tree->seen_ = 1;
  return tree;
}

/// A child comes while its parent moves: it runs along at once.
void ProcessTree::add(std::unique_ptr<Control> control) {
  control->run_beside();
  const bool fresh = control->process().is_fresh();
  members_.push_back({++seen_, std::move(control)});
  Control& child = *members_.back().control;
  notes_.push_back("process " + std::to_string(seen_) + " (" + std::to_string(child.process().pid()) + ") was started" +
                   (fresh ? ": " + child.path() : ""));
}

bool ProcessTree::ended() const {
  return std::ranges::all_of(members_, [](const Member& member) { return member.control->ended(); });
}

bool ProcessTree::choose(std::uint64_t number) {
  for (std::size_t i = 0; i < members_.size(); ++i) {
    Control& control = *members_[i].control;
    if (control.ended()) continue;
    if (members_[i].number != number && static_cast<std::uint64_t>(control.process().pid()) != number) continue;
    current_ = i;
    return true;
  }
  return false;
}

bool ProcessTree::move_to_living() {
  const auto living = std::ranges::find_if(members_, [](const Member& member) { return !member.control->ended(); });
  if (living == members_.end()) return false;
  current_ = static_cast<std::size_t>(living - members_.begin());
  return true;
}

void ProcessTree::say(const Member& member, std::vector<std::string>& notes, const std::string& text) const {
  notes.push_back(has_children() ? "process " + std::to_string(member.number) + ": " + text : text);
}

/// Takes out processes that have ended, but for the first; the current one is another then.
void ProcessTree::bury(std::vector<std::string>& notes) {
  const std::uint64_t current = number();
  for (Member& member : members_) {
    if (!member.control->ended() || member.number == 1) continue;
    const Stopped& end = member.control->settle();
    say(member, notes, how_it_ended(end));
    for (const HaltInfo& halt : member.control->halts()) past_hits_.emplace_back(halt.number, halt.hits);
  }
  std::erase_if(members_, [](const Member& member) { return member.number != 1 && member.control->ended(); });
  const auto found = std::ranges::find(members_, current, &Member::number);
  current_ = found != members_.end() ? static_cast<std::size_t>(found - members_.begin()) : 0;
}

Result<Stopped> ProcessTree::go(const Motion& motion) {
  std::vector<std::string> notes;
  for (;;) {
    for (std::size_t i = 0; i < members_.size(); ++i) {
      if (i != current_) members_[i].control->run_beside();
    }
    Result<Stopped> moved = current().go(motion);
    if (!moved) return moved;
    Stopped stopped = std::move(*moved);
    notes.insert(notes.end(), notes_.begin(), notes_.end());
    notes_.clear();
    const std::uint64_t mover = number();
    if (mover == 1 && stopped.program_is_gone()) first_end_ = stopped;
    for (std::size_t i = 0; i < members_.size(); ++i) {
      const Member& member = members_[i];
      if (member.number == mover) {
        for (const std::string& note : std::exchange(stopped.notes, {})) notes.push_back(note);
        continue;
      }
      Stopped beside = member.control->settle();
      for (const std::string& note : std::exchange(beside.notes, {})) say(member, notes, note);
      if (member.number == 1 && member.control->ended() && !first_end_.program_is_gone()) {
        first_end_ = beside;
        say(member, notes, how_it_ended(beside));
      }
      if (stopped.why != Why::elsewhere || beside.why == Why::arrived || member.control->ended()) continue;
      stopped = std::move(beside);
      stopped.notes.clear();
      current_ = i;
    }
    if (mover == 1 && stopped.program_is_gone() && !ended()) say(members_.front(), notes, how_it_ended(stopped));
    const bool gone = stopped.program_is_gone();
    bury(notes);
    if (gone && move_to_living()) {
      if (motion.kind == Motion::Kind::resume) continue;
      stopped = {};
      stopped.why = Why::process_ended;
      stopped.thread = current().thread();
    } else if (gone) {
      current_ = 0;
      stopped = first_end_;
    }
    stopped.notes = std::move(notes);
    return stopped;
  }
}

void ProcessTree::detach() {
  for (const Member& member : members_) member.control->detach();
}

std::vector<HaltInfo> ProcessTree::halts() const {
  std::vector<HaltInfo> result = members_.front().control->halts();
  for (HaltInfo& halt : result) {
    for (const auto& [number, hits] : past_hits_) halt.hits += number == halt.number ? hits : 0;
    for (std::size_t i = 1; i < members_.size(); ++i) {
      for (const HaltInfo& other : members_[i].control->halts()) {
        if (other.number != halt.number) continue;
        halt.hits += other.hits;
        halt.came += other.came;
        halt.entered += other.entered;
      }
    }
  }
  return result;
}

void ProcessTree::remove_all() {
  for (const Member& member : members_) {
    if (member.control->ended()) continue;
    for (const HaltInfo& halt : member.control->halts()) member.control->remove(halt.number);
  }
}

}  // namespace deeptrace::control
