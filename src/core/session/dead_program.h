// A program that has ended and left a core file: what there is to look at, without a way to run.
#pragma once

#include <memory>
#include <string>

#include "base/result.h"
#include "corefile/core_file.h"
#include "look/subject.h"
#include "program/program.h"

namespace deeptrace::session {

class DeadProgram final : public look::Subject {
 public:
  /// `program` as for CoreFile::open. Errors: as those of CoreFile, and an unusable program file.
  static Result<std::unique_ptr<DeadProgram>> open(const std::string& core, const std::string& program,
                                                   const program::OpenOptions& options);

  [[nodiscard]] state::Target& target() override { return *core_; }
  [[nodiscard]] look::Modules& modules() override { return *modules_; }
  /// By which signal it ended, and what is to be known of the core file.
  [[nodiscard]] const look::Stopped& stopped() const { return stopped_; }

 private:
  explicit DeadProgram(std::unique_ptr<corefile::CoreFile> core) : core_(std::move(core)) {}

  std::unique_ptr<corefile::CoreFile> core_;
  std::unique_ptr<look::Modules> modules_;
  look::Stopped stopped_;
};

}  // namespace deeptrace::session
