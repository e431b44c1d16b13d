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
#include <string>
#include <vector>

#include "base/byte_reader.h"
#include "debuginfo/types.h"

namespace deeptrace::inspect {

/// Reads memory into `into`; false unless all of it could be read.
using MemoryReader = std::function<bool(std::uint64_t address, std::span<std::uint8_t> into)>;

/// What finding asks of the program.
struct LibraryContext {
  MemoryReader memory;
  std::function<std::string(std::uint64_t address)> name_of{};  ///< of a function; may be empty
  std::uint64_t word = 8;                                       ///< bytes of a pointer
  std::uint64_t most = 0;                                       ///< number of places wanted
};

struct LibraryValue {
  enum class Kind : std::uint8_t {
    string,    ///< `count` characters of `type` at `address`
    sequence,  ///< `count` elements of `type` one after the other from `address` on; they have an index
    queue,     ///< elements at `places`; they have an index
    elements,  ///< elements at `places`, in the order of iteration
    tuple,     ///< values of different types at `places`, of `types`; they have an index
    bits,      ///< `count` truth values, a bit each, from bit `bit` of the byte at `address` on; they have an index
    wrapped,   ///< the one value of `type` at `address`, inside the object itself
    owner,     ///< the same: a pointer that owns what it points to; see `owners`
    refers,    ///< to the one value of `type` at `address`, which lies elsewhere
    past_end,  ///< an iterator that refers to no element
    calls,     ///< the function at `address`, which is called `name`
    state,     ///< in `name`: "free", "locked by thread id 4711"
    nothing,   ///< it holds no value now
  };
  Kind kind = Kind::nothing;
  debuginfo::TypeId type = debuginfo::kVoid;
  std::uint64_t address = 0;
  std::uint64_t count = 0;
  std::vector<std::uint64_t> places{};  ///< at most as many as were asked for
  std::vector<debuginfo::TypeId> types{};
  unsigned bit = 0;
  std::string name{};  ///< of `wrapped` the unit, of `refers` what it is besides; of others see `kind`
  /// Of an owner that shares: how many own the same object, and how many more watch it (std::weak_ptr).
  std::optional<std::uint64_t> owners{}, watchers{};

  [[nodiscard]] bool has_index() const {
    return kind == Kind::string || kind == Kind::sequence || kind == Kind::queue || kind == Kind::tuple ||
           kind == Kind::bits;
  }
  [[nodiscard]] bool is_inside() const { return kind == Kind::wrapped || kind == Kind::owner; }
  [[nodiscard]] bool lies_apart() const { return kind == Kind::queue || kind == Kind::elements || kind == Kind::tuple; }
};

/// Of an object of type `id` with these bytes, at `address`. Nothing for types and objects that are not known.
std::optional<LibraryValue> library_value(debuginfo::Types& types, debuginfo::TypeId id, Bytes bytes,
                                          std::uint64_t address, const LibraryContext& context);

}  // namespace deeptrace::inspect
