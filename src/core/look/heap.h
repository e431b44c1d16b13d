// What the allocator's own records say of an address: the GNU C library's heap of the main thread (glibc, malloc.c:
// chunks with their sizes one after the other up to the top one, and lists of freed ones in the thread cache).
#pragma once

#include <cstdint>
#include <optional>

#include "state/target.h"

namespace deeptrace::look {

struct HeapPlace {
  enum class State : std::uint8_t {
    unknown,  ///< not on that heap, or its records do not say
    in_use,   ///< the records do not have it as freed; small chunks may lie in lists that are not found
    freed,    ///< the records prove it
    unused,   ///< in the top chunk, which was not given out
  };
  State state = State::unknown;
  std::uint64_t start = 0;  ///< of the memory that malloc gave for it
  std::uint64_t size = 0;   ///< bytes that can be used there
};

/// A word in freed memory that holds a value: what a program has that used it after giving it back. Its address;
/// nothing where there is none.
std::optional<std::uint64_t> freed_word(const state::Target& target, const state::StateView& view, std::uint64_t value);

HeapPlace heap_place(const state::Target& target, const state::StateView& view, std::uint64_t address);

}  // namespace deeptrace::look
