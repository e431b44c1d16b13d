// Writes the core file of a target as the kernel would: what was mapped and the memory that is not in files, and notes
// of threads, signal, auxiliary vector and mapped files (core(5), <linux/elfcore.h>). corefile/notes.h reads them.
//
// Stop bytes are not in it: memory is what the program itself has. Of files that are mapped and cannot be written the
// first page is saved if an ELF file begins there, as the kernel does by default (coredump_filter, core(5)).
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/result.h"
#include "state/target.h"

namespace deeptrace::corefile {

struct CoreSource {
  const state::Target& target;
  state::ThreadId process = 0;  ///< its number
  state::ThreadId thread = 0;   ///< comes first in the file, as the one that the signal was for
  std::string name;             ///< of the program's file; 15 characters are kept
};

struct CoreSummary {
  std::uint64_t bytes = 0;  ///< of the file
  std::size_t threads = 0;
  std::uint64_t unreadable = 0;  ///< bytes of memory that could not be read, and are zeros
};

/// Only its owner may read the file. Errors (Fault::usage): it exists, or cannot be written.
Result<CoreSummary> write_core(const CoreSource& source, const std::string& path);

}  // namespace deeptrace::corefile
