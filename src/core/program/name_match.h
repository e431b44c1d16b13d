// Short names of C++ functions: the last parts of a name, a class, a pattern; without template arguments and signature.
#pragma once

#include <optional>
#include <set>
#include <string>
#include <string_view>

namespace deeptrace::program {

/// A function's readable name without what it returns, its signature and its template arguments:
/// "tide::Box::get" for "int tide::Box<int>::get<long>(long) const". Lambdas and unnamed namespaces keep their signs.
std::string bare_name(std::string_view readable);

/// What somebody wrote, compared with the names of functions.
class NameMatch {
 public:
  explicit NameMatch(std::string_view wanted);

  enum class How : unsigned char {
    tail,     ///< the last parts of the name: `PushText`, `Printer::PushText`; with template arguments or a signature
              ///< where they were written
    member,   ///< a function of the class that was named
    pattern,  ///< `tide::*`: an asterisk stands for anything
  };
  /// `readable` is a name in full. Nothing where it does not fit; a full name fits as its tail does.
  [[nodiscard]] std::optional<How> fits(std::string_view readable) const;

  /// A piece of plain text that the linker's name of every function that fits holds; empty where there is none.
  [[nodiscard]] const std::string& word() const { return word_; }
  [[nodiscard]] bool is_pattern() const { return pattern_; }

 private:
  std::string wanted_, word_;
  bool pattern_ = false, bare_ = true;
};

}  // namespace deeptrace::program
