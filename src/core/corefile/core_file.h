// A core file as a target: what a program left when a signal ended it.
//
// The kernel leaves out of a core file what it can be found in elsewhere: code and constants that nobody wrote to. They
// are read from the program's and the libraries' files, where these are proved to be the ones that ran: by the build
// identity in the page that the core file has of each, or, where a file has none, by that whole page. What is neither
// in the core file nor in such a file is known to have been mapped, and cannot be read.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/mapped_file.h"
#include "base/result.h"
#include "binary/elf.h"
#include "corefile/notes.h"
#include "corefile/regions.h"
#include "state/target.h"

namespace deeptrace::corefile {

class CoreFile final : public state::Target {
 public:
  /// `program` is the file that ran, where it is not the one that the core file names; empty: that one. Errors
  /// (Fault::input): no core file; one without threads; a program that is missing, or, where none was given, another
  /// build than the one that ran.
  static Result<std::unique_ptr<CoreFile>> open(const std::string& path, const std::string& program);
  ~CoreFile() override;

  /// The program's file: as it was given, else as the core file names it.
  [[nodiscard]] const std::string& program() const { return program_; }
  /// True for a program of 64 bits.
  [[nodiscard]] bool wide() const { return core_.wide(); }
  /// The thread that the signal was for.
  [[nodiscard]] state::ThreadId signalled() const { return notes_.threads.front().id; }
  /// What is damaged, missing, or not proved, in words.
  [[nodiscard]] const std::vector<std::string>& remarks() const { return remarks_; }

  [[nodiscard]] std::vector<state::ThreadId> threads() const override { return threads_; }
  [[nodiscard]] const state::StateView& view(state::ThreadId thread) const override;
  /// Files that are other builds than those that ran have " (another build)" after their paths.
  [[nodiscard]] std::vector<state::Mapping> mappings() const override;
  [[nodiscard]] std::optional<std::uint64_t> auxiliary(state::Auxiliary type) const override;
  [[nodiscard]] std::optional<state::PendingSignal> pending_signal(state::ThreadId thread) const override;
  [[nodiscard]] std::optional<std::uint64_t> system_call(state::ThreadId thread) const override;

 private:
  class View;
  /// A file that was mapped.
  struct File {
    std::string path;
    std::optional<MappedFile> bytes;  ///< nothing: it is missing, or another one
    bool other_build = false;
  };

  explicit CoreFile(binary::Elf core);
  std::optional<Error> begin(const std::string& program);
  std::optional<Error> find_program(const std::string& given);
  std::optional<Error> find_files(bool given);
  void open_file(File& file, const std::string& path, bool given);
  [[nodiscard]] Bytes saved_start(const std::string& path) const;
  [[nodiscard]] std::size_t read(std::uint64_t address, std::span<std::uint8_t> into) const;
  [[nodiscard]] std::string_view why_unreadable(std::uint64_t address) const;
  [[nodiscard]] const ThreadNotes* find(state::ThreadId thread) const;

  binary::Elf core_;
  CoreNotes notes_;
  std::string program_, mapped_program_;  ///< as it is opened; as the core file names it
  std::vector<std::string> remarks_;
  std::vector<std::unique_ptr<File>> files_;
  std::vector<Region> regions_;            ///< by address
  std::vector<const File*> region_files_;  ///< of each region the file whose bytes stand where none are saved, or null
  std::vector<state::ThreadId> threads_;
  std::vector<std::unique_ptr<View>> views_;  ///< as `notes_.threads`
};

}  // namespace deeptrace::corefile
