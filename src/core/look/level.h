// Frames of inlined calls: at one instruction a thread is in the function that was inlined last, in those around it,
// and in the function that holds them all.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

namespace deeptrace::look {

class Modules;

/// The frame that one is in at an instruction.
struct Level {
  unsigned depth = 0;      ///< of inlined calls: 0 is the function itself
  std::string file;        ///< of the line that was reached; empty: as the line table and the calls have it
  std::uint32_t line = 0;  ///< 0: likewise
  /// The inlined function, where the debug information does not count the instruction among its own: of code that the
  /// compiler mixed, some begins a call for another function's instruction.
  std::string inlined{};
};

/// Where an instruction is, seen from one of its frames.
struct Where {
  std::string place;    ///< "main+0x12", of the function that holds the instruction
  std::string inlined;  ///< the inlined function whose frame it is; empty: the function's own
  std::string file;     ///< empty when unknown
  std::uint32_t line = 0;
};

/// `level` nothing: the innermost frame.
Where where_at(Modules& modules, std::uint64_t address, const std::optional<Level>& level);
/// Seen from the innermost frame whose source is not the system's: of code of the library's headers that was inlined
/// the line that uses it.
Where own_where_at(Modules& modules, std::uint64_t address);

}  // namespace deeptrace::look
