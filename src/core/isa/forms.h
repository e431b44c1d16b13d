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

/// What an instruction uses. What is written in one piece lies in one line of the cache.
struct alignas(64) Usage {
  Operands operands;
  alignas(16) Effects effects;
};

/// Not for use by two threads at once.
class Forms {
 public:
  /// Which way look takes. The plain one is for processors without AVX2, and for tests.
  enum class Way : std::uint8_t { best, plain };
  explicit Forms(Way way = Way::best);

  /// Writes what each instruction of `run` uses into the place of the same number in `into`, which has as many at
  /// least. Items after the larger of their counts and of kUsual hold nothing. Quickest for eight at once or so.
  void look(std::span<const Instruction> run, std::span<Usage> into) {
    if (shuffles_) {
      look_by_shuffle(run, into);
    } else {
      for (std::size_t i = 0; i < run.size(); ++i) look_by_byte(run[i], into[i]);
    }
  }

 private:
  /// Which form an instruction has, and the numbers that it puts in (forms.cpp says where they lie).
  struct Key {
    std::uint64_t shape = 0;
    std::uint32_t row = 0;  ///< with the prefixes
    std::uint64_t numbers = 0;
  };
  static constexpr std::size_t kHead = 16;  ///< bytes of Effects before its registers

  struct alignas(64) Form {
    std::uint64_t shape = 0;
    std::uint32_t row = 0;  ///< 0 only where nothing is kept; marked where the form has more of something than is usual
    std::uint8_t shown = 0, count = 0;                           ///< of operands
    std::int16_t extension = 0;                                  ///< how its immediate becomes a value: see value_of
    std::array<std::uint16_t, Operands::kUsual + 1> controls{};  ///< what operands have added: offsets into kControls
    std::array<std::uint8_t, 8> number_at{};  ///< which of the numbers registers of effects have added
    // What is copied, all numbers taken off.
    std::array<Operand, Operands::kUsual> operands{};
    std::array<RegisterEffect, Effects::kUsual> registers{};
    std::array<std::byte, kHead> head{};  ///< what stands before the registers in Effects
  };
  static_assert(sizeof(Form) == 192);

  static Key key_of(const Instruction& instruction);
  /// The first place of the two that the form may stand in.
  Form& form_of(const Key& key);
  static bool fits(const Form& form, const Key& key) { return form.shape == key.shape && form.row == key.row; }
  void look_by_shuffle(std::span<const Instruction> run, std::span<Usage> into);
  void look_by_byte(const Instruction& instruction, Usage& into);
  /// Where the form does not stand in its place, or is not usable.
  [[gnu::noinline, gnu::cold]] void look_further(const Instruction& instruction, Usage& into);
  static Form made_of(const Instruction& instruction, const Key& key, const Usage& usage);

  static constexpr unsigned kBits = 12;
  std::array<Form, std::size_t(1) << kBits> forms_{};
  bool shuffles_;
};

}  // namespace deeptrace::isa
