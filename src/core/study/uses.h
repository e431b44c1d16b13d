// The work of `uses`: which instructions read, write, call, jump to or take the address of something, or make a system
// call.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "isa/text.h"
#include "program/instances.h"
#include "program/references.h"

namespace deeptrace::study {

struct UsesRequest {
  std::string what;  ///< a function, variable, label or address; with `system_call` a call's name or number
  bool system_call = false;
  isa::Syntax syntax = isa::Syntax::intel;
};

struct Use {
  std::uint64_t address = 0;  ///< of the instruction, or of the data that holds the address
  std::string_view section;
  std::string function;      ///< empty for data
  std::uint64_t offset = 0;  ///< bytes from the function's start
  std::string_view file;     ///< empty when unknown
  std::uint32_t line = 0;
  program::UseKind how = program::UseKind::address;
  bool in_data = false;
  bool computed = false;  ///< a register takes part in the address
  std::string text;       ///< the instruction
  std::string part;       ///< which part of a variable: "+8", "levels[1].metres"; empty for its start
};

/// What was asked for, as it was understood.
struct UsesHead {
  const program::Program* program = nullptr;
  std::string name;
  std::string kind;                                  ///< "function", "variable", "imported function", "address" …
  std::uint64_t address = 0;                         ///< 0 when it lies outside of the file
  std::uint64_t size = 0;                            ///< bytes; 0 when unknown
  std::optional<program::InstanceCounts> instances;  ///< of a function
};

struct UsesSummary {
  std::size_t uses = 0;
  std::size_t unknown_calls = 0;  ///< system calls whose number could not be found
};

class UsesSink {
 public:
  virtual ~UsesSink() = default;
  virtual void begin(const UsesHead& head) = 0;
  virtual void use(const Use& row) = 0;
  virtual void end(const UsesSummary& summary) = 0;
};

std::string_view name_of(program::UseKind how);

/// Errors (Fault::usage): nothing of that name, with near ones.
Result<UsesSummary> list_uses(const program::Program& program, const UsesRequest& request, UsesSink& sink);

}  // namespace deeptrace::study
