// What the arguments of system calls are: names and types, from the tables linux.shapes and linux.variants. Numbers and
// names of the calls are in abi/system_calls.h, the structures in abi/kernel_types.h, flags in abi/constants.h.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "abi/system_calls.h"

namespace deeptrace::abi {

struct ArgumentShape {
  enum class Kind : std::uint8_t {
    none,  ///< of arguments: not used; of results: 0 or an error
    signed_int,
    unsigned_int,
    signed_long,
    unsigned_long,
    hex,        ///< a number that is a set of bits or a cookie
    low_half,   ///< of a number of 64 bits, for 32-bit programs
    high_half,  ///< the upper half of the one that stands beside it
    size,       ///< a count of bytes
    offset,     ///< in a file
    pid,
    uid,
    gid,
    mode,  ///< permissions, in octal
    device,
    descriptor,
    directory,  ///< a descriptor, or AT_FDCWD
    path,
    string,
    strings,  ///< pointers to text, up to a null pointer
    bytes,
    flags,  ///< a set of constants of group `of`
    one,    ///< one of them
    signal,
    signal_set,
    descriptor_set,
    socket_address,
    wait_status,
    entries,    ///< of a directory
    structure,  ///< `of`, of abi/kernel_types.h
    address,    ///< of memory of which nothing more is known
    depends,    ///< on another argument: see variant()
    never,      ///< of results: the call does not return
  };
  enum class Way : std::uint8_t { value, read, written, both };  ///< by the kernel, through a pointer
  /// How many elements, or bytes of `bytes`, lie where a pointer leads.
  struct Count {
    enum class By : std::uint8_t { one, number, argument, result };
    By by = By::one;
    std::uint32_t number = 0;  ///< of elements; or of the argument that holds the number, from 1
  };

  std::string_view name;
  Kind kind = Kind::none;
  Way way = Way::value;
  std::string_view of{};
  Count count{};
  std::uint8_t by = 0;      ///< of `depends`: the argument that it depends on, from 1
  std::uint8_t within = 0;  ///< of `depends`: another one that says what that one's values mean, from 1; 0: none does

  [[nodiscard]] bool is_pointer() const {
    return way != Way::value || kind == Kind::path || kind == Kind::string || kind == Kind::strings ||
           kind == Kind::address;
  }
  [[nodiscard]] bool is_descriptor() const { return kind == Kind::descriptor || kind == Kind::directory; }
  /// In plain words: "flags (open)", "points to struct stat, which the kernel writes".
  [[nodiscard]] std::string words() const;
};

struct CallShape {
  std::string_view name;
  bool only_32 = false;  ///< the arguments of 32-bit programs
  std::span<const ArgumentShape> arguments;
  ArgumentShape result;
  bool keeps_names = false;  ///< it changes no descriptor and no name of a file, whatever comes of it
  bool may_fail = false;     ///< programs expect that: they ask whether something is there, or tidy up

  /// The kernel writes what arguments point to, or may.
  [[nodiscard]] bool is_written_for() const;
};

/// Of a call in a numbering; null for a name or a number that is not in the tables.
const CallShape* call_shape(std::string_view call, CallTable table);
const CallShape* call_shape(std::uint64_t number, CallTable table);

/// What an argument is that depends on another one, which has `value`, and on what its values mean, by `within`;
/// nothing where the table does not say.
std::optional<ArgumentShape> variant(std::string_view call, std::uint64_t value,
                                     std::optional<std::uint64_t> within = std::nullopt);

}  // namespace deeptrace::abi
