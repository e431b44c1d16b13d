// The relocations of code and data: what each is called, what it means, and how a source for the assembler asks for it.
//
// Facts: System V ABI, AMD64 supplement, table 4.9 and 4.11 (thread-local storage); i386 supplement, table 2.11;
// GNU as manual, "i386-Symbols" for the words after @.
#pragma once

#include <cstdint>
#include <string_view>

#include "arch/machine.h"

namespace deeptrace::arch {

struct RelocationKind {
  /// Where the assembler makes this kind by itself.
  enum Place : std::uint8_t {
    kDisplacement = 1,  ///< of a memory operand
    kBranch = 2,        ///< of a direct jump or call
    kImmediate = 4,
    kData = 8,          ///< a word of `size` bytes
    kDataDistance = 16  ///< a word that holds the distance from its own place
  };
  /// What the linker or the loader puts there.
  enum Meaning : std::uint8_t {
    kAbsolute = 1,         ///< the symbol's value and the addend, whole
    kFromEnd = 2,          ///< a distance; in an instruction it counts from its end, and the addend allows for that
    kFromStart = 4,        ///< a distance that counts from the instruction's start
    kTableSlot = 8,        ///< leads to a slot of the global offset table that holds the address
    kThreadAddress = 16,   ///< leads to a thread-local variable: a distance or a descriptor
    kBlockNumber = 32,     ///< the number of a module's block of thread-local variables
    kThreadDistance = 64,  ///< the distance of a thread-local variable from the thread pointer
  };
  std::uint32_t type;
  std::string_view name;    ///< "R_X86_64_PLT32"
  std::string_view suffix;  ///< "@GOTPCREL": what follows the symbol; in branches it is left out
  std::uint8_t size;        ///< bytes of the field
  std::uint8_t places;      ///< Place bits
  std::uint8_t means = 0;   ///< Meaning bits
};

/// Null for numbers without a name here.
const RelocationKind* relocation_kind(std::uint32_t type, Mode mode);
/// Whether a relocation has a meaning.
bool relocation_means(std::uint32_t type, Mode mode, RelocationKind::Meaning meaning);

}  // namespace deeptrace::arch
