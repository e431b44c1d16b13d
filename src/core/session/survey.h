// The work of `survey`: what a file is, what it asks of the loader, and where its bytes went.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "binary/loading.h"
#include "program/program.h"

namespace deeptrace::session {

/// What a byte of the file is there for. The order is the order in which the shares are shown.
enum class ByteUse : std::uint8_t {
  code,
  read_only_data,
  data,
  linking,  ///< what the loader and linker read: symbols of the dynamic table, relocations, hashes, strings for them
  unwinding,
  symbols,  ///< the symbol table and its strings, which running needs not
  debug,
  notes,
  other,
  headers,  ///< the ELF header, program and section headers
  padding,  ///< what no section holds
};
inline constexpr std::size_t kByteUses = 11;

struct SurveyedSection {
  std::string_view name;
  std::uint64_t address = 0;  ///< in an object file 0
  std::uint64_t size = 0;     ///< bytes when loaded
  std::uint64_t in_file = 0;  ///< bytes in the file
  std::uint64_t flags = 0;
  ByteUse use = ByteUse::other;
  std::string_view role;  ///< in a phrase
};

struct SurveyedFunction {
  std::string_view name;
  std::uint64_t address = 0, size = 0;  ///< bytes
};

struct Survey {
  const program::Program* program = nullptr;
  binary::Loading loading;
  std::string entry_function;  ///< empty where the file has no entry, or no name for it
  bool stripped = false;       ///< no symbol table
  std::size_t symbols = 0;     ///< named ones, of the symbol table or the dynamic one
  std::size_t functions = 0, own_functions = 0;
  bool stack_protection = false;              ///< something in it checks its stack
  bool checked_calls = false;                 ///< calls of the C library's checking variants (fortify)
  std::vector<std::uint16_t> debug_versions;  ///< of DWARF, ascending
  std::size_t debug_units = 0;
  std::vector<std::string> compilers;  ///< as debug information or the compiler's comment names them
  std::vector<SurveyedSection> sections;
  std::array<std::uint64_t, kByteUses> bytes{};  ///< by ByteUse; they add up to the file's size
  std::vector<SurveyedFunction>
      largest_units;                      ///< source files by the bytes of their code, largest first; no addresses
  std::vector<SurveyedFunction> largest;  ///< functions, at most ten
};

/// Surveys an opened file; `program` must outlive it.
Survey survey(const program::Program& program);

std::string_view name_of(ByteUse use);

}  // namespace deeptrace::session
