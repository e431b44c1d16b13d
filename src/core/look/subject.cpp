#include "look/subject.h"

#include <algorithm>

namespace deeptrace::look {

std::uint64_t Subject::number_of(state::ThreadId thread) {
  for (const state::ThreadId id : target().threads()) {
    if (std::ranges::find(numbers_, id) == numbers_.end()) numbers_.push_back(id);
  }
  const auto found = std::ranges::find(numbers_, thread);
  return static_cast<std::uint64_t>(found - numbers_.begin()) + 1;
}

bool Subject::choose_thread(std::uint64_t number) {
  for (const state::ThreadId id : target().threads()) {
    if (number_of(id) != number && static_cast<std::uint64_t>(id) != number) continue;
    thread_ = id;
    moved_.before = view().registers();
    moved_.extended_before = view().extended();
    moved_.written.clear();
    moved_.ran_through = false;
    return true;
  }
  return false;
}

std::string Subject::place(state::ThreadId thread) {
  return modules().place_name(target().view(thread).registers()[state::Reg::rip]);
}

}  // namespace deeptrace::look
