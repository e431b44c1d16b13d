#include "session/dead_program.h"

namespace deeptrace::session {

Result<std::unique_ptr<DeadProgram>> DeadProgram::open(const std::string& core, const std::string& program,
                                                       const program::OpenOptions& options) {
  Result<std::unique_ptr<corefile::CoreFile>> opened = corefile::CoreFile::open(core, program);
  if (!opened) return opened.error();
  std::unique_ptr<DeadProgram> dead(new DeadProgram(std::move(*opened)));
  corefile::CoreFile& file = *dead->core_;
  Result<program::Program> main = program::Program::open(file.program(), options);
  if (!main) return main.error();
  if (main->elf().wide() != file.wide())
    return Error{Fault::usage, file.program() + ": has " + (file.wide() ? "32" : "64") +
                                   " bits, the program of the core file had " + (file.wide() ? "64" : "32")};
  dead->modules_ = std::make_unique<look::Modules>(file, std::move(*main), options);
  dead->choose_thread(static_cast<std::uint64_t>(file.signalled()));
  look::Stopped& stopped = dead->stopped_;
  stopped.why = look::Stopped::Why::dead;
  stopped.thread = file.signalled();
  stopped.at_start = true;  // nothing is known of the way there
  stopped.notes = file.remarks();
  if (const auto signal = file.pending_signal(file.signalled())) {
    stopped.number = signal->number;
    stopped.fault_address = signal->fault_address;
    stopped.fault_address_known = signal->fault_address_known;
  }
  return dead;
}

}  // namespace deeptrace::session
