// What the kernel writes into the notes of a core file: threads with their registers, the signal, the auxiliary vector,
// which files were mapped where.
//
// Sources: core(5); <linux/elfcore.h>, <linux/elf.h> for the structures and types; <asm/user_64.h> and <asm/user_32.h>
// for the order of registers.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "binary/elf.h"
#include "state/extended.h"
#include "state/registers.h"
#include "state/target.h"

namespace deeptrace::corefile {

struct ThreadNotes {
  state::ThreadId id = 0;
  state::RegisterSet registers;
  std::optional<std::uint64_t> system_call;  ///< that it stood in, or had just left
  std::optional<state::ExtendedSet> extended;
};

/// A file's part that was mapped.
struct MappedPart {
  std::uint64_t from = 0, to = 0;  ///< after the last byte
  std::uint64_t offset = 0;        ///< in the file
  std::string path;
};

struct CoreNotes {
  state::ThreadId process = 0;       ///< its number, which is that of its first thread; 0: not said
  std::string name;                  ///< of the program's file, cut by the kernel to 15 characters
  std::vector<ThreadNotes> threads;  ///< in the file's order: the one that the signal was for comes first
  std::optional<state::PendingSignal> signal;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> auxiliary;  ///< type, value
  std::vector<MappedPart> files;
  std::vector<std::string> remarks;  ///< what is damaged or not understood, in words
};

/// Reads all notes; what is damaged is left out and said.
CoreNotes read_notes(const binary::Elf& core);

/// The threads' numbers in the order in which a running program counts them: the process's own is the first, later ones
/// have higher numbers.
std::vector<state::ThreadId> numbered_threads(const CoreNotes& notes);

}  // namespace deeptrace::corefile
