// Operands and effects for those who ask for those of many instructions.
//
// Instructions of one form (row, prefixes, sizes, shape of the address) have the same operands and effects but for
// register numbers, displacement and immediate. Forms keeps what it has worked out of a form and puts the numbers in,
// without a branch that depends on them. The answers are those of operands_of and effects_of. No allocation: the object
// is large, and who makes it decides where it lies.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "isa/effects.h"

namespace deeptrace::isa {

/// Not for use by two threads at once.
class Forms {
 public:
  /// Which way look takes. The plain one is for processors without SSSE3, and for tests.
  enum class Way : std::uint8_t { best, plain };
  explicit Forms(Way way = Way::best);

  /// Writes both; items behind the larger of their counts and of kUsual hold nothing.
  void look(const Instruction& instruction, Operands& operands, Effects& effects) {
    if (shuffles_) {
      look_by_shuffle(instruction, operands, effects);
    } else {
      look_by_byte(instruction, operands, effects);
    }
  }

 private:
  /// Which form an instruction has, and the numbers that it puts in (forms.cpp says where they lie).
  struct Key {
    std::uint64_t shape = 0;
    std::uint32_t row = 0;  ///< with the prefixes
    std::uint64_t numbers = 0;
  };
  static constexpr std::size_t kRegisters = Operands::kUsual + Effects::kUsual;
  static constexpr std::size_t kEffectsSize = offsetof(Effects, registers) + Effects::kUsual * sizeof(RegisterEffect);

  struct alignas(64) Form {
    std::uint64_t shape = 0;
    std::uint32_t row = 0;  ///< 0 only where nothing is kept
    std::uint8_t shown = 0;
    std::uint8_t count = 0;                               ///< of operands; kTooMany: more of something than is usual
    std::uint8_t immediate = 0;                           ///< how it is extended: an index into kExtensions
    std::array<std::uint8_t, Operands::kUsual> values{};  ///< what the address or value has added: into kValues
    std::array<std::uint8_t, kRegisters> number_at{};     ///< which of the numbers each register has added
    // What is copied, all numbers taken off.
    std::array<Operand, Operands::kUsual> operands{};
    std::array<std::byte, kEffectsSize> effects{};  ///< the front of Effects
  };
  static_assert(sizeof(Form) == 192);

  static Key key_of(const Instruction& instruction);
  /// The first place of the two that the form may stand in.
  Form& form_of(const Key& key);
  static bool fits(const Form& form, const Key& key) { return form.shape == key.shape && form.row == key.row; }
  void look_by_shuffle(const Instruction& instruction, Operands& operands, Effects& effects);
  void look_by_byte(const Instruction& instruction, Operands& operands, Effects& effects);
  /// Where the form does not stand in its place, or is not usable.
  [[gnu::noinline, gnu::cold]] void look_further(const Instruction& instruction, Operands& operands, Effects& effects);
  static Form made_of(const Instruction& instruction, const Key& key, const Operands& operands, const Effects& effects);

  static constexpr unsigned kBits = 12;
  std::array<Form, std::size_t(1) << kBits> forms_{};
  bool shuffles_;
};

}  // namespace deeptrace::isa
