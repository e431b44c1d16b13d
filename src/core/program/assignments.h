// Which statements of a C or C++ source file may change a variable between two of its lines, by the file's text.
//
// Debug information of optimised code may leave out that a statement changed a variable; the text says that the
// statement is there. Changes in macros of other files, through references and by way of goto are not seen.
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
  /// Reads a whole file.
  explicit Assignments(std::string text);
  Assignments(Assignments&&) = delete;  // views of the text

  /// All of them, the last one too.
  struct Lines {
    std::uint32_t from = 0, to = 0;
    [[nodiscard]] bool holds(std::uint32_t line) const { return from <= line && line <= to; }
    auto operator<=>(const Lines&) const = default;
  };
  /// From the line where a variable got a value to the line where it is looked at.
  struct Stretch {
    std::uint32_t declared = 0;  ///< the line of the variable's declaration
    std::uint32_t from = 0;      ///< 0: before the function's first line
    std::uint32_t here = 0;
  };
  struct Change {
    std::uint32_t line = 0;
    bool element = false;         ///< of an element alone: of a pointer it changes what that points to
    bool in_loop_before = false;  ///< in a loop that the place which is looked at stands outside of
    bool certain = false;         ///< control comes by it on its way to that place, if nothing jumps past it
    friend bool operator==(const Change&, const Change&) = default;
  };
  /// The statements that may have changed the variable on that stretch: those between both lines, and those in a loop
  /// around `here` that begins after `from`. Not those that cannot lead to `here`: a return follows, `here` is in the
  /// other branch, or in another case of the switch.
  [[nodiscard]] std::vector<Change> between(std::string_view name, const Stretch& stretch) const;
  /// The same of what statements write through pointers, whatever those point to.
  [[nodiscard]] std::vector<Change> through_pointers(const Stretch& stretch) const;
  /// The changes of both on lines from `first` to before `end`, the initialiser on the line of the declaration among
  /// them; nothing where there are no two of which one can follow the other. With `pointers`, what statements write
  /// through pointers counts.
  struct Two {
    std::uint32_t earlier = 0, later = 0;  ///< lines
  };
  [[nodiscard]] std::optional<Two> two_in(std::string_view name, std::uint32_t declared, std::uint32_t first,
                                          std::uint32_t end, bool pointers) const;
  /// What the statements name and which numbers they have that give the variable a value on its way to line `here`.
  struct Words {
    std::vector<std::uint64_t> numbers;
    std::vector<std::string_view> names;  ///< the views hold as long as the object
  };
  [[nodiscard]] Words words_for(std::string_view name, std::uint32_t declared, std::uint32_t here) const;
  /// The numbers in the statements of a line that give something to a variable.
  [[nodiscard]] std::vector<std::uint64_t> numbers_on(std::uint32_t line) const;
  /// A statement that gives a variable the value of an expression.
  struct Step {
    std::uint32_t line = 0;
    std::string_view value;  ///< the expression, of names, their addresses, numbers and operators
    std::string_view sign;   ///< "+": it is added to what the variable is; empty: the expression is all
    bool certain = false;    ///< control comes by it; else it may
    bool uses_itself = false;
  };
  struct Way {
    bool from_start = false;    ///< it begins with the value that a parameter has from the call
    std::vector<Step> steps{};  ///< in the order of the text
    std::uint32_t mixed = 0;    ///< not 0: statements did it that cannot be followed; the line of the last
    bool counted = false;       ///< those, after the first, add or subtract a number
    bool repeated = false;      ///< some of those stand in a loop that may have come by them
    bool addressed = false;     ///< others may have changed it by its address
  };
  /// The statements that gave a variable, which may be a parameter, the value that it has where control comes to the
  /// first of some lines; nothing where the text does not tell which those are, and where one of these lines changes
  /// it.
  [[nodiscard]] std::optional<Way> way_to(std::string_view name, std::uint32_t declared, bool parameter,
                                          Lines here) const;
  /// True when nothing changed the variable from the statement of line `from` to the lines `here`, nor in these. In a
  /// call on line `from` itself: when nobody has the variable's address.
  [[nodiscard]] bool is_kept(std::string_view name, std::uint32_t declared, std::uint32_t from, Lines here) const;
  /// The arguments of the only call of a function, by its name, on a line; one that has more than names, numbers and
  /// operators in it is empty. Nothing where the line has no such call, or several.
  [[nodiscard]] std::vector<std::string_view> passed_on(std::uint32_t line, std::string_view function) const;
  /// The innermost loop around line `here` that changes the variable in its head; nothing where none does.
  [[nodiscard]] std::optional<Lines> counting_loop(std::string_view name, std::uint32_t declared,
                                                   std::uint32_t here) const;
  /// The loops around line `here`, each of whose passes changes the variable after that line, or in the loop's head.
  struct Pass {
    Lines loop;
    std::uint32_t line = 0;  ///< of the change
  };
  [[nodiscard]] std::vector<Pass> changed_in_passes(std::string_view name, std::uint32_t declared,
                                                    std::uint32_t here) const;
  /// True when a statement takes the variable's address, in the outermost block around line `here` that begins at the
  /// declaration or after it.
  [[nodiscard]] bool takes_address(std::string_view name, std::uint32_t declared, std::uint32_t here) const;

 private:
  struct Block {
    Lines lines;
    Lines other;           ///< of the else branch after it; 0: none
    bool returns = false;  ///< its last statement is a return or a throw
    bool leaves = false;   ///< statements after a case label, the last of which leaves the switch
    std::uint32_t around = 0;
  };
  enum class Does : std::uint8_t { declare, change, change_element, take_address };
  /// What is done to a name somewhere.
  struct Mention {
    std::string name;
    std::uint32_t line = 0;
    std::uint32_t block = 0;
    Does does = Does::change;
    std::uint32_t words = 0, words_end = 0;  ///< of the value that it gets: in words_
    bool guarded = false;                    ///< in a branch or a loop that has no braces
    bool is_static = false;                  ///< declared so, in a function: other calls change it, too
    std::string_view value, sign;            ///< see Step
  };
  struct Word {
    std::uint32_t name = kNumber;  ///< in names_
    std::uint64_t number = 0;
    static constexpr std::uint32_t kNumber = ~std::uint32_t(0);
  };
  struct Call {
    std::uint32_t line = 0;
    std::string_view function;
    std::vector<std::string_view> passed;
  };
  class Reader;

  [[nodiscard]] std::span<const Mention> mentions_of(std::string_view name, Lines within) const;
  [[nodiscard]] bool means(const Mention& one, std::uint32_t declared) const;
  [[nodiscard]] bool leads_to(const Mention& one, std::uint32_t here) const;

  [[nodiscard]] bool uses_itself(const Mention& one) const;
  [[nodiscard]] bool is_static(std::string_view name, std::uint32_t declared) const;
  [[nodiscard]] std::uint32_t end_of_function(std::uint32_t declared, std::uint32_t here) const;

  std::string text_;
  std::vector<Block> blocks_;  ///< the first is the file
  std::vector<Lines> loops_;
  std::vector<std::uint32_t> unfollowed_;  ///< lines with a goto, or a lambda that changes what is around it
  std::vector<Mention> mentions_;          ///< by name, then by line
  std::vector<Call> calls_;                ///< by line
  std::vector<Word> words_;
  std::vector<std::string> names_;  ///< each once
};

}  // namespace deeptrace::program
