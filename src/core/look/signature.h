// What a function is given and gives back: by its debug information, else by the prototype of a library function. And
// its arguments and result, read from where a call put them.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "abi/passing.h"
#include "abi/prototypes.h"
#include "debuginfo/types.h"
#include "inspect/expression.h"
#include "look/argument.h"
#include "look/modules.h"
#include "state/view.h"

namespace deeptrace::look {

/// A parameter, whatever says what it is.
struct Parameter {
  std::string name, type;
  debuginfo::TypeId id = debuginfo::kVoid;
  abi::Prototype::Use use = abi::Prototype::Use::none;
  std::array<std::uint8_t, 2> extent{};  ///< see abi::Prototype::Parameter
};

struct Signature {
  debuginfo::Types* types = nullptr;
  arch::Mode mode = arch::Mode::bits64;
  std::vector<Parameter> parameters;
  debuginfo::TypeId result = debuginfo::kVoid;
  abi::Compiler compiler;
  bool known = false;    ///< false: nothing says what it takes; what the argument registers hold is read then
  bool complete = true;  ///< false: the compiler has left out parameters, and it is not known where the others travel
  const abi::Prototype* prototype = nullptr;
  abi::CallLayout layout;

  /// Works out where they travel.
  void lay_out();
};

/// Why nothing is known where debug information lacks some of them.
inline constexpr std::string_view kPartlyDescribed =
    "the compiler describes only some of the parameters; look at the registers";

/// Of the function that begins at an address of the process; `name` is its symbol's, for prototypes. Types of
/// prototypes are made among those of `home`, which must outlive the signature.
Signature signature_of(Modules& modules, std::uint64_t function, std::string_view name, debuginfo::Types& home,
                       arch::Mode mode);

/// What a call passes, by who sees it: before the call instruction, or at the first instruction of the function.
struct CallSeen {
  const state::StateView& view;
  inspect::Environment& names;         ///< for what values refer to
  std::optional<std::uint64_t> stack;  ///< where arguments on the stack begin; nothing: not known
  inspect::ValueLimits limits{.elements = 4, .depth = 2};
};
/// Those that a format asks for (printf) come after those that are declared.
std::vector<Argument> arguments_of(const Signature& signature, const CallSeen& seen);

/// Where the function has returned. Errors: it returns nothing; what it is in cannot be read.
Result<inspect::Value> result_of(const Signature& signature, const CallSeen& seen);
/// "eax", "xmm0", "rax, rdx", "memory at rax"; empty where nothing is returned.
std::string where_result_is(const Signature& signature);

}  // namespace deeptrace::look
