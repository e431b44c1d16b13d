// Frame rules: where at an instruction the caller's registers are to be found (DWARF 5, section 6.4).
//
//   const FrameTable table(elf, debug_elf);
//   if (const auto rule = table.at(address)) …   // rule->cfa, rule->of(7) …
//
// The canonical frame address (CFA) is the value that the stack pointer had before the call pushed the return address.
// Registers go by their DWARF numbers (x86-64 psABI, figure 3.36; i386 psABI, table 2.14).
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <vector>

#include "binary/elf.h"
#include "debuginfo/unwind_table.h"

namespace deeptrace::debuginfo {

struct RegisterRule {
  enum class Kind : std::uint8_t {
    unspecified,       ///< nothing is said: as the calling convention has it
    undefined,         ///< its value is lost
    same,              ///< the caller's value is still in it
    at_offset,         ///< stored at CFA + offset
    value_offset,      ///< it is CFA + offset
    in_register,       ///< it is in register `number`
    expression,        ///< stored at the address that the expression gives
    value_expression,  ///< it is what the expression gives
  };
  Kind kind = Kind::unspecified;
  std::int64_t offset = 0;
  unsigned number = 0;
  Bytes expression;
};

struct FrameRule {
  static constexpr unsigned kRegisters = 34;  ///< beyond these only vector and system registers follow

  AddressRange function;  ///< what the table's entry covers
  bool signal_frame = false;
  unsigned return_register = 16;
  unsigned cfa_register = 0;
  std::int64_t cfa_offset = 0;
  Bytes cfa_expression;  ///< in place of register and offset when not empty
  std::array<RegisterRule, kRegisters> registers;
};

/// Reads .eh_frame of the linked file and .debug_frame of the file with the debug information. Tables are gone over
/// when the first address is asked for.
class FrameTable {
 public:
  FrameTable(const binary::Elf& elf, const binary::Elf& debug) : elf_(elf), debug_(debug) {}
  FrameTable(const FrameTable&) = delete;
  FrameTable& operator=(const FrameTable&) = delete;

  /// The rule for the instruction at an address; nothing where no table covers it or it is damaged.
  [[nodiscard]] std::optional<FrameRule> at(std::uint64_t address);

 private:
  void load();

  const binary::Elf& elf_;
  const binary::Elf& debug_;
  bool loaded_ = false;
  binary::SectionBytes debug_frame_;
  std::vector<UnwindEntry> entries_;  ///< by start
};

}  // namespace deeptrace::debuginfo
