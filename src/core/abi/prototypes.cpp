#include "abi/prototypes.h"

#include <algorithm>
#include <cctype>

namespace deeptrace::abi {
namespace {

using Number = Prototype::Number;
using Use = Prototype::Use;
using Parameter = Prototype::Parameter;

#include "prototypes.inc"

/// A conversion without its flags, width and precision.
struct Conversion {
  std::string_view length;  ///< "", "hh", "h", "l", "ll", "j", "z", "t", "L"
  char letter = 0;
  unsigned stars = 0;    ///< widths and precisions that are arguments themselves
  bool skipped = false;  ///< scanf's *: read and not stored
};

class FormatReader {
 public:
  FormatReader(std::string_view text, bool scan) : text_(text), scan_(scan) {}

  /// False at the end, and at something that no standard knows.
  bool next(Conversion& found) {
    while (at_ < text_.size()) {
      if (text_[at_++] != '%') continue;
      if (peek() == '%') {
        ++at_;
        continue;
      }
      found = {};
      if (scan_ && take('*')) found.skipped = true;
      while (std::string_view("-+ #0'I").find(peek()) != std::string_view::npos && peek() != 0) ++at_;
      width(found);
      if (take('.')) width(found);
      const std::size_t start = at_;
      // scanf's m makes room for text by itself; printf's %m is a conversion without an argument.
      const std::string_view lengths = scan_ ? "hlqjzZtLm" : "hlqjzZtL";
      while (lengths.find(peek()) != std::string_view::npos && peek() != 0) ++at_;
      found.length = text_.substr(start, at_ - start);
      found.letter = peek();
      if (found.letter == 0 || peek() == '$') return false;
      ++at_;
      if (found.letter == '[') set();
      return true;
    }
    return false;
  }

 private:
  [[nodiscard]] char peek() const { return at_ < text_.size() ? text_[at_] : '\0'; }
  bool take(char c) {
    const bool is = peek() == c;
    at_ += is ? 1 : 0;
    return is;
  }
  void width(Conversion& found) {
    if (take('*')) ++found.stars;
    while (std::isdigit(static_cast<unsigned char>(peek())) != 0) ++at_;
  }
  /// [^]abc]
  void set() {
    (void)take('^');
    (void)take(']');
    while (peek() != 0 && peek() != ']') ++at_;
    (void)take(']');
  }

  std::string_view text_;
  bool scan_;
  std::size_t at_ = 0;
};

struct Length {
  std::string_view letters;
  std::uint8_t size;
  std::string_view with_sign, without;
};
constexpr Length kLengths[] = {
    {"hh", 4, "signed char", "unsigned char"},
    {"h", 4, "short", "unsigned short"},
    {"", 4, "int", "unsigned int"},
    {"l", 0, "long", "unsigned long"},
    {"ll", 8, "long long", "unsigned long long"},
    {"q", 8, "long long", "unsigned long long"},
    {"j", 8, "intmax_t", "uintmax_t"},
    {"z", 0, "ssize_t", "size_t"},
    {"Z", 0, "ssize_t", "size_t"},
    {"t", 0, "ptrdiff_t", "ptrdiff_t"},
    {"L", 8, "long long", "unsigned long long"},
};

const Length& length_of(std::string_view letters) {
  const auto found = std::ranges::find(kLengths, letters, &Length::letters);
  return found != std::end(kLengths) ? *found : kLengths[2];
}

FormatArgument printed(const Conversion& one) {
  const bool wide = one.length == "l";
  switch (one.letter) {
    case 'd':
    case 'i': return {Number::number, Use::none, length_of(one.length).size, true, length_of(one.length).with_sign};
    case 'c':
    case 'C': return {Number::number, Use::none, 4, true, "int"};
    case 's':
    case 'S':
      if (wide || one.letter == 'S') return {Number::pointer, Use::reads, 0, false, "const wchar_t *"};
      return {Number::pointer, Use::text, 0, false, "const char *"};
    case 'p': return {Number::pointer, Use::none, 0, false, "void *"};
    case 'n': return {Number::pointer, Use::writes, 0, false, "int *"};
    case 'a':
    case 'A':
    case 'e':
    case 'E':
    case 'f':
    case 'F':
    case 'g':
    case 'G':
      if (one.length == "L") return {Number::real, Use::none, 16, true, "long double"};
      return {Number::real, Use::none, 8, true, "double"};
    default: return {Number::number, Use::none, length_of(one.length).size, false, length_of(one.length).without};
  }
}

FormatArgument scanned(const Conversion& one) {
  FormatArgument result{Number::pointer, Use::writes, 0, false, "int *"};
  switch (one.letter) {
    case 's':
    case 'c':
    case '[': result.type = one.length == "l" ? "wchar_t *" : "char *"; break;
    case 'p': result.type = "void **"; break;
    case 'a':
    case 'e':
    case 'f':
    case 'g':
    case 'E':
    case 'G': result.type = one.length == "L" ? "long double *" : one.length == "l" ? "double *" : "float *"; break;
    case 'd':
    case 'i':
    case 'n': break;
    default: result.type = "unsigned int *"; break;
  }
  if (result.type == "int *" && one.length == "l") result.type = "long *";
  if (result.type == "int *" && one.length == "ll") result.type = "long long *";
  if (result.type == "int *" && one.length == "h") result.type = "short *";
  if (result.type == "unsigned int *" && one.length == "l") result.type = "unsigned long *";
  return result;
}

}  // namespace

const Prototype* prototype(std::string_view name) {
  const auto found = std::ranges::lower_bound(kPrototypes, name, {}, &Prototype::name);
  return found != std::end(kPrototypes) && found->name == name ? &*found : nullptr;
}

std::string_view source_name(std::string_view symbol) {
  for (const std::string_view before : {"__isoc99_", "__isoc23_"}) {
    if (symbol.starts_with(before)) return symbol.substr(before.size());
  }
  constexpr std::string_view kBefore = "__", kAfter = "_chk";
  if (!symbol.starts_with(kBefore) || !symbol.ends_with(kAfter) || prototype(symbol) == nullptr) return symbol;
  return symbol.substr(kBefore.size(), symbol.size() - kBefore.size() - kAfter.size());
}

std::span<const Prototype> prototypes() { return kPrototypes; }

std::vector<FormatArgument> arguments_of_format(std::string_view format, bool scan) {
  std::vector<FormatArgument> result;
  FormatReader reader(format, scan);
  for (Conversion one; reader.next(one);) {
    if (scan) {
      if (!one.skipped) result.push_back(scanned(one));
      continue;
    }
    for (unsigned i = 0; i < one.stars; ++i) result.push_back({Number::number, Use::none, 4, true, "int"});
    if (one.letter != 'm') result.push_back(printed(one));
  }
  return result;
}

}  // namespace deeptrace::abi
