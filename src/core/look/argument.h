// An argument of a call, and a finding: the shapes that everything shows them in.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "abi/prototypes.h"
#include "inspect/value.h"
#include "isa/register.h"

namespace deeptrace::look {

struct Argument {
  std::string name;   ///< of the parameter; empty where nothing has it
  std::string type;   ///< as in C; empty when unknown
  std::string where;  ///< the registers or the place on the stack that it travels in: "rdi", "[rsp+8]"
  std::optional<std::uint64_t>
      stack;  ///< of one on the stack: bytes from where the stack pointer stood before the call
  std::optional<inspect::Value> value;
  std::string unknown;                    ///< why there is no value
  std::optional<isa::RegisterPart> part;  ///< where it travels in one register; nothing: on the stack, at `place`
  std::uint64_t place = 0, bytes = 0;     ///< there: address and bytes
  abi::Prototype::Use use = abi::Prototype::Use::none;
  std::optional<std::uint64_t> extent;  ///< bytes that are read or written through it, where they are known
};

/// A call, by who makes it.
struct CallMade {
  std::uint64_t address = 0;  ///< of the call instruction
  std::uint64_t target = 0;   ///< 0: not known
  std::string function;       ///< what is called; empty when unknown
  bool typed = false;         ///< its parameters are known, by debug information or a prototype
  std::vector<Argument> arguments;
};

struct Finding {
  std::string kind;  ///< one word for programs: "null_pointer"
  std::string text;  ///< a sentence
  std::vector<std::string> evidence;
  std::string function, file;  ///< where it is; empty: where the program stands
  std::uint32_t line = 0;
  std::uint64_t address = 0;
  std::uint64_t call = 0;  ///< number of the row of a system call that it is about; 0: none
  bool note = false;       ///< nothing is broken, but somebody should look
};

}  // namespace deeptrace::look
