// A terminal's screen as its user sees it: what a program writes becomes rows of characters (ECMA-48, and what xterm
// adds to it, as far as terminal libraries use it).
#pragma once

#include <string>
#include <vector>

namespace deeptrace::tests {

class Screen {
 public:
  Screen(std::size_t rows, std::size_t columns) { resize(rows, columns); }
  void resize(std::size_t rows, std::size_t columns);
  void feed(const std::string& bytes);
  /// A row without the blanks at its end; rows count from 0.
  [[nodiscard]] std::string row(std::size_t number) const;
  /// All rows, with line ends.
  [[nodiscard]] std::string text() const;
  /// The rows of which any character is reversed.
  [[nodiscard]] std::vector<std::string> reversed() const;

 private:
  struct Cell {
    std::string character = " ";
    bool reversed = false;
  };
  using Row = std::vector<Cell>;

  bool take();
  void control(const std::vector<unsigned>& numbers, char what, bool is_private);
  void put(const std::string& character);
  void down();
  void erase(std::size_t row, std::size_t from, std::size_t to);

  std::vector<Row> rows_;
  std::size_t row_ = 0, column_ = 0, saved_row_ = 0, saved_column_ = 0, top_ = 0, bottom_ = 0, columns_ = 0;
  bool reverse_ = false;
  std::string waiting_;  ///< bytes of a sequence that has not ended
  std::string last_;     ///< the character that was put last, for repetitions
};

}  // namespace deeptrace::tests
