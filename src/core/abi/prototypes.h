// Functions of the C library: their parameters, and what they do through the pointers that they are given. A table made
// at build time from the installed headers and c_library.prototypes.
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <string_view>
#include <vector>

namespace deeptrace::abi {

struct Prototype {
  enum class Number : std::uint8_t { none, number, real, pointer };
  /// What is done through a pointer.
  enum class Use : std::uint8_t {
    none,   ///< it is no pointer
    place,  ///< the declaration does not say
    text,   ///< characters are read up to a zero
    reads,
    writes,
    both,
    format,      ///< text that says which further arguments are written (printf)
    scan,        ///< the same of arguments that are read (scanf): places to write to
    object,      ///< something that the library made: FILE, DIR, a lock
    call,        ///< it is a function, and is called
    gives_back,  ///< memory that goes back to the allocator
  };
  struct Parameter {
    std::string_view name, type;  ///< as in C
    Number number = Number::none;
    std::uint8_t size = 0;  ///< bytes; 0: a word of the program's
    bool is_signed = false;
    Use use = Use::none;
    std::array<std::uint8_t, 2> extent{};  ///< bytes that are read or written: the parameter of that number, from 1,
                                           ///< times the other one; 0: none
  };

  std::string_view name, result;
  Number result_number = Number::none;
  std::uint8_t result_size = 0;
  bool result_is_signed = false;
  bool variadic = false;
  std::uint8_t count = 0;
  std::array<Parameter, 6> all{};

  [[nodiscard]] std::span<const Parameter> parameters() const { return std::span(all).first(count); }
};

/// Of a function by its symbol's name, without a version; null where the table has none.
const Prototype* prototype(std::string_view name);
/// The name that sources have of a function that the headers give another one: "sscanf" for "__isoc99_sscanf", "printf"
/// for "__printf_chk". Any other as it is.
std::string_view source_name(std::string_view symbol);
/// The whole table, by name.
std::span<const Prototype> prototypes();

/// An argument that a format asks for.
struct FormatArgument {
  Prototype::Number number = Prototype::Number::none;
  Prototype::Use use = Prototype::Use::none;
  std::uint8_t size = 0;  ///< bytes; 0: a word
  bool is_signed = false;
  std::string_view type;  ///< "int", "const char *"
};
/// What the conversions of a format ask for, in order (ISO C, 7.21.6.1 and 7.21.6.2; with POSIX's numbered arguments
/// there is none). `scan`: of scanf, whose arguments are places.
std::vector<FormatArgument> arguments_of_format(std::string_view format, bool scan);

}  // namespace deeptrace::abi
