// Instruction text and sentences as values.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "isa/instruction.h"
#include "isa/operand.h"

namespace deeptrace::isa {

/// A short text in place, without allocation. What does not fit is cut; no instruction's text comes near the size.
class Text {
 public:
  void add(std::string_view text);
  void add(char c) { add(std::string_view(&c, 1)); }
  /// "0x1f"; numbers below 10 without a prefix, since they read the same either way.
  void add_hex(std::uint64_t value);
  /// The same with a minus sign for negative values.
  void add_signed_hex(std::int64_t value);
  [[nodiscard]] std::string_view view() const { return {buffer_, size_}; }

 private:
  char buffer_[160];
  std::size_t size_ = 0;
};

/// The instruction in Intel syntax as GNU as reads it (`.intel_syntax noprefix`), for an instruction at `address`.
/// Direct targets are numbers. An immediate that is a small negative number in its width is written with its sign.
Text intel_text(const Instruction& instruction, std::uint64_t address);

/// One operand in the same syntax.
void add_intel_operand(Text& text, const Instruction& instruction, const Operand& operand, std::uint64_t address);

/// What the instruction does, in a sentence with its operands filled in.
std::string sentence(const Instruction& instruction, std::uint64_t address);

/// The flags of a mask of rflags bits by name: "CF ZF". Empty for none.
std::string flag_names(std::uint64_t flags);

}  // namespace deeptrace::isa
