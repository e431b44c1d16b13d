// Values: bytes read by a type or a shape, as a tree that every form of output can show.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "base/byte_reader.h"
#include "base/number.h"
#include "base/seldom.h"
#include "debuginfo/types.h"
#include "inspect/library_types.h"
#include "inspect/shape.h"

namespace deeptrace::inspect {

struct Value {
  enum class Kind : std::uint8_t {
    integer,      ///< `text` has the characters of an untyped one that consists of printable ones
    character,    ///< an integer that stands for a character
    truth,        ///< bool
    floating,     ///< `text` has the shortest decimal that reads back as the same
    enumeration,  ///< `text` has the enumerator, or several joined by " | "; empty when none fits
    pointer,      ///< `text` has the name of what it points to; `pointed_text` the characters there; of one that owns
                  ///< or iterates `parts` has what it points to
    string,       ///< an array of characters: `text` up to the first zero, in UTF-8
    array,        ///< `parts` by index
    aggregate,    ///< `parts` by member
    bytes,        ///< neither type nor shape says more
    nothing,      ///< an object that holds no value now; `text` may say more
    state,        ///< an object that is in a state: `text` says in which
    unknown,      ///< not to be had: `text` says why
    not_set,      ///< a local variable that has no value yet: `text` says so
  };
  Kind kind = Kind::unknown;
  std::string label;  ///< of a member; empty for elements of arrays and for the whole
  std::string type;   ///< as in C or C++; empty when unknown
  std::uint64_t address = 0;
  std::uint64_t size = 0;  ///< bytes; of a bit field those of its storage that hold it
  unsigned bits = 0;       ///< that count
  bool bit_field = false;
  unsigned bit_offset = 0;         ///< of a bit field, from the lowest bit of the byte at `address`
  bool base = false;               ///< the part of a base class
  bool is_signed = false;          ///< the type's own reading of an integer
  std::uint64_t number = 0;        ///< of up to 64 bits, zero-extended
  std::string text, pointed_text;  ///< raw
  struct Remarks {
    std::string unit;     ///< of a number: "ms"
    std::string region;   ///< of a pointer to what has no name: "stack, rsp+8", "heap"
    std::string dynamic;  ///< of a pointer to an object of a class with virtual functions: its own class
    std::optional<std::uint64_t> owners, watchers;  ///< of a shared pointer: see LibraryValue
  };
  Seldom<Remarks> remarks;
  std::vector<std::uint8_t> raw;  ///< of scalars over 64 bits, of text and bytes, in memory order
  std::vector<Value> parts;
  bool from_code = false;   ///< the width of its elements is inferred from the instructions that access them
  std::uint64_t count = 0;  ///< elements of an array, those included that were cut off; characters of a text's array

  [[nodiscard]] std::int64_t signed_number() const { return signed_of(number, bits == 0 ? 64 : bits); }
};

/// Says what a pointer of the given value that stands at `place` points to.
struct Pointed {
  bool known = true;  ///< false: the loader decides the value; `name` says what it will point to
  std::uint64_t value = 0;
  std::string name;         ///< "level_sum", "printf"; empty when nothing is known
  std::string text;         ///< the characters there
  std::string region;       ///< where nothing has a name: "stack, rsp+8", "heap"
  bool is_address = false;  ///< a number of no known type is taken for one
};
/// `characters` says that the type points to characters.
using PointerReader = std::function<Pointed(std::uint64_t place, std::uint64_t value, bool characters)>;

/// Bytes of a value that are nowhere: the compiler keeps only other parts of it.
struct Gap {
  std::uint64_t from = 0, to = 0;  ///< in the value; `to` is the first that is there again
};

struct ValueLimits {
  std::size_t elements = 64;  ///< of each array; the rest is counted only
  int depth = 16;
  bool as_members = false;  ///< objects of the C++ library by their members, not by what they stand for
  MemoryReader memory{};    ///< for what those keep elsewhere; empty: by their members
  unsigned word = 8;        ///< bytes of a pointer; an untyped integer of that size may be one
  std::vector<Gap> gaps{};  ///< in the bytes that are given
};

/// Reads a value of a type from its bytes. Too few bytes give what can be read, and `unknown` for the rest.
Value value_of(debuginfo::Types& types, debuginfo::TypeId type, Bytes bytes, std::uint64_t address,
               const PointerReader& pointers, const ValueLimits& limits = {});

/// The same of an object that lies at `address` in the program's memory: of a class with virtual functions it is read
/// as what it is, which may be more than `type` (inspect/dynamic_type.h).
Value object_of(debuginfo::Types& types, debuginfo::TypeId type, Bytes bytes, std::uint64_t address,
                const PointerReader& pointers, const ValueLimits& limits);

/// Reads bytes in a shape: one element, or an array of as many as fit.
Value value_of(Shape shape, Bytes bytes, std::uint64_t address, const PointerReader& pointers,
               const ValueLimits& limits = {});

/// Makes a pointer of a number of no known type that is an address; false for others.
bool take_for_pointer(Value& value, const PointerReader& pointers);

/// How a variable is read of which nothing but its bytes is known, and perhaps the width of its elements in bytes (0:
/// not known; `said`: by its assembler): 1, 2, 4 or 8 bytes are an integer; more are a string where they read as one,
/// with or without an end mark, else elements of that width, else bytes.
Shape untyped_shape(Bytes bytes, unsigned width = 0, bool said = false);

/// A part of a value that has no parts itself.
struct Field {
  std::string path;  ///< ".control.channel", "[3].level"; empty for a value without parts
  const Value* value = nullptr;
};
/// All of them, in the order of their places. They point into `value`.
std::vector<Field> fields_of(const Value& value);

/// The part of a value that ".member" or "[3]" names, any number of them; null when there is none.
const Value* part_of(const Value& value, std::string_view path);

}  // namespace deeptrace::inspect
