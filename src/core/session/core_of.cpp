#include "session/core_of.h"

namespace deeptrace::session {

Result<corefile::CoreSummary> write_core_of(look::Subject& subject, const std::string& path) {
  const std::vector<state::ThreadId> threads = subject.target().threads();
  const std::string& program = subject.modules().main().path;
  // A process's own thread is the first that there was.
  return corefile::write_core({subject.target(), threads.front(), static_cast<state::ThreadId>(subject.thread()),
                               program.substr(program.rfind('/') + 1)},
                              path);
}

}  // namespace deeptrace::session
