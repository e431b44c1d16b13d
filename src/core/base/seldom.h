// A part that few objects of a kind have: where it is not there it takes the room of a pointer, and reads as an empty
// one.
//
//   Seldom<Remarks> remarks;
//   remarks->unit                  // empty
//   remarks.change().unit = "ms";  // from now on it is there
#pragma once

#include <memory>

namespace deeptrace {

template <class T>
class Seldom {
 public:
  Seldom() = default;
  Seldom(Seldom&&) noexcept = default;
  Seldom& operator=(Seldom&&) noexcept = default;
  Seldom(const Seldom& other) : there_(other.there_ ? std::make_unique<T>(*other.there_) : nullptr) {}
  Seldom& operator=(const Seldom& other) {
    if (this != &other) there_ = other.there_ ? std::make_unique<T>(*other.there_) : nullptr;
    return *this;
  }
  ~Seldom() = default;

  const T* operator->() const {
    static const T kEmpty{};
    return there_ ? there_.get() : &kEmpty;
  }
  T& change() {
    if (!there_) there_ = std::make_unique<T>();
    return *there_;
  }

 private:
  std::unique_ptr<T> there_;
};

}  // namespace deeptrace
