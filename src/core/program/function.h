// Functions, and how they became known.
#pragma once

#include <cstdint>
#include <string_view>

#include "base/address_range.h"
#include "program/lazy_name.h"

namespace deeptrace::program {

struct Function {
  enum class Origin : std::uint8_t {
    symbol,     ///< a symbol names it
    plt,        ///< a PLT stub, named after the function that it goes to
    recovered,  ///< no symbol names it; unwind tables, calls or the code itself tell where it lies
    section,    ///< code that nothing else covers, named after its section
  };
  LazyName name;  ///< C++ names demangled
  Origin origin = Origin::symbol;
  bool typed = false;         ///< its symbol says that it is a function, as compilers' symbols do
  std::uint32_t section = 0;  ///< index
  std::uint64_t address = 0;
  std::uint64_t size = 0;  ///< bytes

  /// As in the file; empty for other origins.
  [[nodiscard]] std::string_view symbol() const {
    return origin == Origin::symbol ? name.symbol() : std::string_view{};
  }
  /// True for a part of a function that a compiler put elsewhere, as it is seldom run.
  [[nodiscard]] bool is_cold_part() const { return symbol().ends_with(".cold"); }
  [[nodiscard]] AddressRange range() const { return {address, address + size}; }
};

/// A symbol inside a function (`loop:` in assembly).
struct Label {
  std::uint64_t address = 0;
  std::string_view name;
};

}  // namespace deeptrace::program
