#include "arch/register_roles.h"

#include "arch/machine.h"

namespace deeptrace::arch {

RegisterRole role_of(RegisterPart part) {
  constexpr std::string_view kGeneral[16] = {
      "first integer result; for calls of variadic functions, al says how many vector registers hold arguments",
      "fourth integer argument",
      "third integer argument, second integer result",
      "",
      "stack pointer",
      "often the frame's base",
      "second integer argument",
      "first integer argument",
      "fifth integer argument",
      "sixth integer argument",
      "static chain of nested functions",
      "",
      "",
      "",
      "",
      ""};
  constexpr std::string_view kVector[8] = {"first float argument, first float result",
                                           "second float argument, second float result",
                                           "third float argument",
                                           "fourth float argument",
                                           "fifth float argument",
                                           "sixth float argument",
                                           "seventh float argument",
                                           "eighth float argument"};
  const Machine& machine = machine_of(Mode::bits64);
  switch (part.file) {
    case RegisterFile::general: return {kGeneral[part.index & 15], machine.keeps(part.index & 15)};
    case RegisterFile::vector: return {part.index < 8 ? kVector[part.index] : std::string_view{}, false};
    case RegisterFile::x87: return {part.index == 0 ? "long double result" : "", false};
    case RegisterFile::mxcsr: return {"its control bits are kept, its status bits are not", true};
    case RegisterFile::x87_control: return {"", true};
    case RegisterFile::segment: return {part.index == kFs ? "thread-local storage" : "", true};
    default: return {};
  }
}

}  // namespace deeptrace::arch
