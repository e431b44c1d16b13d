// The instructions of a piece of code, one after the other:
//
//   for (const auto& [at, instruction] : isa::instructions_of(code, mode)) …
//
// A byte at which no instruction starts is passed over by itself, with an instruction that is none.
#pragma once

#include <cstddef>
#include <iterator>
#include <span>

#include "isa/instruction.h"

namespace deeptrace::isa {

struct Placed {
  std::size_t at = 0;  ///< bytes from the start of the code
  Instruction instruction;

  /// Where the next one starts.
  [[nodiscard]] std::size_t next() const { return at + (instruction ? instruction.length : 1U); }
};

class Walk {
 public:
  Walk(std::span<const std::uint8_t> code, Mode mode) : code_(code), mode_(mode) {}

  class Iterator {
   public:
    Iterator(std::span<const std::uint8_t> code, Mode mode) : code_(code), mode_(mode) { decode_here(); }
    const Placed& operator*() const { return here_; }
    Iterator& operator++() {
      here_.at = here_.next();
      decode_here();
      return *this;
    }
    bool operator==(std::default_sentinel_t /*end*/) const { return here_.at >= code_.size(); }

   private:
    void decode_here() {
      if (here_.at < code_.size()) here_.instruction = decode(code_.subspan(here_.at), mode_);
    }

    std::span<const std::uint8_t> code_;
    Mode mode_;
    Placed here_;
  };

  [[nodiscard]] Iterator begin() const { return {code_, mode_}; }
  [[nodiscard]] static std::default_sentinel_t end() { return {}; }

 private:
  std::span<const std::uint8_t> code_;
  Mode mode_;
};

inline Walk instructions_of(std::span<const std::uint8_t> code, Mode mode) { return {code, mode}; }

}  // namespace deeptrace::isa
