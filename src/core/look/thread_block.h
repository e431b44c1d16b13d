// Where a thread keeps its copies of a module's thread-local variables.
//
// Facts: "ELF Handling for Thread-Local Storage" (U. Drepper), section 3.4 (variant II: the main program's block ends
// at the thread pointer; the vector of blocks is the second word after it) and 4 (the words that the dynamic linker
// fills in for DTPMOD and TPOFF relocations); the size of the vector's entries, two words, is that of the GNU C
// library.
#pragma once

#include <cstdint>
#include <optional>

#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

/// Address of the block of `module` in a thread of the program whose main module is `main`. Nothing while the thread
/// has none (it is made when it is first used), and where no relocation of the module tells.
std::optional<std::uint64_t> thread_block(const Module& module, const Module& main, const state::StateView& thread);

/// A thread's copy of a variable of each thread's own.
struct OwnCopy {
  const Module* module = nullptr;
  std::uint64_t offset = 0;  ///< bytes from the start of the module's block
  /// Where all threads have theirs, bytes from the thread pointer; nothing where each has its block somewhere else.
  std::optional<std::int64_t> from_pointer;
};

/// The copy that an address lies in; nothing for all other memory.
std::optional<OwnCopy> own_copy_at(Modules& modules, const state::StateView& thread, std::uint64_t address);

}  // namespace deeptrace::look
