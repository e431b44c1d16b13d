// How wide instructions read and write a program's variables: what an array of hand-written assembly, which has no
// type, consists of.
#pragma once

#include <cstdint>
#include <vector>

#include "base/address_range.h"

namespace deeptrace::program {

class Program;

/// How wide an element of a variable is.
struct ElementWidth {
  unsigned bytes = 0;      ///< 0: not known
  bool from_code = false;  ///< inferred from the instructions that access it
};

class AccessWidths {
 public:
  AccessWidths() = default;
  /// Follows all code once (program/references.h); of programs with more than 4 MB of code nothing is known.
  explicit AccessWidths(const Program& program);

  /// The width in bytes (1, 2, 4 or 8) of most accesses inside a range, of those that divide it; of equally many that
  /// of more accesses through registers, as loops make them, then the smallest. 0: none is known.
  [[nodiscard]] unsigned most_often(AddressRange range) const;

 private:
  struct Access {
    std::uint64_t address = 0;
    unsigned bytes = 0;
    bool computed = false;
  };
  std::vector<Access> accesses_;  ///< by address, an entry an instruction
};

}  // namespace deeptrace::program
