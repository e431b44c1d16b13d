// Numbers in expressions: what a datum is as a number, and arithmetic by the rules of C.
//
// Registers and what is computed from them have no sign; they take part at their width (see expression.h).
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "inspect/expression.h"
#include "inspect/expression_node.h"

namespace deeptrace::inspect {

/// An error in what a person wrote.
Error problem(std::string message);

/// Compilers for these processors have integers of up to 128 bits.
using Wide = unsigned __int128;
using SignedWide = __int128;
inline constexpr unsigned kWideBits = 128;

/// A number with all that decides how it takes part in arithmetic.
struct Number {
  Wide bits = 0;  ///< extended to 128 bits by its sign
  long double real = 0;
  bool floating = false;
  unsigned width = 64;
  bool is_signed = false;
  bool signless = false;
  bool literal = false;
  TypeRef pointer;  ///< the pointer's type, of pointers
};

/// The number that a datum is. Errors: it is no number, or several; its memory cannot be read.
Result<Number> number_in(Datum& datum, Environment& environment);

/// The whole part of a number as an integer of `size` bytes, signed or not. C leaves open what becomes of one that does
/// not fit (ISO C 6.3.1.4): that is an error.
Result<Wide> integer_of(const Number& number, std::size_t size);

/// The lowest `width` bits, extended to 128 by their sign or by zeros.
Wide extended(Wide value, unsigned width, bool by_sign);
/// The lowest 64 bits.
inline std::uint64_t low_word(Wide value) { return static_cast<std::uint64_t>(value); }

/// A computed number of `width` bits; the int that a comparison gives; a double.
Datum integer(Wide value, unsigned width, bool is_signed);
Datum truth(bool holds);
Datum floating(double value);

/// A floating-point value of 4, 8, 10, 12 or 16 bytes, those of 10 and more in the format of the floating-point unit.
long double real_of(Bytes bytes);
/// As floating point, whatever it is.
long double real_value(const Number& number);

/// The result of an operator of two numbers; `node` names its operands in errors.
Result<Datum> arithmetic(const ExpressionNode& node, const Number& a, const Number& b, unsigned word);

/// A literal that cannot be represented, signed or unsigned, at the width of the register or untyped variable that it
/// meets there; nothing where it can, and where C's rules hold.
std::optional<Error> literal_that_does_not_fit(const ExpressionNode& node, const Number& a, const Number& b);

/// The usual arithmetic conversions (C11, 6.3.1.8), by width.
void common_type(const Number& a, const Number& b, unsigned& width, bool& is_signed);

/// Bytes of an address.
unsigned word_of(const Environment& environment);

/// Bytes that a scalar or whole takes in memory; 0 when unknown.
std::uint64_t bytes_of(const Datum& datum);

}  // namespace deeptrace::inspect
