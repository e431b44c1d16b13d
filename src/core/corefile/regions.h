// The memory that a core file tells of: what was mapped where, and how much of it was saved.
#pragma once

#include <cstdint>
#include <vector>

#include "base/byte_reader.h"
#include "binary/elf.h"
#include "corefile/notes.h"
#include "state/target.h"

namespace deeptrace::corefile {

struct Region {
  state::Mapping mapping;
  Bytes saved;                ///< from its start on
  std::uint64_t missing = 0;  ///< bytes that were saved, and are not there because the core file is cut off
};

/// By address, with the names of files, and those of the stack and the vdso where they are known.
std::vector<Region> regions_of(const binary::Elf& core, const CoreNotes& notes);

/// The region at an address, or null.
const Region* region_at(const std::vector<Region>& regions, std::uint64_t address);

/// The path of the program's file, as it was mapped; empty where that is not said.
std::string program_path(const std::vector<Region>& regions, const CoreNotes& notes);

}  // namespace deeptrace::corefile
