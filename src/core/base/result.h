// A value or the reason why there is none. Errors are values at the edges of every module; exceptions are
// not used for what a user's input can bring about.
#pragma once

#include <string>
#include <utility>
#include <variant>

namespace deeptrace {

/// What went wrong, in terms of who has to act. The numbers are the program's exit statuses.
enum class Fault : int {
  usage = 2,    ///< the command line, a location or a plan is wrong
  input = 3,    ///< an input file cannot be used
  program = 4,  ///< the program could not be run or traced, or ended before the place asked for
};

/// One error: its class, and one sentence without an ending full stop that says what was wrong, where, and,
/// where there is something to do, what to do. The sentence holds raw names; whoever prints it escapes them.
struct Error {
  Fault fault = Fault::input;
  std::string message;
};

/// Either a T or an Error.
template <typename T>
class [[nodiscard]] Result {
 public:
  Result(T value) : state_(std::in_place_index<0>, std::move(value)) {}      // NOLINT: implicit on purpose
  Result(Error error) : state_(std::in_place_index<1>, std::move(error)) {}  // NOLINT: implicit on purpose

  explicit operator bool() const { return state_.index() == 0; }
  T& operator*() & { return std::get<0>(state_); }
  const T& operator*() const& { return std::get<0>(state_); }
  T&& operator*() && { return std::get<0>(std::move(state_)); }
  T* operator->() { return &std::get<0>(state_); }
  const T* operator->() const { return &std::get<0>(state_); }
  [[nodiscard]] const Error& error() const { return std::get<1>(state_); }

 private:
  std::variant<T, Error> state_;
};

/// Success without a value.
struct Done {};

}  // namespace deeptrace
