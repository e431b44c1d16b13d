// What a linked file asks of the loader: interpreter, libraries, protections, identity.
//
// Sources: System V ABI, chapter 5 (dynamic section); Linux extensions to gABI (notes, GNU_STACK, GNU_RELRO,
// properties).
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "binary/elf.h"

namespace deeptrace::binary {

struct Loading {
  enum class Relro : std::uint8_t { none, partial, full };

  bool dynamic = false;              ///< there is a dynamic section
  std::string_view interpreter;      ///< empty where the file names none
  std::string_view soname, runpath;  ///< of libraries; where libraries are looked for first
  std::vector<std::string_view> needed;
  /// Versions of symbols that it asks a library for.
  struct Versions {
    std::string_view library;
    std::vector<std::string_view> names;
  };
  std::vector<Versions> versions;
  Relro relro = Relro::none;     ///< what is written once is made read-only; full: linkage slots too
  bool says_stack = false;       ///< the file says whether the stack may be executed
  bool stack_executable = true;  ///< what an old file without a word of it gets, too
  bool branch_marks = false;     ///< indirect jumps arrive at marked places only (IBT)
  bool shadow_stack = false;     ///< returns may be checked (SHSTK)
  std::string build_id;          ///< hexadecimal digits; empty where there is none
};

/// Reads it; damaged parts are left out.
Loading loading_of(const Elf& elf);

}  // namespace deeptrace::binary
