// The work of `survey`: what a file is, what it asks of the loader, and where its bytes went.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "binary/loading.h"
#include "program/program.h"
#include "state/target.h"
#include "study/convention_check.h"

namespace deeptrace::study {

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

/// What a core file tells of the program that left it.
struct SurveyedCore {
  struct Thread {
    std::uint64_t number = 0;  ///< from 1; that of the process is the first
    state::ThreadId id = 0;    ///< the kernel's
    std::uint64_t address = 0;
    std::string place;  ///< "tidelog+0x1189": the file and the offset in it; empty outside all files
  };
  std::string program;  ///< its path; empty where it is not said
  state::ThreadId process = 0;
  std::optional<state::PendingSignal> signal;
  state::ThreadId signalled = 0;  ///< the thread that it was for
  std::vector<Thread> threads;
  struct Memory {
    state::Mapping mapping;
    std::uint64_t saved = 0;  ///< bytes of it that the core file has
  };
  std::vector<Memory> memory;        ///< by address
  std::vector<std::string> remarks;  ///< what is damaged or missing
};

struct Survey {
  const program::Program* program = nullptr;
  std::optional<SurveyedCore> core;
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
  std::optional<std::vector<ConventionFinding>> checked;  ///< where the rules of the calling convention were looked at
};

/// Surveys an opened file; `program` must outlive it.
Survey survey(const program::Program& program);

std::string_view name_of(ByteUse use);

}  // namespace deeptrace::study
