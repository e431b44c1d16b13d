// The variables that symbols name: where each begins and how far it reaches.
//
// A compiler's symbol says its size. Hand-written assembly gives neither type nor size: such a variable reaches to the
// next symbol, or to the end of its section. NASM's debug information (-g) gives every label of data the size of its
// first element alone: that is believed for the element, not for the extent.
#pragma once

#include <cstdint>
#include <string_view>
#include <vector>

#include "base/address_range.h"

namespace deeptrace::program {

class Program;

struct DataSymbol {
  std::string_view symbol;    ///< the linker's name
  std::uint64_t address = 0;  ///< in the file; of a thread's own variable in the initial image of such variables
  std::uint64_t size = 0;     ///< bytes; 0 where nothing says it
  unsigned element = 0;       ///< bytes of one element, where the assembler says so; 0: not known
  bool inferred = false;      ///< the size is the room up to what follows
  bool in_thread = false;     ///< each thread has its own
  bool among_code = false;    ///< it stands in a section of code
  std::uint32_t section = 0;  ///< index

  [[nodiscard]] AddressRange range() const { return {address, address + size}; }
};

/// Those in sections of data, by address; of several at one address the one with the best name comes last. Labels that
/// linkers make (C11, 7.1.3: reserved names) get no room.
std::vector<DataSymbol> find_data_symbols(const Program& program);

/// Labels of data that an assembly program keeps among its code (program/code_scan.h), by address.
std::vector<DataSymbol> find_data_among_code(const Program& program);

/// Where the initial image of threads' own variables lies; empty when there are none.
AddressRange thread_storage(const Program& program);

}  // namespace deeptrace::program
