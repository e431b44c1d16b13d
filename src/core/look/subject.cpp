#include "look/subject.h"

namespace deeptrace::look {

bool Subject::choose_thread(std::uint64_t number) {
  const auto thread = numbers_.named(target(), number);
  if (!thread) return false;
  thread_ = *thread;
  moved_.before = view().registers();
  moved_.extended_before = view().extended();
  moved_.written.clear();
  moved_.ran_through = false;
  return true;
}

std::string Subject::place(state::ThreadId thread) {
  return modules().place_name(target().view(thread).registers()[state::Reg::rip]);
}

}  // namespace deeptrace::look
