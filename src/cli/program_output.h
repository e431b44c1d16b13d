// Where a traced program's standard output goes, so that it never mixes with ours.
#pragma once

#include <memory>
#include <mutex>
#include <string>
#include <thread>

#include "base/file_descriptor.h"
#include "base/result.h"

namespace deeptrace::cli {

/// A closed reader of our output does not end us. A handler and not "ignore": that would pass on to the program.
void outlive_broken_pipe();

/// `terminal`: a pseudo-terminal whose output is read here and shown apart; `stderr`: our standard error; else a file.
class ProgramOutput {
 public:
  /// `choice` is the value of --program-output; empty: terminal for text on a terminal, else stderr.
  static Result<std::unique_ptr<ProgramOutput>> open(const std::string& choice, bool text_on_terminal);
  ~ProgramOutput();
  ProgramOutput(const ProgramOutput&) = delete;
  ProgramOutput& operator=(const ProgramOutput&) = delete;

  /// The descriptor to give to the program.
  [[nodiscard]] int descriptor() const { return descriptor_.get(); }
  /// True when the output is read here.
  [[nodiscard]] bool caught() const { return static_cast<bool>(master_); }
  /// What came since the last call.
  std::string take();
  /// A terminal for all three standard descriptors of the program, whose input comes from `send`.
  static Result<std::unique_ptr<ProgramOutput>> open_terminal();
  [[nodiscard]] bool sends() const { return sends_; }
  /// Writes to the program's input.
  bool send(const std::string& text);

 private:
  ProgramOutput() = default;
  void drain();

  FileDescriptor descriptor_;
  FileDescriptor master_;  ///< of the terminal
  bool sends_ = false;
  Pipe wake_;  ///< ends the reader
  std::mutex mutex_;
  std::string text_;
  std::thread reader_;
};

}  // namespace deeptrace::cli
