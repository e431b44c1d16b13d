// A function's name in the words of its language, worked out from the linker's name when it is first asked for: large
// C++ files have hundreds of thousands, and most are never shown. May be asked by several threads at once.
#pragma once

#include <atomic>
#include <memory>
#include <ostream>
#include <string>
#include <string_view>

namespace deeptrace::program {

/// C++ names made readable; other names as they are.
std::string demangled(std::string_view symbol);

class LazyName {
 public:
  LazyName() = default;
  LazyName(std::string ready) : text_(new std::string(std::move(ready))) {}  // NOLINT: implicit on purpose
  /// The linker's name, which must end with a zero byte and stay where it is.
  static LazyName of_symbol(const char* symbol) {
    LazyName name;
    name.symbol_ = symbol;
    return name;
  }
  /// The same, and it is shown as it is.
  static LazyName raw(const char* symbol) {
    LazyName name = of_symbol(symbol);
    name.text_ = new std::string(symbol);
    return name;
  }
  LazyName(const LazyName& other) : symbol_(other.symbol_) {
    if (const std::string* text = other.text_.load()) text_ = new std::string(*text);
  }
  LazyName(LazyName&& other) noexcept : symbol_(other.symbol_), text_(other.text_.exchange(nullptr)) {}
  LazyName& operator=(LazyName other) noexcept {
    symbol_ = other.symbol_;
    delete text_.exchange(other.text_.exchange(nullptr));
    return *this;
  }
  ~LazyName() { delete text_.load(); }

  /// The linker's name; empty where there is none.
  [[nodiscard]] std::string_view symbol() const { return symbol_; }
  [[nodiscard]] const std::string& str() const {
    const std::string* text = text_.load(std::memory_order_acquire);
    if (text != nullptr) return *text;
    auto made = std::make_unique<std::string>(demangled(symbol_));
    const std::string* expected = nullptr;
    return text_.compare_exchange_strong(expected, made.get()) ? *made.release() : *expected;
  }
  operator const std::string&() const { return str(); }  // NOLINT: implicit on purpose
  operator std::string_view() const { return str(); }    // NOLINT: implicit on purpose
  friend bool operator==(const LazyName& a, std::string_view b) { return a.str() == b; }
  friend std::ostream& operator<<(std::ostream& out, const LazyName& name) { return out << name.str(); }

 private:
  const char* symbol_ = "";
  mutable std::atomic<const std::string*> text_{nullptr};
};

}  // namespace deeptrace::program
