// Where the debug information of a stripped file lies: in a file of its own, found by the build's identity or by name
// and checksum.
//
//   DIR/.build-id/ab/cdef….debug         for each folder of debug files (--debug-dir, then /usr/lib/debug)
//   the name in .gnu_debuglink           beside the file, in its .debug folder, and below the folders of debug files
//   the name in .gnu_debugaltlink        of what several debug files share
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "binary/elf.h"

namespace deeptrace::program {

/// The file with an ELF file's debug information; null where none is found.
std::unique_ptr<binary::Elf> find_debug_file(const binary::Elf& elf, const std::vector<std::string>& folders);

/// The file that a debug file shares with others; null where it names none or none is found.
std::unique_ptr<binary::Elf> find_supplementary_file(const binary::Elf& elf, const std::vector<std::string>& folders);

/// The small symbol table that some stripped files keep in .gnu_debugdata; null where there is none.
std::unique_ptr<binary::Elf> small_symbol_file(const binary::Elf& elf);

}  // namespace deeptrace::program
