// What objects of the C++ library stand for: the characters of a std::string, the elements of a std::vector, what a
// std::unique_ptr owns. Their members are the library's own business; this says what a person means by the value.
//
// Knowledge is a table (library_types.cpp) of the layouts of the GNU C++ library. A type that is not in it, or an
// object whose members make no sense (it is not constructed yet), has no other value than its members.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <span>
#include <vector>

#include "base/byte_reader.h"
#include "debuginfo/types.h"

namespace deeptrace::inspect {

/// Reads memory into `into`; false unless all of it could be read.
using MemoryReader = std::function<bool(std::uint64_t address, std::span<std::uint8_t> into)>;

struct LibraryValue {
  enum class Kind : std::uint8_t {
    string,    ///< `count` characters at `address`
    sequence,  ///< `count` elements of `type` one after the other from `address` on; they have an index
    queue,     ///< elements at `places`; they have an index
    elements,  ///< elements at `places`, in the order of iteration
    wrapped,   ///< the one value of `type` at `address`, inside the object itself
    nothing,   ///< it holds no value now
  };
  Kind kind = Kind::nothing;
  debuginfo::TypeId type = debuginfo::kVoid;
  std::uint64_t address = 0;
  std::uint64_t count = 0;
  std::vector<std::uint64_t> places;  ///< at most as many as were asked for

  [[nodiscard]] bool has_index() const { return kind == Kind::sequence || kind == Kind::queue; }
};

/// Of an object of type `id` with these bytes, at `address`. `word` is the size of a pointer in bytes, `most` the
/// number of places wanted. Nothing for types and objects that are not known.
std::optional<LibraryValue> library_value(debuginfo::Types& types, debuginfo::TypeId id, Bytes bytes,
                                          std::uint64_t address, const MemoryReader& memory, std::uint64_t word,
                                          std::uint64_t most);

}  // namespace deeptrace::inspect
