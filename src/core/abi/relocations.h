// The relocations of code and data: what each is called, and how a source for the assembler asks for it.
//
// Facts: System V ABI, AMD64 supplement, table 4.9 and 4.11 (thread-local storage); i386 supplement, table 2.11;
// GNU as manual, "i386-Symbols" for the words behind @.
#pragma once

#include <cstdint>
#include <string_view>

namespace deeptrace::abi {

struct RelocationKind {
  /// Where the assembler makes this kind by itself.
  enum Place : std::uint8_t {
    kDisplacement = 1,  ///< of a memory operand
    kBranch = 2,        ///< of a direct jump or call
    kImmediate = 4,
    kData = 8,          ///< a word of `size` bytes
    kDataDistance = 16  ///< a word that holds the distance from its own place
  };
  std::uint32_t type;
  std::string_view name;    ///< "R_X86_64_PLT32"
  std::string_view suffix;  ///< "@GOTPCREL": what follows the symbol; in branches it is left out
  std::uint8_t size;        ///< bytes of the field
  std::uint8_t places;      ///< Place bits
};

/// Null for numbers without a name here.
const RelocationKind* relocation_kind(std::uint32_t type, bool wide);

}  // namespace deeptrace::abi
