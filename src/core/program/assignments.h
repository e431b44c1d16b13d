// Which statements of a C or C++ source file may change a variable between two of its lines, by the file's text.
//
// Compilers leave out of a variable's locations that a statement changed it, where nothing but somebody who looks would
// see it: the old value then stands there as if it were still true. The text says that the statement is there. What is
// hidden in macros, done through a reference or reached by goto is not seen.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace deeptrace::program {

class Assignments {
 public:
  /// Reads a whole file; keeps what it says, not the text.
  explicit Assignments(std::string_view text);

  /// A variable's stay at a value: got on line `from`, or before the function's first (0), looked at on line `here`.
  struct Stay {
    std::uint32_t declared = 0;  ///< the line of the variable's declaration
    std::uint32_t from = 0, here = 0;
  };
  struct Change {
    std::uint32_t line = 0;
    bool element = false;         ///< of an element alone: of a pointer it changes what that points to
    bool in_loop_before = false;  ///< in a loop that the place which is looked at stands outside of
    friend bool operator==(const Change&, const Change&) = default;
  };
  /// The statements that may have changed the variable in between: those between both lines, and those in a loop around
  /// `here` that `from` lies before. Not those whose way leads elsewhere: into a return, round an else, out of a
  /// switch.
  [[nodiscard]] std::vector<Change> between(std::string_view name, const Stay& stay) const;
  /// True when a statement takes the variable's address, in the block of line `here` that its declaration belongs to.
  [[nodiscard]] bool takes_address(std::string_view name, std::uint32_t declared, std::uint32_t here) const;

 private:
  struct Lines {
    std::uint32_t from = 0, to = 0;
    [[nodiscard]] bool holds(std::uint32_t line) const { return from <= line && line <= to; }
    auto operator<=>(const Lines&) const = default;
  };
  struct Block {
    Lines lines;
    Lines other;           ///< of the else after it; 0: none
    bool returns = false;  ///< its last statement is a return or a throw
    bool leaves = false;   ///< the statements after a case label: the last one leaves the switch
    std::uint32_t around = 0;
  };
  enum class Does : std::uint8_t { declare, change, change_element, take_address };
  /// What is done to a name somewhere.
  struct Mention {
    std::string name;
    std::uint32_t line = 0;
    std::uint32_t block = 0;
    Does does = Does::change;
  };
  class Reader;

  [[nodiscard]] std::span<const Mention> mentions_of(std::string_view name, Lines within) const;
  [[nodiscard]] bool means(const Mention& one, std::uint32_t declared) const;
  [[nodiscard]] bool leads_to(const Mention& one, std::uint32_t here) const;

  std::vector<Block> blocks_;  ///< the first is the file
  std::vector<Lines> loops_;
  std::vector<Mention> mentions_;  ///< by name, then by line
};

}  // namespace deeptrace::program
