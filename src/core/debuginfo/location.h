// Location expressions: where a variable lies, or what it is, in a given state (DWARF 5, sections 2.5 and 2.6).
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "debuginfo/debug_info.h"

namespace deeptrace::debuginfo {

/// A part of a variable, or all of it.
struct Piece {
  enum class Kind : std::uint8_t {
    nowhere,  ///< optimised out
    memory,   ///< at `address`
    reg,      ///< in the register of DWARF number `number`
    value,    ///< nowhere, but known to be `bytes`
    pointer,  ///< nowhere, but known to point to byte `address` of the variable whose entry is `entry`
  };
  Kind kind = Kind::nowhere;
  std::uint64_t address = 0;
  unsigned number = 0;
  std::uint64_t entry = 0;  ///< offset in .debug_info
  std::vector<std::uint8_t> bytes{};
  std::uint64_t bits = 0;        ///< of the variable that this piece holds; 0: all
  std::uint64_t bit_offset = 0;  ///< in the register or memory
  /// The low four bytes are others when a number that was shifted right is taken for one of 32 bits. gcc shifts numbers
  /// of 32 bits in the address's size, whatever lies above them.
  bool depends_on_width = false;
  /// A value that was made of an address in the frame, and not of what lies there. clang leaves out that a value was
  /// spilled.
  bool of_frame_address = false;

  /// True when so many bytes of a value may be meant otherwise.
  [[nodiscard]] bool is_doubtful(std::uint64_t size) const;
};

/// What expressions ask of a state. Nothing is an answer that makes the result unknown.
class LocationContext {
 public:
  virtual ~LocationContext() = default;
  /// A register's value by its DWARF number.
  [[nodiscard]] virtual std::optional<std::uint64_t> reg(unsigned number) = 0;
  virtual bool read(std::uint64_t address, std::span<std::uint8_t> into) = 0;
  /// What DW_AT_frame_base of the function gives.
  [[nodiscard]] virtual std::optional<std::uint64_t> frame_base() { return std::nullopt; }
  [[nodiscard]] virtual std::optional<std::uint64_t> cfa() { return std::nullopt; }
  /// The address of a thread's own variable, by its offset in the module's block.
  [[nodiscard]] virtual std::optional<std::uint64_t> thread_address(std::uint64_t) { return std::nullopt; }
  /// What the expression gave when the function was entered.
  [[nodiscard]] virtual std::optional<std::uint64_t> at_entry(Bytes) { return std::nullopt; }
  /// What was passed for the parameter whose entry lies at an offset in .debug_info.
  [[nodiscard]] virtual std::optional<std::uint64_t> parameter(std::uint64_t) { return std::nullopt; }
};

/// Where the addresses in an expression lie in the running program.
struct ExpressionPlace {
  const DebugInfo* info = nullptr;
  const Unit* unit = nullptr;    ///< null for expressions of frame tables
  std::uint64_t bias = 0;        ///< address in the process minus address in the file
  unsigned pointer_size = 8;     ///< bytes
  unsigned stack_pointer = ~0U;  ///< its DWARF number
};

struct Evaluated {
  std::vector<Piece> pieces;
  std::string unknown;                  ///< why there is no result; empty when there is one
  std::vector<std::uint64_t> operands;  ///< literal ones of sums, differences, products and operations on bits
};

/// The number of the register that an expression says all of a value lies in (DW_OP_reg0 to reg31; DWARF 5,
/// 2.6.1.1.3).
std::optional<unsigned> register_alone(Bytes expression);
/// True for a value that is what a register holds, with nothing added (DW_OP_breg0 to breg31, 0, DW_OP_stack_value).
bool register_content(Bytes expression);

/// Evaluates an expression. `initial` lies on the stack at the start (for frame rules).
Evaluated evaluate(Bytes expression, const ExpressionPlace& place, LocationContext& context,
                   std::optional<std::uint64_t> initial = std::nullopt);

/// An expression whose result is a plain value or address; nothing when it has none, or a doubtful one.
std::optional<std::uint64_t> evaluate_number(Bytes expression, const ExpressionPlace& place, LocationContext& context,
                                             std::optional<std::uint64_t> initial = std::nullopt);

}  // namespace deeptrace::debuginfo
