#include "abi/register_roles.h"

namespace deeptrace::abi {

RegisterRole role_of(isa::RegisterPart part) {
  using isa::RegisterFile;
  constexpr RegisterRole kGeneral[16] = {
      {"first integer result; for calls of variadic functions, al says how many vector "
       "registers hold arguments",
       false},
      {"fourth integer argument", false},
      {"third integer argument, second integer result", false},
      {"", true},
      {"stack pointer", true},
      {"often the frame's base", true},
      {"second integer argument", false},
      {"first integer argument", false},
      {"fifth integer argument", false},
      {"sixth integer argument", false},
      {"static chain of nested functions", false},
      {"", false},
      {"", true},
      {"", true},
      {"", true},
      {"", true}};
  constexpr std::string_view kVector[8] = {"first float argument, first float result",
                                           "second float argument, second float result",
                                           "third float argument",
                                           "fourth float argument",
                                           "fifth float argument",
                                           "sixth float argument",
                                           "seventh float argument",
                                           "eighth float argument"};
  switch (part.file) {
    case RegisterFile::general: return kGeneral[part.index & 15];
    case RegisterFile::vector: return {part.index < 8 ? kVector[part.index] : std::string_view{}, false};
    case RegisterFile::x87: return {part.index == 0 ? "long double result" : "", false};
    case RegisterFile::mxcsr: return {"its control bits are kept, its status bits are not", true};
    case RegisterFile::x87_control: return {"", true};
    case RegisterFile::segment: return {part.index == isa::kFs ? "thread-local storage" : "", true};
    default: return {};
  }
}

}  // namespace deeptrace::abi
