// All functions of a file, by address.
//
// Of most files the list is made when the file is opened. For files with very many functions what it takes to make them
// is kept in the user's cache folder (function_index.h); they are then made when they are looked at, a thousand at a
// time. May be read by several threads at once.
#pragma once

#include <algorithm>
#include <atomic>
#include <compare>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <iterator>
#include <memory>
#include <vector>

#include "program/function.h"

namespace deeptrace::program {

class FunctionList {
 public:
  using Maker = std::function<Function(std::size_t)>;
  using Counter = std::function<std::size_t(std::uint64_t)>;

  FunctionList() = default;
  /// By ascending address.
  explicit FunctionList(std::vector<Function> functions) : made_(std::move(functions)), size_(made_.size()) {
    starts_.reserve(size_);
    for (const Function& function : made_) starts_.push_back(function.address);
  }
  /// Functions that `maker` makes by their number; `count` says how many begin at or before an address.
  FunctionList(std::size_t size, Maker maker, Counter count)
      : size_(size),
        maker_(std::move(maker)),
        count_(std::move(count)),
        pieces_(new std::atomic<Piece*>[(size + kPiece - 1) / kPiece]()) {}
  FunctionList(FunctionList&& other) noexcept
      : made_(std::move(other.made_)),
        starts_(std::move(other.starts_)),
        size_(std::exchange(other.size_, 0)),
        maker_(std::move(other.maker_)),
        count_(std::move(other.count_)),
        pieces_(std::move(other.pieces_)) {}
  FunctionList& operator=(FunctionList&& other) noexcept {
    std::swap(made_, other.made_);
    std::swap(starts_, other.starts_);
    std::swap(size_, other.size_);
    std::swap(maker_, other.maker_);
    std::swap(count_, other.count_);
    std::swap(pieces_, other.pieces_);
    return *this;
  }
  ~FunctionList() {
    for (std::size_t i = 0; pieces_ != nullptr && i < (size_ + kPiece - 1) / kPiece; ++i) delete pieces_[i].load();
  }

  [[nodiscard]] std::size_t size() const { return size_; }
  [[nodiscard]] bool empty() const { return size_ == 0; }
  /// Holds as long as the list.
  [[nodiscard]] const Function& operator[](std::size_t index) const {
    return pieces_ == nullptr ? made_[index] : piece(index / kPiece)[index % kPiece];
  }

  class Iterator {
   public:
    using iterator_category = std::random_access_iterator_tag;
    using value_type = Function;
    using difference_type = std::ptrdiff_t;
    using pointer = const Function*;
    using reference = const Function&;
    Iterator() = default;
    Iterator(const FunctionList* list, std::size_t index) : list_(list), index_(index) {}
    reference operator*() const { return (*list_)[index_]; }
    pointer operator->() const { return &(*list_)[index_]; }
    reference operator[](difference_type n) const { return (*list_)[index_ + static_cast<std::size_t>(n)]; }
    Iterator& operator++() { return *this += 1; }
    Iterator& operator--() { return *this -= 1; }
    Iterator operator++(int) { return {list_, index_++}; }
    Iterator operator--(int) { return {list_, index_--}; }
    Iterator& operator+=(difference_type n) {
      index_ += static_cast<std::size_t>(n);
      return *this;
    }
    Iterator& operator-=(difference_type n) { return *this += -n; }
    friend Iterator operator+(Iterator a, difference_type n) { return a += n; }
    friend Iterator operator+(difference_type n, Iterator a) { return a += n; }
    friend Iterator operator-(Iterator a, difference_type n) { return a -= n; }
    friend difference_type operator-(Iterator a, Iterator b) {
      return static_cast<difference_type>(a.index_ - b.index_);
    }
    friend bool operator==(Iterator a, Iterator b) { return a.index_ == b.index_; }
    friend auto operator<=>(Iterator a, Iterator b) { return a.index_ <=> b.index_; }

   private:
    const FunctionList* list_ = nullptr;
    std::size_t index_ = 0;
  };
  [[nodiscard]] Iterator begin() const { return {this, 0}; }
  [[nodiscard]] Iterator end() const { return {this, size_}; }
  /// The first function that begins after an address.
  [[nodiscard]] Iterator after(std::uint64_t address) const {
    if (count_) return {this, count_(address)};
    return {this, static_cast<std::size_t>(std::ranges::upper_bound(starts_, address) - starts_.begin())};
  }

 private:
  static constexpr std::size_t kPiece = 1024;
  using Piece = std::vector<Function>;

  [[nodiscard]] const Piece& piece(std::size_t number) const {
    std::atomic<Piece*>& place = pieces_[number];
    Piece* known = place.load(std::memory_order_acquire);
    if (known != nullptr) return *known;
    auto made = std::make_unique<Piece>();
    made->reserve(kPiece);
    for (std::size_t i = number * kPiece; i < std::min(size_, (number + 1) * kPiece); ++i) made->push_back(maker_(i));
    if (place.compare_exchange_strong(known, made.get())) return *made.release();
    return *known;
  }

  std::vector<Function> made_;
  std::vector<std::uint64_t> starts_;  ///< of `made_`: a search looks at nothing else
  std::size_t size_ = 0;
  Maker maker_;
  Counter count_;
  std::unique_ptr<std::atomic<Piece*>[]> pieces_;
};

}  // namespace deeptrace::program
