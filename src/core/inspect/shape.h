// Shapes: how bytes of no known type are read when a person says so (`u16`, `i32`, `f64`, `string` …).
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace deeptrace::inspect {

struct Shape {
  enum class Kind : std::uint8_t {
    unsigned_integer,
    signed_integer,
    integer,  ///< nothing says whether it has a sign; no name stands for it
    floating,
    pointer,
    string,
    bytes
  };
  Kind kind = Kind::bytes;
  unsigned size = 1;  ///< bytes of one element
};

/// u8 … u64, i8 … i64, f32, f64, f80, ptr, string, bytes; nothing for other words. `pointer_size` is in bytes.
std::optional<Shape> shape_named(std::string_view name, unsigned pointer_size);

/// The names, for messages.
std::string_view shape_names();

}  // namespace deeptrace::inspect
