// A half-open range of addresses.
#pragma once

#include <cstdint>

namespace deeptrace {

struct AddressRange {
  std::uint64_t from = 0;
  std::uint64_t to = 0;  ///< past the last byte
  [[nodiscard]] bool holds(std::uint64_t address) const { return address >= from && address < to; }
  [[nodiscard]] std::uint64_t size() const { return to - from; }
  bool operator==(const AddressRange&) const = default;
};

}  // namespace deeptrace
