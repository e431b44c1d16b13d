// Instruction texts for those who write many.
//
// What a text is without its numbers depends on little more than opcode and registers, and code says the same over and
// over: Texts keeps such patterns and puts the numbers in. The answers are those of text_of.
#pragma once

#include <array>
#include <cstdint>
#include <string_view>
#include <vector>

#include "isa/text.h"

namespace deeptrace::isa {

/// A number in a text: which field of the instruction it is, and how it is written.
struct TextNumber {
  enum class Form : std::uint8_t {
    target,       ///< of a direct branch
    offset,       ///< after a register: "+0x10", "-8"; nothing when it is 0
    full_offset,  ///< the same, 0 too
    bare_offset,  ///< before the parenthesis: "0x10", "-8"; nothing when it is 0
    full_bare_offset,
    address,  ///< an absolute address, cut to the address size
    immediate,
  };
  Form form = Form::immediate;
  std::uint8_t at = 0;         ///< characters of the text before it
  std::uint8_t shift = 0;      ///< immediate: where it lies in Instruction::immediate, bits
  std::uint8_t bytes = 0;      ///< immediate: of its field; address: 0 when it is the displacement
  std::uint8_t width = 0;      ///< immediate: bits of the operand
  bool sign_extended = false;  ///< immediate
};

/// Characters of a pattern, and of what follows a number in it, at most; each is copied in one piece.
inline constexpr std::size_t kLongestPattern = 56, kLongestTail = 32;

/// A text without its numbers.
struct TextPattern {
  std::array<char, kLongestPattern + kLongestTail> text{};
  std::array<TextNumber, 3> numbers;
  std::uint8_t size = 0;   ///< characters of `text`
  std::uint8_t count = 0;  ///< of numbers
};

/// The pattern of an instruction's text. False where there is none: a register stands in an immediate, or the text is
/// too long.
bool pattern_of(const Instruction& instruction, Syntax syntax, TextPattern& pattern);

/// Not for use by two threads at once.
class Texts {
 public:
  explicit Texts(Syntax syntax) : syntax_(syntax) {}

  /// Has memory fetch what the text of an instruction will need; changes no answer.
  void prepare(const Instruction& instruction) const;

  /// As text_of; the view holds until the next call.
  std::string_view text_of(const Instruction& instruction, std::uint64_t address);

 private:
  struct Entry {
    std::uint64_t registers = 0;  ///< ModRM, SIB, REX and what else the pattern depends on
    std::uint32_t row = 0;        ///< with the prefixes; 0 only where nothing is kept
    bool usable = false;
    TextPattern pattern;
  };
  static constexpr unsigned kBits = 12;  // 19 of 20 instructions of a large library find their pattern

  /// What a pattern depends on, and where its pair of entries stands.
  struct Key {
    std::uint64_t registers = 0;
    std::uint32_t row = 0;
    std::size_t place = 0;
  };
  static Key key_of(const Instruction& instruction);
  const Entry& entry_of(const Instruction& instruction);

  Syntax syntax_;
  std::vector<Entry> entries_ = std::vector<Entry>(std::size_t(1) << kBits);
  unsigned last_written_ = 0;     ///< which of a pair
  Text text_;                     ///< of an instruction without a pattern
  std::array<char, 512> line_{};  ///< what is copied in whole pieces may stand over its end
};

}  // namespace deeptrace::isa
