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
  void add(std::string_view text) {
    const std::size_t size = text.size() < sizeof buffer_ - size_ ? text.size() : sizeof buffer_ - size_;
    for (std::size_t i = 0; i < size; ++i) buffer_[size_ + i] = text[i];  // short: a call would cost more
    size_ += size;
  }
  void add(char c) {
    if (size_ < sizeof buffer_) buffer_[size_++] = c;
  }
  /// "0x1f"; numbers below 10 without a prefix, since they read the same either way.
  void add_hex(std::uint64_t value);
  /// Hexadecimal digits without a prefix.
  void add_digits(std::uint64_t value);
  /// add_hex with a minus sign for negative values.
  void add_signed_hex(std::int64_t value);
  [[nodiscard]] std::string_view view() const { return {buffer_, size_}; }

 private:
  char buffer_[256];
  std::size_t size_ = 0;
};

/// The two notations that GNU as reads: `.intel_syntax noprefix` (destination first, sizes at memory operands) and
/// `.att_syntax` (destination last, sizes at the mnemonic).
enum class Syntax : std::uint8_t { intel, att };

/// Words that stand in place of numbers: names of labels and symbols. Empty ones leave the number.
struct Names {
  std::string_view target;        ///< of a direct jump or call
  std::string_view displacement;  ///< of the memory operand that ModRM encodes, or the absolute address
  std::string_view immediate;     ///< of the first immediate
};

/// The instruction as GNU as reads it, for an instruction at `address`. Direct targets are numbers. Prefixes without
/// effect are left out. An immediate that is a small negative number in its width is written with its sign.
Text text_of(const Instruction& instruction, std::uint64_t address, Syntax syntax, const Names& names = {});

/// The same without the words of its prefixes, for callers that write them themselves (isa/assembler.h).
void add_bare_text(Text& text, const Instruction& instruction, std::uint64_t address, Syntax syntax,
                   const Names& names);

/// One operand in the same syntax.
void add_operand(Text& text, const Instruction& instruction, const Operand& operand, std::uint64_t address,
                 Syntax syntax, const Names& names = {});

/// A pattern with what `piece` gives for each key in place of "{key}"; keys are single characters.
template <class Piece>
std::string filled(std::string_view pattern, Piece piece) {
  std::string result;
  for (std::size_t i = 0; i < pattern.size(); ++i) {
    if (pattern[i] == '{' && i + 2 < pattern.size() && pattern[i + 2] == '}') {
      result += piece(pattern[i + 1]);
      i += 2;
    } else {
      result += pattern[i];
    }
  }
  return result;
}

/// What the instruction does, in a sentence with its operands filled in.
std::string sentence(const Instruction& instruction, std::uint64_t address);

/// The same of a row in general: "the first operand" and so on in place of operands, the whole registers' names for
/// implied ones.
std::string general_sentence(const Row& row);

/// What people get wrong with an instruction, as far as it concerns this one; may be empty. In the table a part of a
/// note is written as {64:…} where it is about 64-bit code, {32:…} about 32-bit code, {reg:…} about a first operand
/// that is a register, {64 reg:…} about both.
std::string note_of(const Instruction& instruction);
/// The same of an operation in general: what concerns 64-bit code and registers is in it.
std::string general_note(const Operation& operation);

/// The flags of a mask of rflags bits by name: "CF ZF". Empty for none.
std::string flag_names(std::uint64_t flags);

}  // namespace deeptrace::isa
