#include "look/exception.h"

#include <algorithm>
#include <array>
#include <cstring>

#include "look/scope.h"
#include "program/lazy_name.h"

namespace deeptrace::look {
namespace {

/// What memory holds, as far as it can be read.
class Words {
 public:
  explicit Words(const state::StateView& view) : view_(view), word_(arch::machine_of(view.mode()).word) {}

  [[nodiscard]] unsigned size() const { return word_; }
  [[nodiscard]] std::uint64_t at(std::uint64_t address) const {
    std::uint8_t bytes[8] = {};
    std::uint64_t value = 0;
    if (view_.read_memory(address, {bytes, word_}) == word_) std::memcpy(&value, bytes, 8);
    return value;
  }
  [[nodiscard]] std::string string_at(std::uint64_t address) const {
    std::string text(512, '\0');
    text.resize(view_.read_memory(address, {reinterpret_cast<std::uint8_t*>(text.data()), text.size()}));
    return text.c_str();
  }

 private:
  const state::StateView& view_;
  unsigned word_;
};

/// The type of an exception, and of the library's own kinds of errors the message, which lies after the table of
/// virtual functions (libstdc++: __cow_string). Nothing is run for it.
std::string exception_words(const Words& words, std::uint64_t type_info, std::uint64_t object) {
  // std::type_info: the table of virtual functions, then the name; a star before it marks names of one file alone.
  std::string name = words.string_at(words.at(type_info + words.size()));
  if (name.starts_with('*')) name.erase(0, 1);
  if (name.empty()) return "exception";
  const std::string type = program::demangled("_ZTS" + name);
  constexpr std::string_view kBefore = "typeinfo name for ";
  const std::string shown = type.starts_with(kBefore) ? type.substr(kBefore.size()) : name;
  constexpr std::array<std::string_view, 9> kWithMessage = {
      "std::runtime_error", "std::range_error",      "std::overflow_error", "std::underflow_error", "std::logic_error",
      "std::domain_error",  "std::invalid_argument", "std::length_error",   "std::out_of_range"};
  if (std::ranges::find(kWithMessage, shown) == kWithMessage.end()) return "exception " + shown;
  return "exception " + shown + " \"" + words.string_at(words.at(object + words.size())) + "\"";
}

/// What a handler is about to get, from the header of the exception (libstdc++, unwind-cxx.h, in 64-bit code: the type
/// 80 bytes before what the unwinder knows, the object's address 8 bytes before it). One that was thrown again by
/// std::rethrow_exception has a header of its own, which leads to the first one, 112 bytes before the object.
std::string caught_words(const Words& words, std::uint64_t header) {
  constexpr std::uint64_t kGnu = 0x474e5543432b2b;  // "GNUCC++"
  const std::uint64_t kind = words.at(header);
  if (words.size() != 8 || kind >> 8 != kGnu) return {};
  const std::uint64_t first = words.at(header - 80);
  return exception_words(words, (kind & 0xff) == 0 ? first : words.at(first - 112), words.at(header - 8));
}

}  // namespace

std::string exception_at(Modules& modules, const state::StateView& view) {
  const program::Function* function = modules.function_at(view.registers()[state::Reg::rip]);
  const std::string_view symbol = function != nullptr ? function->symbol() : std::string_view();
  Scope scope(modules, view);
  const auto argument = [&](std::uint64_t number) -> std::uint64_t {
    Result<inspect::Datum> datum = scope.argument(number);
    const Result<std::uint64_t> value = datum ? inspect::number_of(*datum, scope) : Error{Fault::usage, ""};
    return value ? *value : 0;
  };
  const Words words(view);
  if (symbol == "__cxa_throw") return exception_words(words, argument(2), argument(1));
  if (symbol == "__cxa_begin_catch") return caught_words(words, argument(1));
  return "exception that was caught before";
}

}  // namespace deeptrace::look
