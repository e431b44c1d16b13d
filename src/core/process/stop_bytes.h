// Stop bytes: the one-byte trap instruction written over the first byte of an instruction, with the program's own
// byte remembered. Everything that reads memory puts the own bytes back into what it shows.
#pragma once

#include <cstdint>
#include <map>
#include <span>

#include "arch/machine.h"

namespace deeptrace::process {

class StopBytes {
 public:
  static constexpr std::uint8_t kTrap = arch::kStopByte;

  [[nodiscard]] bool contains(std::uint64_t address) const { return own_.contains(address); }
  void add(std::uint64_t address, std::uint8_t own_byte) { own_.emplace(address, own_byte); }
  void remove(std::uint64_t address) { own_.erase(address); }
  void clear() { own_.clear(); }
  [[nodiscard]] bool empty() const { return own_.empty(); }
  /// The program has written another byte there.
  void set_own_byte(std::uint64_t address, std::uint8_t own_byte) { own_.at(address) = own_byte; }
  [[nodiscard]] std::uint8_t own_byte(std::uint64_t address) const { return own_.at(address); }
  [[nodiscard]] const std::map<std::uint64_t, std::uint8_t>& all() const { return own_; }

  /// True when one lies in a range.
  [[nodiscard]] bool overlap(std::uint64_t address, std::uint64_t size) const {
    const auto it = own_.lower_bound(address);
    return it != own_.end() && it->first - address < size;
  }

  /// Puts the program's own bytes into a copy of memory that starts at `address`. Where no trap stands (any more), what
  /// is there is the program's own.
  void hide(std::uint64_t address, std::span<std::uint8_t> copy) const {
    for (auto it = own_.lower_bound(address); it != own_.end() && it->first - address < copy.size(); ++it) {
      std::uint8_t& byte = copy[it->first - address];
      if (byte == kTrap) byte = it->second;
    }
  }

 private:
  std::map<std::uint64_t, std::uint8_t> own_;  ///< by address
};

}  // namespace deeptrace::process
