// The program and its libraries where they lie in a running process, and which of their code is the developer's own.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "process/tracee.h"
#include "program/program.h"

namespace deeptrace::session {

struct Module {
  std::string path;
  std::uint64_t bias = 0;                     ///< address in the process minus address in the file
  std::uint64_t from = 0, to = 0;             ///< the whole range that the module occupies
  bool system = false;                        ///< lies in a system library directory
  std::unique_ptr<program::Program> program;  ///< opened on demand for system libraries; null when unreadable
};

class Modules {
 public:
  /// Takes the modules that are mapped now. `main` is the program that was launched.
  Modules(const process::Tracee& tracee, program::Program main, program::OwnCode rule);

  [[nodiscard]] const Module& main() const { return *modules_.front(); }
  [[nodiscard]] bool is_own(std::uint64_t address) const;
  /// The module at an address with its program opened, or null.
  const Module* at(std::uint64_t address);
  /// "function+0x12" or "function" for any address; "0x7f…" where nothing is known.
  std::string place_name(std::uint64_t address);

  /// Where a location lies in the process: in the main program, or in the own module that is named before a colon.
  [[nodiscard]] Result<std::vector<std::uint64_t>> resolve(std::string_view location) const;

  /// Where control can come into own code from outside, sorted.
  struct OwnEntries {
    std::vector<std::uint64_t> all;  ///< functions, handlers, and the places behind calls that return twice (setjmp)
    std::vector<std::uint64_t> handlers;  ///< landing pads of exception handlers alone
  };
  [[nodiscard]] OwnEntries own_entries() const;

 private:
  void load(const process::Tracee& tracee, program::Program main);
  void collect_own();

  program::OwnCode rule_;
  std::vector<std::unique_ptr<Module>> modules_;  ///< the main program first
  std::vector<program::AddressRange> own_;        ///< sorted, merged
};

}  // namespace deeptrace::session
