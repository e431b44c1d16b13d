#include "screen.h"

#include <algorithm>

namespace deeptrace::tests {

void Screen::resize(std::size_t rows, std::size_t columns) {
  rows_.assign(rows, Row(columns));
  columns_ = columns;
  row_ = column_ = top_ = 0;
  bottom_ = rows - 1;
}

void Screen::feed(const std::string& bytes) {
  waiting_ += bytes;
  while (!waiting_.empty() && take()) {
  }
}

/// Takes one character or sequence off; false when it has not ended yet.
bool Screen::take() {
  const auto first = static_cast<unsigned char>(waiting_[0]);
  if (first != 0x1b) {
    const std::size_t size = first < 0xc0 ? 1 : first < 0xe0 ? 2 : first < 0xf0 ? 3 : 4;
    if (waiting_.size() < size) return false;
    const std::string character = waiting_.substr(0, size);
    waiting_.erase(0, size);
    switch (first) {
      case '\r': column_ = 0; break;
      case '\n': down(); break;
      case '\b': column_ -= column_ == 0 ? 0 : 1; break;
      case '\t': column_ = std::min(columns_ - 1, (column_ / 8 + 1) * 8); break;
      default:
        if (first >= ' ') put(character);
    }
    return true;
  }
  if (waiting_.size() < 2) return false;
  const char kind = waiting_[1];
  if (kind == '(' || kind == ')') {  // a character set
    if (waiting_.size() < 3) return false;
    waiting_.erase(0, 3);
    return true;
  }
  if (kind == ']') {  // a title, up to BEL
    const std::size_t end = waiting_.find('\a');
    if (end == std::string::npos) return false;
    waiting_.erase(0, end + 1);
    return true;
  }
  if (kind != '[') {
    if (kind == '7') saved_row_ = row_, saved_column_ = column_;
    if (kind == '8') row_ = saved_row_, column_ = saved_column_;
    waiting_.erase(0, 2);
    return true;
  }
  const std::size_t end = waiting_.find_first_of("@ABCDEFGHIJKLMNOPQRSTUVWXYZ^_`abcdefghijklmnopqrstuvwxyz", 2);
  if (end == std::string::npos) return false;
  std::vector<unsigned> numbers;
  bool is_private = false, any = false;
  unsigned number = 0;
  for (std::size_t i = 2; i <= end; ++i) {
    const char c = waiting_[i];
    if (c >= '0' && c <= '9') {
      number = number * 10 + static_cast<unsigned>(c - '0');
      any = true;
    } else if (c == ';' || i == end) {
      if (any || c == ';') numbers.push_back(number);
      number = 0;
      any = false;
    } else {
      is_private = true;
    }
  }
  const char what = waiting_[end];
  waiting_.erase(0, end + 1);
  control(numbers, what, is_private);
  return true;
}

void Screen::control(const std::vector<unsigned>& numbers, char what, bool is_private) {
  if (is_private) return;
  const auto number = [&](std::size_t i, unsigned otherwise) {
    return i < numbers.size() && numbers[i] != 0 ? numbers[i] : otherwise;
  };
  const std::size_t count = number(0, 1), last = rows_.size() - 1;
  switch (what) {
    case 'A': row_ -= std::min(row_, count); break;
    case 'B': row_ = std::min(last, row_ + count); break;
    case 'C': column_ = std::min(columns_ - 1, column_ + count); break;
    case 'D': column_ -= std::min(column_, count); break;
    case 'G': column_ = std::min(columns_, count) - 1; break;
    case 'd': row_ = std::min(last, count - 1); break;
    case 'H':
    case 'f':
      row_ = std::min(last, std::size_t(number(0, 1)) - 1);
      column_ = std::min(columns_ - 1, std::size_t(number(1, 1)) - 1);
      break;
    case 'J': {
      const unsigned which = numbers.empty() ? 0 : numbers[0];
      if (which == 0) erase(row_, column_, columns_);
      for (std::size_t i = 0; i <= last; ++i) {
        if (which == 2 || (which == 0 && i > row_) || (which == 1 && i < row_)) erase(i, 0, columns_);
      }
      break;
    }
    case 'K': {
      const unsigned which = numbers.empty() ? 0 : numbers[0];
      erase(row_, which == 0 ? column_ : 0, which == 1 ? column_ + 1 : columns_);
      break;
    }
    case 'X': erase(row_, column_, column_ + count); break;
    case 'P':
    case '@': {
      Row& row = rows_[row_];
      const auto at = row.begin() + static_cast<std::ptrdiff_t>(column_);
      what == 'P' ? void(row.erase(at, at + static_cast<std::ptrdiff_t>(std::min(count, columns_ - column_))))
                  : void(row.insert(at, count, Cell{}));
      row.resize(columns_);
      break;
    }
    case 'L':
    case 'M':
      for (std::size_t i = 0; i < count; ++i) {
        const std::size_t gone = what == 'L' ? bottom_ : row_, added = what == 'L' ? row_ : bottom_;
        rows_.erase(rows_.begin() + static_cast<std::ptrdiff_t>(gone));
        rows_.insert(rows_.begin() + static_cast<std::ptrdiff_t>(added), Row(columns_));
      }
      break;
    case 'r':
      top_ = number(0, 1) - 1U;
      bottom_ = std::min(last, std::size_t(number(1, static_cast<unsigned>(rows_.size()))) - 1);
      row_ = column_ = 0;
      break;
    case 'b':
      for (std::size_t i = 0; i < count; ++i) put(last_);
      break;
    case 'm':
      if (numbers.empty()) reverse_ = false;
      for (const unsigned one : numbers) reverse_ = one == 7 || (reverse_ && one != 0 && one != 27);
      break;
    default: break;
  }
}

void Screen::put(const std::string& character) {
  last_ = character;
  if (column_ >= columns_) {
    column_ = 0;
    down();
  }
  rows_[row_][column_++] = {character, reverse_};
}

void Screen::down() {
  if (row_ != bottom_) {
    row_ = std::min(rows_.size() - 1, row_ + 1);
    return;
  }
  rows_.erase(rows_.begin() + static_cast<std::ptrdiff_t>(top_));
  rows_.insert(rows_.begin() + static_cast<std::ptrdiff_t>(bottom_), Row(columns_));
}

void Screen::erase(std::size_t row, std::size_t from, std::size_t to) {
  for (std::size_t i = from; i < std::min(to, columns_); ++i) rows_[row][i] = {};
}

std::string Screen::row(std::size_t number) const {
  std::string text;
  for (const Cell& cell : rows_.at(number)) text += cell.character;
  return text.substr(0, text.find_last_not_of(' ') + 1);
}

std::string Screen::text() const {
  std::string result;
  for (std::size_t i = 0; i < rows_.size(); ++i) result += row(i) + "\n";
  return result;
}

std::vector<std::string> Screen::reversed() const {
  std::vector<std::string> result;
  for (std::size_t i = 0; i < rows_.size(); ++i) {
    if (std::ranges::any_of(rows_[i], &Cell::reversed)) result.push_back(row(i));
  }
  return result;
}

}  // namespace deeptrace::tests
