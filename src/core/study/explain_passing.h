// What `explain passing` tells: where each argument of a function and its result travel, by its declaration.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "abi/conventions.h"
#include "arch/machine.h"
#include "base/result.h"

namespace deeptrace::study {

struct PassedPart {
  std::string where;         ///< "edi", "[rsp+8]": counted from where the stack pointer stands before the call
  std::uint64_t offset = 0;  ///< bytes, in the value
  std::uint64_t bytes = 0;
};

struct ExplainedPlace {
  std::string name;  ///< empty: the parameter has none
  std::string type;  ///< as in C
  std::uint64_t size = 0;
  std::vector<PassedPart> parts;  ///< none: nothing is passed for it
  bool by_address = false;        ///< what is passed is its address
};

struct ExplainedPassing {
  std::string function;  ///< as it is declared
  const abi::Convention* convention = nullptr;
  std::vector<ExplainedPlace> arguments;
  ExplainedPlace result;  ///< without a type: it returns nothing
  std::string hidden;     ///< where the address of memory for the result is passed; empty: there is none
  bool variadic = false;
  unsigned vectors = 0;        ///< vector registers that are used
  std::uint64_t stack = 0;     ///< bytes of arguments on the stack
  std::uint64_t released = 0;  ///< bytes that the function takes off the stack, beside the return address
  struct Slot {
    std::uint64_t offset = 0;  ///< bytes from the stack pointer at the first instruction
    std::string what;
  };
  std::vector<Slot> slots;  ///< from above
};

/// Errors (Fault::usage): the declaration cannot be read; the convention's way with a type is not known.
Result<ExplainedPassing> explain_passing(std::string_view declaration, const abi::Convention& convention);
/// Of a function of a file with debug information, by the convention of System V. Errors: the file cannot be used; no
/// such function, or nothing says what it takes (Fault::usage).
Result<ExplainedPassing> explain_passing(const std::string& file, std::string_view function);

}  // namespace deeptrace::study
